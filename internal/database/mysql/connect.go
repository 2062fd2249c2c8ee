// Package mysql saves and puts back MariaDB and MySQL databases over the wire
// protocol.
package mysql

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	driver "github.com/go-sql-driver/mysql"

	"revlet/internal/database"
	"revlet/internal/platform/lazy"
	"revlet/internal/platform/process"
	"revlet/internal/platform/reason"
)

// Config says how to reach a database.
type Config struct {
	Host     string
	Port     int
	Socket   string
	User     string
	Password string
	Name     string
	// Prefix begins the site's own tables; OwnTables, with another prefix, give
	// away a neighbour: another site in the same database.
	Prefix    string
	OwnTables []string
	// TLS is how a server elsewhere is spoken to.
	TLS database.TLS
	// OpenTime is how long a server may take until it has told what it is; 0 means a
	// minute. One that hangs takes connections and says nothing.
	OpenTime time.Duration
	// As is the account of this machine that a server at a socket is to take us for; nil is the one that runs this.
	As *int
	// Dial connects to the server, network and address as in net.Dial; nil is from this
	// machine.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// most is how much a server may say at a time, in bytes; 0 is database.MostAnswer.
	most int64
	// only limits what is read to tables whose names begin so.
	only string
}

func (c Config) where() string {
	if c.Socket != "" {
		return c.Socket
	}
	return net.JoinHostPort(c.Host, strconv.Itoa(c.Port))
}

// Database is an open database. It is a Source and a Target.
type Database struct {
	c    Config
	pool *sql.DB
	info database.Info

	// altered is what was not loaded as it was saved, in words; mu guards it.
	mu      sync.Mutex
	altered []string
}

// Errors of the server that are told apart here, from the MariaDB error list.
const (
	errDBAccess      = 1044
	errAccess        = 1045
	errAccessNone    = 1698 // the same, where no password counts
	errTableAccess   = 1142
	errSpecific      = 1227
	errColumnAccess  = 1143
	errRoutineAccess = 1370
	errBinaryLog     = 1419
	errPacket        = 1153
	errNoDatabase    = 1049
	errNoTable       = 1146
	errNull          = 1048
	errSyntax        = 1064
	errGenerated     = 1906
	errTruncated     = 1265
	errNoSuchRoutine = 1305
	errInvalidView   = 1356
	errNoColumn      = 1054
	errCannotDrop    = 1091
	errAltered       = 1412
	errLockWait      = 1205
	errNoCharset     = 1115
	errNoCollation   = 1273
)

func isCode(err error, codes ...uint16) bool {
	var e *driver.MySQLError
	return errors.As(err, &e) && slices.Contains(codes, e.Number)
}

// Open connects and looks at the database.
func Open(ctx context.Context, c Config) (*Database, error) {
	pool, err := c.pool()
	if err != nil {
		return nil, err
	}
	db := &Database{c: c, pool: pool}
	if err := db.look(ctx); err != nil {
		_ = db.pool.Close()
		return nil, c.letIn(ctx, c.explain(err))
	}
	return db, nil
}

// hostPattern is what stands for hosts in the names of accounts.
var hostPattern = lazy.Regexp(`^[A-Za-z0-9.:%_/-]{1,255}$`)

// letIn adds to an error about something that the server lacks that the account is none of it, where that is so.
func (c Config) letIn(ctx context.Context, err error) error {
	if err == nil || !errors.Is(err, database.ErrNotSetUp) || isCode(err, errAccess, errAccessNone) {
		return err // one refusal is enough: servers count them
	}
	ctx, cancel := context.WithTimeout(ctx, cmp.Or(c.OpenTime, time.Minute))
	defer cancel()
	user, host, in := c.account(ctx)
	if in != nil {
		return err
	}
	let := &database.LetInError{Err: err}
	if user == c.User && hostPattern().MatchString(host) {
		let.Account = text(user) + "@" + text(host)
	}
	return let
}

// pool is for connections, and makes none yet.
func (c Config) pool() (_ *sql.DB, err error) {
	dc := driver.NewConfig()
	dc.User, dc.Passwd, dc.DBName = c.User, c.Password, c.Name
	dc.Net, dc.Addr = "tcp", c.where()
	if c.Socket != "" {
		dc.Net = "unix"
	} else if dc.TLS, err = c.TLS.Config(c.Host); err != nil {
		return nil, fmt.Errorf("database %s: %w", c.Name, err)
	}
	dc.Timeout = 15 * time.Second
	dc.MaxAllowedPacket = 0 // as large as the server takes
	dc.Params = map[string]string{"sql_mode": "'" + dumpMode + "'", "time_zone": "'+00:00'"}
	dc.Collation = "utf8mb4_general_ci"
	dc.Logger = &driver.NopLogger{}
	if _, err := driver.NewConnector(dc); err != nil {
		return nil, fmt.Errorf("database %s: %w", c.Name, err)
	}
	return sql.OpenDB(guardedConnector{c, dc}), nil
}

func (db *Database) look(ctx context.Context) error {
	most := cmp.Or(db.c.OpenTime, time.Minute)
	ctx, cancel := context.WithTimeoutCause(ctx, most, errSilent)
	defer cancel()
	err := db.lookNow(ctx)
	if err != nil && errors.Is(context.Cause(ctx), errSilent) {
		return fmt.Errorf("%w for %s; does it hang?", errSilent, most)
	}
	return err
}

// errSilent is why a server is given up that takes connections and says nothing.
var errSilent = errors.New("the server takes connections and says nothing")

