package e2e

import (
	_ "embed"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// everything is a schema with one of all that MariaDB has.
//
//go:embed testdata/everything.sql
var everything string

// described is a world whose site is a database and a folder, both described
// by hand.
func described(t *testing.T, s *server, db string, grants ...string) *world {
	w := newWorld(t)
	s.exec(t, fmt.Sprintf("CREATE DATABASE %s CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci; CREATE USER 'museum'@'127.0.0.1' IDENTIFIED BY 'x'; GRANT ALL ON %s.* TO 'museum'@'127.0.0.1'", db, db))
	for _, g := range grants {
		s.exec(t, g)
	}
	t.Cleanup(func() { s.exec(t, "DROP DATABASE IF EXISTS "+db+"; DROP USER 'museum'@'127.0.0.1'") })
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("htdocs/index.html", "a page")
	w.write("pw", "x\n")
	w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    stores: [here]\n    recipe: none\n    databases: {main: {mysql: \"museum@127.0.0.1:%d/%s\", password_file: pw}}\n", s.port, db))
	return w
}

// history reads the rows that a system-versioned table keeps of its past.
func (s *server) past(t *testing.T, db string) []string {
	return s.column(t, "SELECT CONCAT_WS(' ', id, price, ROW_START, ROW_END) FROM "+db+".versioned FOR SYSTEM_TIME ALL ORDER BY 1")
}

func TestEveryKindOfTableComesBack(t *testing.T) {
	s := mariadb(t)
	for name, grants := range map[string][]string{
		"own database only":  nil,
		"may make databases": {"GRANT ALL ON `rv\\_%`.* TO 'museum'@'127.0.0.1'"},
		"may lock all":       {"GRANT RELOAD ON *.* TO 'museum'@'127.0.0.1'"},
	} {
		t.Run(name, func(t *testing.T) {
			db := "lighthouse"
			w := described(t, s, db, grants...)
			s.exec(t, "USE lighthouse;"+everything)
			want, past := s.describe(t, db), s.past(t, db)
			out := w.run("backup")
			assert.Contains(t, out, "one moment on 2 connections")
			first := w.parts("kestrelpoint")
			w.run("backup")
			assert.Equal(t, first, w.parts("kestrelpoint"), "the same database gives the same bytes")

			s.exec(t, "USE lighthouse; SET foreign_key_checks = 0; DROP TABLE parent, texts; UPDATE numbers SET t = 5 WHERE id = 7; DROP FUNCTION twice; DROP TRIGGER t2; ALTER TABLE keyless ADD c INT; CREATE TABLE planted (a INT); CREATE VIEW planted_view AS SELECT 1")
			broken := s.describe(t, db)
			w.run("restore", "kestrelpoint", "--only", "database", "--yes")
			assert.Equal(t, want, live(s.describe(t, db)))
			assert.Equal(t, past, s.past(t, db))
			assert.Equal(t, "150", s.column(t, "SELECT NEXTVAL(lighthouse.tickets)")[0], "a number that was handed out, or cached, is never handed out again")
			w.run("undo", "kestrelpoint", "--yes")
			assert.Equal(t, broken, s.describe(t, db))
			w.run("restore", "kestrelpoint", "--only", "database", "--yes")
			w.run("settle", "kestrelpoint", "--yes")
			assert.Equal(t, want, s.describe(t, db))

			w.write(".my.cnf", "[client]\nuser=root\nsocket="+s.socket+"\n")
			recoverByHand(t, w, "SQLite", "DATABASE=recovered", "HOME="+w.dir)
			defer s.exec(t, "DROP DATABASE recovered")
			assert.Equal(t, want, unqualified(s.describe(t, "recovered"), "recovered", db), "the plain client loads it")
			assert.Equal(t, past, s.past(t, "recovered"))
		})
	}
}

func TestAnSQLFileOfTheServersOwnClientIsLoaded(t *testing.T) {
	s := mariadb(t)
	db := "lighthouse"
	w := described(t, s, db)
	s.exec(t, "USE lighthouse;"+everything)
	// The client writes only the present of tables that keep their past.
	s.exec(t, "USE lighthouse; DROP TABLE versioned; UPDATE numbers SET f = 0.5") // and it rounds floats
	want := s.describe(t, db)
	w.write("museum.sql", dumpWithClient(t, s, db))
	s.exec(t, "USE lighthouse; SET foreign_key_checks = 0; DROP TABLE parent, texts; DROP FUNCTION twice; CREATE TABLE planted (a INT)")
	broken := s.describe(t, db)
	w.fails(1, []string{"may not make one", "GRANT ALL ON", "the site is unchanged"}, "restore", "kestrelpoint", "--sql", "museum.sql", "--yes")
	s.exec(t, "GRANT ALL ON `rv\\_%`.* TO 'museum'@'127.0.0.1'")
	w.write("evil.sql", "CREATE TABLE a (a INT);\nGRANT ALL ON *.* TO 'museum'@'127.0.0.1';")
	w.fails(1, []string{"does not write", "GRANT ALL", "the site is unchanged"}, "restore", "kestrelpoint", "--sql", "evil.sql", "--yes")
	w.write("cut.sql", "CREATE TABLE a (a INT);\nINSERT INTO a VALUES ('cut he")
	w.fails(1, []string{"inside quotes", "the site is unchanged"}, "restore", "kestrelpoint", "--sql", "cut.sql", "--yes")
	assert.Equal(t, broken, s.describe(t, db))

	w.run("restore", "kestrelpoint", "--sql", "museum.sql", "--yes")
	assert.Equal(t, want, live(s.describe(t, db)))
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, s.describe(t, db))
}

