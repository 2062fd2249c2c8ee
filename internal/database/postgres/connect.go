// Package postgres saves and puts back PostgreSQL databases: the schema that
// the site's account works in, staged in another schema and exchanged in one
// transaction.
package postgres

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"revlet/internal/database"
	"revlet/internal/platform/loopback"
	"revlet/internal/platform/memory"
	"revlet/internal/platform/reason"
)

// Config says how to reach a database.
type Config struct {
	Host     string
	Port     int
	Socket   string // the folder of the server's socket
	User     string
	Password string
	Name     string
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
}

// Database is an open database. It is a Source and a Target.
type Database struct {
	c      Config
	conn   *pgx.Conn
	info   database.Info
	schema string
	// path is where the site's account looks for names, as the database has it.
	path string
}

func (c Config) where() string {
	if c.Socket != "" {
		return c.Socket
	}
	return net.JoinHostPort(c.Host, strconv.Itoa(c.Port))
}

// onlyServers has names mean the server's own things. Whoever may make something in a schema that an account looks
// into, or owns the database, could otherwise put a function or an operator of his there that fits better (PostgreSQL
// manual, 10.2 and 10.3), and it would run with the account's rights.
const onlyServers = "SET search_path = pg_catalog"

// connect connects; names mean the server's own things.
func (c Config) connect(ctx context.Context) (*pgx.Conn, error) {
	conn, err := c.reach(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := conn.Exec(ctx, onlyServers); err != nil {
		_ = conn.Close(ctx)
		return nil, fmt.Errorf("database %s: %w", c.Name, err)
	}
	return conn, nil
}

// reach connects; names mean what the database says.
func (c Config) reach(ctx context.Context) (*pgx.Conn, error) {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(c.User, c.Password), Host: c.where(), Path: "/" + c.Name}
	q := url.Values{"connect_timeout": {"15"}, "application_name": {"revlet"}, "client_encoding": {"UTF8"}}
	if c.Socket != "" {
		u.Host = ""
		q.Set("host", c.Socket)
		if c.Port != 0 {
			q.Set("port", strconv.Itoa(c.Port))
		}
	}
	u.RawQuery = q.Encode()
	pc, err := pgx.ParseConfig(u.String())
	if err != nil {
		return nil, fmt.Errorf("database %s: its settings make no sense together", c.Name)
	}
	// What the environment says of TLS, and falling back to none, is not wanted.
	pc.TLSConfig, pc.Fallbacks = nil, nil
	// Nor are passwords that the account which runs this has in files: they are not the site's, whose settings choose server and account.
	pc.Password = c.Password
	pc.BuildFrontend = frontend
	if c.Socket == "" {
		if pc.TLSConfig, err = c.TLS.Config(c.Host); err != nil {
			return nil, fmt.Errorf("database %s: %w", c.Name, err)
		}
	}
	// The first connection is made here, to see whose the far end is before anything is said.
	pc.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil }
	if pc.DialFunc = c.Dial; c.Dial == nil {
		pc.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
			return loopback.DialAs(ctx, network, address, c.As)
		}
	}
	if err := c.judge(ctx, pc); err != nil {
		return nil, c.explain(err)
	}
	conn, err := pgx.ConnectConfig(ctx, pc)
	if err != nil {
		return nil, c.explain(err)
	}
	return conn, nil
}

// proofsOnly are the ways of logging in that send no password, as libpq's require_auth names them: on none of them a server
// gets more than a proof, and the server proves with the first that it knows the password, too.
const proofsOnly = "scram-sha-256,md5,none"

// judge connects, and has the driver use that connection.
func (c Config) judge(ctx context.Context, pc *pgx.ConnConfig) error {
	if pc.TLSConfig != nil {
		return nil
	}
	dial := pc.DialFunc
	network, address := pgconn.NetworkAddress(pc.Host, pc.Port)
	within, cancel := context.WithTimeout(ctx, pc.ConnectTimeout)
	defer cancel()
	conn, err := dial(within, network, address)
	if err != nil {
		return err
	}
	line, err := c.TLS.Judge(conn, c.Dial != nil)
	if err != nil {
		_ = conn.Close()
		return err
	}
	if line == database.Proofs {
		pc.RequireAuth = proofsOnly
	}
	var once sync.Once
	pc.DialFunc = func(ctx context.Context, network, address string) (made net.Conn, err error) {
		once.Do(func() { made = conn })
		if made != nil {
			return made, nil
		}
		return dial(ctx, network, address) // to have a query ended: no password is sent
	}
	return nil
}

// explain words a failure to connect with the next step. Codes are those of
// PostgreSQL's appendix "Error Codes".
func (c Config) explain(err error) error {
	if why := database.ExplainTLS(err, strings.Contains(err.Error(), "server refused TLS connection"), c.where()); why != nil {
		return fmt.Errorf("database %s: %w", c.Name, why)
	}
	var tunnel *database.TunnelError
	if errors.As(err, &tunnel) {
		return fmt.Errorf("database %s at %s: %w", c.Name, c.where(), tunnel)
	}
	switch {
	case strings.Contains(err.Error(), "authentication method requirement"):
		return fmt.Errorf("database %s: %w", c.Name, database.WantsPassword(c.where()))
	case reason.Is(err, reason.ServerOfOthers), errors.Is(err, database.ErrTooMuch), errors.Is(err, memory.ErrShort):
		return fmt.Errorf("database %s: %w", c.Name, err)
	}
	var pe *pgconn.PgError
	hint := "nothing answers there; is the database server running?"
	if errors.As(err, &pe) {
		switch pe.Code {
		case "28P01", "28000":
			hint = fmt.Sprintf("the server refuses user %q with the password in the site's settings", c.User)
		case "3D000":
			hint = fmt.Sprintf("the server has no database %q", c.Name)
		default:
			hint = pe.Message
		}
		lacks := fmt.Errorf("database %s at %s: %s (%w, %s)", c.Name, c.where(), hint, database.ErrNotSetUp, pe.Code)
		switch pe.Code {
		case "28P01", "28000":
			return lacks
		case "3D000", "42501": // an account is asked for its password first
			return &database.LetInError{Err: lacks}
		}
		return fmt.Errorf("database %s at %s: %s (%s)", c.Name, c.where(), hint, pe.Code)
	}
	if errors.Is(err, context.DeadlineExceeded) {
		hint = "the server takes connections and says nothing; does it hang?"
	}
	// The driver's own text may repeat the whole address, password included.
	return fmt.Errorf("database %s at %s: %s", c.Name, c.where(), hint)
}

