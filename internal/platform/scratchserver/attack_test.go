//go:build linux

package scratchserver

import (
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// somebody is an account of the machine that has nothing to do with Revlet.
const somebody = 61871

// asSomebody runs a command as that account, and tells whether it worked.
func asSomebody(t *testing.T, name string, args ...string) (out string, worked bool) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root can be somebody else")
	}
	cmd := exec.Command(name, args...)
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: somebody, Gid: somebody}}
	text, err := cmd.CombinedOutput()
	return string(text), err == nil
}

func scratch(t *testing.T, programs ...string) string {
	t.Helper()
	for _, p := range programs {
		if _, err := exec.LookPath(p); err != nil {
			t.Skip(p + " is not installed")
		}
	}
	dir, err := os.MkdirTemp("/tmp", "revlet-scratch-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// runsWithoutRights makes sure that a server that root has started is not root's.
func runsWithoutRights(t *testing.T, p *running) {
	t.Helper()
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	require.NoError(t, err)
	assert.NotContains(t, string(status), "Uid:\t0\t")
}

// It answered to everybody on the machine as root, without a password, and could read and
// write root's files.
func TestNobodyElseGetsIntoAScratchMariaDB(t *testing.T) {
	dir := scratch(t, "mariadbd", "mariadb")
	s, err := StartMariaDB(t.Context(), dir, Options{Listen: true})
	require.NoError(t, err)
	defer s.Stop()
	root, err := s.Root()
	require.NoError(t, err)
	defer root.Close()
	_, err = root.Exec("CREATE DATABASE kp_museum; CREATE DATABASE kpxmuseum; CREATE TABLE kpxmuseum.secrets (a INT)")
	require.NoError(t, err)
	require.NoError(t, s.Account(t.Context(), `keep'er`, `wo\'rd`, "kp_museum"))
	runsWithoutRights(t, s.running)

	for _, who := range []string{"root", "mysql", "", "mariadb.sys", "nobody", `keep'er`} {
		out, in := asSomebody(t, "mariadb", "--no-defaults", "-h127.0.0.1", fmt.Sprintf("-P%d", s.Port), "-u"+who, "-e", "SELECT 1")
		assert.False(t, in, "%s: %s", who, out)
		out, in = asSomebody(t, "mariadb", "--no-defaults", "-S"+s.Socket, "-u"+who, "-e", "SELECT 1")
		assert.False(t, in, "%s: %s", who, out)
	}
	_, reads := asSomebody(t, "ls", dir)
	assert.False(t, reads)

	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Addr, c.DBName = `keep'er`, `wo\'rd`, "tcp", fmt.Sprintf("127.0.0.1:%d", s.Port), "kp_museum"
	own, err := sql.Open("mysql", c.FormatDSN())
	require.NoError(t, err)
	defer own.Close()
	_, err = own.Exec("CREATE TABLE pages (a INT)")
	require.NoError(t, err, "its own database is its own")
	for _, q := range []string{
		"SELECT 1 INTO OUTFILE '" + filepath.Join(dir, "tmp/x") + "'", "SELECT 1 INTO DUMPFILE '/tmp/x'", "LOAD DATA INFILE '/etc/passwd' INTO TABLE pages", "LOAD DATA LOCAL INFILE '/etc/passwd' INTO TABLE pages",
		"CREATE DATABASE other", "SELECT * FROM kpxmuseum.secrets", "SELECT * FROM mysql.user", "SET GLOBAL general_log_file = '/tmp/x'", "INSTALL SONAME 'ha_federatedx'", "CREATE USER x", "GRANT ALL ON *.* TO `keep'er`@'%'", "SHUTDOWN",
		"CREATE TABLE f (a INT) DATA DIRECTORY='/tmp'", "CREATE SERVER s FOREIGN DATA WRAPPER mysql OPTIONS (HOST 'x')",
	} {
		_, err := own.Exec(q)
		if strings.HasPrefix(q, "CREATE TABLE f") && err == nil {
			_, err = os.Stat("/tmp/kp_museum") // the option is passed over without the right
		}
		assert.Error(t, err, q)
	}
	var text sql.NullString
	require.NoError(t, own.QueryRow("SELECT LOAD_FILE('/etc/passwd')").Scan(&text))
	assert.False(t, text.Valid)
}

func TestAScratchMariaDBThatNeedNotListenDoesNot(t *testing.T) {
	dir := scratch(t, "mariadbd")
	s, err := StartMariaDB(t.Context(), dir, Options{})
	require.NoError(t, err)
	defer s.Stop()
	// The port itself may be somebody else's by now, so who answers there is of no use; the server knows.
	root, err := s.Root()
	require.NoError(t, err)
	defer root.Close()
	var silent bool
	require.NoError(t, root.QueryRow("SELECT @@skip_networking").Scan(&silent))
	assert.True(t, silent)
	_, in := asSomebody(t, "mariadb", "--no-defaults", "-h127.0.0.1", fmt.Sprintf("-P%d", s.Port), "-uroot", "-e", "SELECT 1")
	assert.False(t, in)
}

// Whoever connected was let in, as the server's administrator, who may run programs.
func TestNobodyElseGetsIntoAScratchPostgres(t *testing.T) {
	dir := scratch(t, "psql")
	s, err := StartPostgres(t.Context(), dir, Options{Listen: true})
	require.NoError(t, err)
	defer s.Stop()
	root, err := s.Root(t.Context(), "postgres")
	require.NoError(t, err)
	defer root.Close(t.Context())
	for _, q := range []string{"CREATE ROLE keeper LOGIN PASSWORD 'words'", "CREATE ROLE other LOGIN", "CREATE DATABASE museum OWNER keeper"} {
		_, err = root.Exec(t.Context(), q)
		require.NoError(t, err)
	}
	runsWithoutRights(t, s.running)
	for _, who := range []string{"postgres", "keeper", "other", "root"} {
		for _, host := range []string{"127.0.0.1", dir} {
			out, in := asSomebody(t, "psql", "-w", "-h", host, "-p", fmt.Sprint(s.Port), "-U", who, "postgres", "-c", "SELECT 1")
			assert.False(t, in, "%s at %s: %s", who, host, out)
		}
	}
	own, err := pgx.Connect(t.Context(), fmt.Sprintf("host=127.0.0.1 port=%d user=keeper password=words dbname=museum sslmode=disable", s.Port))
	require.NoError(t, err)
	defer own.Close(t.Context())
	for _, q := range []string{"COPY (SELECT 1) TO PROGRAM 'id'", "COPY (SELECT 1) TO '/tmp/x'", "CREATE ROLE x SUPERUSER", "CREATE DATABASE x", "SELECT pg_read_file('/etc/passwd')", "ALTER SYSTEM SET log_min_messages = 'debug'", "CREATE FUNCTION f() RETURNS int LANGUAGE c AS 'x'", "SET ROLE postgres"} {
		_, err := own.Exec(t.Context(), q)
		assert.Error(t, err, q)
	}
}