func TestAnAccountThatMayOnlyRead(t *testing.T) {
	s := mariadb(t)
	w := described(t, s, "lighthouse")
	s.exec(t, "USE lighthouse;"+everything+"REVOKE ALL ON lighthouse.* FROM 'museum'@'127.0.0.1'; GRANT SELECT ON lighthouse.* TO 'museum'@'127.0.0.1'")
	r := w.fails(3, []string{"one moment on one connection (the account may not lock tables)"}, "backup")
	assert.Contains(t, r.out, "could not be saved", "what the account may not read is named")
	w.run("verify")
	w.fails(1, []string{"the site is unchanged"}, "restore", "kestrelpoint", "--yes")
	w.clean()
}

func TestLargeRowsAndConnectionsThatDrop(t *testing.T) {
	s := mariadb(t)
	w := described(t, s, "lighthouse")
	s.exec(t, `USE lighthouse; SET max_recursive_iterations = 100; CREATE TABLE pictures (id INT PRIMARY KEY, b LONGBLOB, v LONGTEXT);
		INSERT INTO pictures SELECT seq, REPEAT(RANDOM_BYTES(1000), 11000), REPEAT('a\'\n', 100000) FROM seq_1_to_8`)
	want := s.describe(t, "lighthouse")
	stop := make(chan struct{})
	killed := make(chan int)
	go func() {
		n := 0
		for {
			select {
			case <-stop:
				killed <- n
				return
			case <-time.After(5 * time.Millisecond):
			}
			rows, err := s.root.Query("SELECT ID FROM information_schema.PROCESSLIST WHERE USER = 'museum' AND INFO LIKE 'SELECT%pictures%'")
			if err != nil {
				continue
			}
			var id int
			for rows.Next() && rows.Scan(&id) == nil {
				if _, err := s.root.Exec(fmt.Sprint("KILL ", id)); err == nil {
					n++
				}
			}
			_ = rows.Close()
		}
	}()
	r := w.try("backup")
	close(stop)
	n := <-killed
	t.Logf("%d connections were killed; %s", n, r.err)
	if n > 0 {
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.err, "table pictures")
		assert.Contains(t, w.run("archives"), "No archives yet")
	}
	w.run("backup")
	s.exec(t, "DROP TABLE lighthouse.pictures")
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, want, s.describe(t, "lighthouse"))
}

// dumpWithClient runs the server's own dump client.
func dumpWithClient(t *testing.T, s *server, db string) string {
	t.Helper()
	need(t, "mariadb-dump")
	out, err := exec.Command("mariadb-dump", "--no-defaults", "-uroot", "--socket="+s.socket, "--routines", "--events", "--hex-blob", db).Output()
	require.NoError(t, err)
	return strings.TrimSpace(string(out))
}