// Open connects and looks at the database.
func Open(ctx context.Context, c Config) (*Database, error) {
	ctx, cancel := context.WithTimeout(ctx, cmp.Or(c.OpenTime, time.Minute))
	defer cancel()
	conn, err := c.reach(ctx)
	if err != nil {
		return nil, err
	}
	db := &Database{c: c, conn: conn, info: database.Info{Engine: "postgres", Name: c.Name}}
	if err := db.look(ctx); err != nil {
		_ = conn.Close(ctx)
		return nil, fmt.Errorf("database %s: %w", c.Name, err)
	}
	return db, nil
}

// look reads what the database is.
func (db *Database) look(ctx context.Context) error {
	err := db.conn.QueryRow(ctx, `SELECT pg_catalog.current_setting('search_path'), coalesce(pg_catalog.current_schema(), 'public')`).Scan(&db.path, &db.schema)
	if err != nil {
		return err
	}
	if _, err := db.conn.Exec(ctx, onlyServers); err != nil {
		return err
	}
	return db.conn.QueryRow(ctx, `SELECT current_setting('server_version'), pg_encoding_to_char(encoding), datcollate, pg_database_size(oid)
		FROM pg_database WHERE datname = current_database()`).
		Scan(&db.info.Version, &db.info.Charset, &db.info.Collation, &db.info.Bytes)
}

// asSite has names mean what the site's account means by them, as triggers want that rows are changed under; until the
// end of the transaction, or of the connection.
func (db *Database) asSite(ctx context.Context, in interface {
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
}, local bool) error {
	_, err := in.Exec(ctx, "SELECT pg_catalog.set_config('search_path', $1, $2)", db.path, local)
	return err
}

// Info implements database.Source.
func (db *Database) Info() database.Info { return db.info }

// Close implements database.Source and database.Target.
func (db *Database) Close() error { return db.conn.Close(context.Background()) }

// Identity tells which database this is, whatever it was reached by: the server's
// start and port, and its number and name there.
func (db *Database) Identity(ctx context.Context) (id string, err error) {
	err = db.conn.QueryRow(ctx, `SELECT concat_ws('|', pg_postmaster_start_time(), current_setting('port'), oid, datname) FROM pg_database WHERE datname = current_database()`).Scan(&id)
	return id, err
}

// Lookup implements database.Source.
func (db *Database) Lookup(ctx context.Context, table, column, where, is string) (string, error) {
	var v sql.NullString
	q := fmt.Sprintf("SELECT %s::text FROM %s.%s WHERE %s::text = $1", quote(column), quote(db.schema), quote(table), quote(where))
	err := db.conn.QueryRow(ctx, q, is).Scan(&v)
	return database.ValueOf(v, err)
}

// Edit implements database.Target.
func (db *Database) Edit(ctx context.Context, edits ...database.Edit) error {
	d := database.Dialect{Quote: quote, Mark: func(n int) string { return "$" + strconv.Itoa(n) }, Text: func(c string) string { return c + "::text" }}
	return pgx.BeginFunc(ctx, db.conn, func(tx pgx.Tx) error {
		if err := db.asSite(ctx, tx, true); err != nil {
			return err
		}
		for _, e := range edits {
			statement, values := e.Statement(d)
			tag, err := tx.Exec(ctx, statement, values...)
			if err == nil {
				err = e.Check(tag.RowsAffected())
			}
			if strings.HasPrefix(codeOf(err), dataException) {
				err = reason.Because(reason.DoesNotFit, nil, err)
			}
			if err != nil {
				return fmt.Errorf("change rows of %s: %w", e.Table, err)
			}
			if err := proved(ctx, tx, e, d); err != nil {
				return err
			}
		}
		return nil
	})
}

// proved reads back what an edit has set.
func proved(ctx context.Context, tx pgx.Tx, e database.Edit, d database.Dialect) error {
	if len(e.Set) == 0 {
		return nil
	}
	query, values := e.Reading(d)
	rows, err := tx.Query(ctx, query, values...)
	if err != nil {
		return fmt.Errorf("read rows of %s: %w", e.Table, err)
	}
	row := make([]sql.NullString, len(e.Set))
	into := make([]any, len(row))
	for i := range row {
		into[i] = &row[i]
	}
	_, err = pgx.ForEachRow(rows, into, func() error { return e.Proved(row) })
	return err
}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func literal(s string) string {
	if strings.Contains(s, `\`) {
		return ` E'` + strings.NewReplacer(`\`, `\\`, `'`, `''`).Replace(s) + `'`
	}
	return `'` + strings.ReplaceAll(s, `'`, `''`) + `'`
}

// column collects a query's first column.
func column(ctx context.Context, conn *pgx.Conn, q string, args ...any) ([]string, error) {
	rows, err := conn.Query(ctx, q, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}
