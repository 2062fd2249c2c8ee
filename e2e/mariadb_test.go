package e2e

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"os"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"revlet/internal/platform/scratchserver"
)

// server is a private MariaDB in a temporary folder, shared by the tests of
// this package.
type server struct {
	port   int
	socket string
	root   *sql.DB
}

var (
	serverOnce   sync.Once
	sharedServer *server
	serverError  error
	stopServer   = func() {}
)

// mariadb starts the private server once.
func mariadb(t *testing.T) *server {
	t.Helper()
	need(t, "mariadbd", "mariadb", "mariadb-install-db")
	serverOnce.Do(func() { sharedServer, stopServer, serverError = startServer() })
	require.NoError(t, serverError)
	return sharedServer
}

// ownMariadb starts a server for one test, which may then run beside others whatever it
// calls its databases and accounts.
func ownMariadb(t *testing.T, flags ...string) *server {
	t.Helper()
	need(t, "mariadbd", "mariadb", "mariadb-install-db")
	s, stop, err := startServer(flags...)
	require.NoError(t, err)
	t.Cleanup(stop)
	return s
}

// inMemory is a folder for what a test server writes: the tests are about what lies in it,
// not about a disk. Empty is the usual one.
func inMemory() string {
	const shm = "/dev/shm"
	var st syscall.Statfs_t
	if err := syscall.Statfs(shm, &st); err != nil || int64(st.Bavail)*st.Bsize < 2<<30 {
		return ""
	}
	return shm
}

func startServer(flags ...string) (s *server, stop func(), err error) {
	dir, err := os.MkdirTemp(inMemory(), "revlet-mariadb-")
	if err != nil {
		return nil, func() {}, err
	}
	m, err := scratchserver.StartMariaDB(context.Background(), dir, scratchserver.Options{Listen: true, Trust: true, Flags: append(flags, "--innodb-flush-log-at-trx-commit=0", "--event-scheduler=OFF", "--lock-wait-timeout=150")})
	if err != nil {
		return nil, func() {}, err
	}
	s = &server{port: m.Port, socket: m.Socket}
	s.root, err = m.Root()
	return s, func() {
		_ = s.root.Close()
		_ = m.Stop()
		_ = os.RemoveAll(dir)
	}, err
}

// exec runs statements on a connection of their own, which is then thrown
// away with all that they set.
func (s *server) exec(t *testing.T, q string) {
	t.Helper()
	conn, err := s.root.Conn(t.Context())
	if t.Context().Err() != nil { // cleaning up
		conn, err = s.root.Conn(context.Background())
	}
	require.NoError(t, err)
	_, err = conn.ExecContext(context.Background(), q)
	_ = conn.Raw(func(any) error { return driver.ErrBadConn })
	if err != nil {
		require.FailNow(t, err.Error(), "%.200s", q)
	}
}

// column collects a query's first column.
func (s *server) column(t *testing.T, q string) []string {
	t.Helper()
	rows, err := s.root.Query(q)
	require.NoError(t, err)
	defer rows.Close()
	var all []string
	for rows.Next() {
		var v string
		require.NoError(t, rows.Scan(&v))
		all = append(all, v)
	}
	require.NoError(t, rows.Err())
	return all
}

var autoIncrement = regexp.MustCompile(` AUTO_INCREMENT=\d+`)

// describe gives every table's definition and checksum, and every view,
// trigger and routine of a database.
func (s *server) describe(t *testing.T, db string) map[string]string {
	t.Helper()
	all := map[string]string{}
	for _, table := range s.column(t, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = '"+db+"' AND TABLE_TYPE <> 'VIEW'") {
		name := "`" + db + "`.`" + escapeName(table) + "`"
		var ignored, create string
		require.NoError(t, s.root.QueryRow("SHOW CREATE TABLE "+name).Scan(&ignored, &create))
		var sum sql.NullString
		require.NoError(t, s.root.QueryRow("CHECKSUM TABLE "+name).Scan(&ignored, &sum))
		if table == "kp_options" {
			// WordPress remembers things for a minute in it: any visit may change those rows.
			create = autoIncrement.ReplaceAllString(create, "")
			require.NoError(t, s.root.QueryRow("SELECT GROUP_CONCAT(CRC32(CONCAT_WS('|', option_name, option_value, autoload)) ORDER BY option_name) FROM "+name+" WHERE option_name NOT LIKE '%\\_transient\\_%'").Scan(&sum))
		}
		all[table] = sum.String + " " + create
	}
	for kind, q := range map[string]string{
		"view":    "SELECT CONCAT(TABLE_NAME, ' ', VIEW_DEFINITION, CHARACTER_SET_CLIENT, COLLATION_CONNECTION) FROM information_schema.VIEWS WHERE TABLE_SCHEMA = '" + db + "'",
		"trigger": "SELECT CONCAT(TRIGGER_NAME, ' ', EVENT_OBJECT_TABLE, ' ', ACTION_TIMING, ' ', EVENT_MANIPULATION, ' ', ACTION_STATEMENT, SQL_MODE, CHARACTER_SET_CLIENT, COLLATION_CONNECTION) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = '" + db + "'",
		"routine": "SELECT CONCAT(ROUTINE_TYPE, ROUTINE_NAME, ROUTINE_DEFINITION, SQL_MODE, CHARACTER_SET_CLIENT, COLLATION_CONNECTION) FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = '" + db + "'",
		"event":   "SELECT CONCAT(EVENT_NAME, EVENT_DEFINITION, STATUS, TIME_ZONE, STARTS, COALESCE(INTERVAL_VALUE, ''), CHARACTER_SET_CLIENT, COLLATION_CONNECTION) FROM information_schema.EVENTS WHERE EVENT_SCHEMA = '" + db + "'",
	} {
		for _, text := range s.column(t, q+" ORDER BY 1") {
			name, _, _ := strings.Cut(text, " ")
			all[kind+" "+name] = text
		}
	}
	return all
}

func escapeName(name string) string {
	out := ""
	for _, c := range name {
		if c == '`' {
			out += "`"
		}
		out += string(c)
	}
	return out
}