func (db *Database) lookNow(ctx context.Context) error {
	db.info = database.Info{Engine: "mysql", Name: db.c.Name}
	row := db.pool.QueryRowContext(ctx, `SELECT VERSION(), DEFAULT_CHARACTER_SET_NAME, DEFAULT_COLLATION_NAME,
		(SELECT CAST(COALESCE(SUM(DATA_LENGTH), 0) AS SIGNED) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE())
		FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = DATABASE()`)
	return row.Scan(&db.info.Version, &db.info.Charset, &db.info.Collation, &db.info.Bytes)
}

// explain words a failure to connect with the next step.
func (c Config) explain(err error) error {
	if why := database.ExplainTLS(err, errors.Is(err, driver.ErrNoTLS), c.where()); why != nil {
		return fmt.Errorf("database %s: %w", c.Name, why)
	}
	var tunnel *database.TunnelError
	switch {
	case errors.As(err, &tunnel):
		return fmt.Errorf("database %s at %s: %w", c.Name, c.where(), tunnel)
	case errors.Is(err, database.ErrProofOnly):
		return fmt.Errorf("database %s: %w", c.Name, database.WantsPassword(c.where()))
	case reason.Is(err, reason.ServerOfOthers):
		return fmt.Errorf("database %s: %w", c.Name, err)
	}
	hint := ""
	switch {
	case isCode(err, errAccess, errAccessNone):
		hint = fmt.Sprintf("the server refuses user %q with the password in the site's settings; try: %s", c.User, process.ShellQuote("mariadb", "-h", c.Host, "-P", strconv.Itoa(c.Port), "-u", c.User, "-p", c.Name))
		if c.As != nil && c.Socket != "" {
			hint = fmt.Sprintf("the server refuses user %q to the account #%d, which the site's settings belong to: root's own way in is not lent to them", c.User, *c.As)
		}
	case isCode(err, errDBAccess):
		hint = fmt.Sprintf("user %q may not use database %q", c.User, c.Name)
	case isCode(err, errNoDatabase) || errors.Is(err, sql.ErrNoRows):
		hint = fmt.Sprintf("the server has no database %q", c.Name)
	default:
		var dns *net.DNSError
		var op *net.OpError
		switch {
		case errors.As(err, &dns):
			hint = fmt.Sprintf("the host name %q is not known", c.Host)
		case errors.As(err, &op):
			hint = "nothing answers there; is the database server running?"
		}
	}
	if isCode(err, errAccess, errAccessNone, errDBAccess, errNoDatabase) || errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("database %s at %s: %s (%w, %w)", c.Name, c.where(), hint, database.ErrNotSetUp, err)
	}
	if hint != "" {
		return fmt.Errorf("database %s at %s: %s (%w)", c.Name, c.where(), hint, err)
	}
	return fmt.Errorf("database %s at %s: %w", c.Name, c.where(), err)
}

// Info implements database.Source.
func (db *Database) Info() database.Info { return db.info }

// Close implements database.Source and database.Target.
func (db *Database) Close() error { return db.pool.Close() }

// Lookup implements database.Source.
func (db *Database) Lookup(ctx context.Context, table, column, where, is string) (string, error) {
	var v sql.NullString
	q := fmt.Sprintf("SELECT %s FROM %s WHERE %s = ? LIMIT 1", quote(column), quote(table), quote(where))
	err := db.pool.QueryRowContext(ctx, q, is).Scan(&v)
	return database.ValueOf(v, err)
}

// Edit implements database.Target. Tables of an engine without transactions keep what was
// changed before an edit that fails.
func (db *Database) Edit(ctx context.Context, edits ...database.Edit) error {
	conn, err := db.pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer func() {
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), "SET SESSION sql_mode = '"+dumpMode+"'")
		_ = conn.Close()
	}()
	if _, err := conn.ExecContext(ctx, "SET SESSION sql_mode = '"+dumpMode+",STRICT_ALL_TABLES'"); err != nil {
		return err
	}
	plain := func(s string) string { return s }
	return misfit(database.EditAll(ctx, conn, database.Dialect{Quote: quote, Mark: func(int) string { return "?" }, Text: plain}, edits))
}

// misfit gives an error about a value that does not fit its column its reason.
func misfit(err error) error {
	if isCode(err, misfits...) {
		return reason.Because(reason.DoesNotFit, nil, err)
	}
	return err
}

// Identity tells which database this is, whatever it was reached by: its server's data
// folder, host and port, when that was started, and its name there.
func (db *Database) Identity(ctx context.Context) (id string, err error) {
	err = db.pool.QueryRowContext(ctx, `SELECT CONCAT_WS('|', @@hostname, @@port, @@datadir, DATABASE(),
		(SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME = 'SERVER_START_TIME'))`).Scan(&id)
	if err != nil { // MySQL keeps that table elsewhere
		err = db.pool.QueryRowContext(ctx, "SELECT CONCAT_WS('|', @@hostname, @@port, @@datadir, @@server_uuid, DATABASE())").Scan(&id)
	}
	return id, err
}

// quote writes a name as MySQL quotes it.
func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// in names a table in a database.
func in(db, table string) string { return quote(db) + "." + quote(table) }

// text writes a string literal for a session without NO_BACKSLASH_ESCAPES.
func text(s string) string { return string(appendText(nil, []byte(s))) }

// session prepares a connection: binary literals both ways, so that no
// character set stands between the table and the text.
func session(ctx context.Context, conn *sql.Conn, names string) error {
	for _, q := range []string{"SET NAMES " + names, "SET SESSION foreign_key_checks = 0, unique_checks = 0",
		"SET SESSION wait_timeout = 28800, net_write_timeout = 600, net_read_timeout = 600, lock_wait_timeout = 600"} {
		if _, err := conn.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// queryStrings collects the first column of a query.
func queryStrings(ctx context.Context, conn *sql.Conn, q string) ([]string, error) {
	rows, err := conn.QueryContext(ctx, q)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []string
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, rows.Err()
}
