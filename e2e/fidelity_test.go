package e2e

import (
	_ "embed"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
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
	t.Parallel()
	s := ownMariadb(t)
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
			w.run("settle", "kestrelpoint", "--unsaved", "--yes")
			assert.Equal(t, want, s.describe(t, db))
			assert.Contains(t, w.run("compare", "kestrelpoint"), "Nothing differs")
			if len(grants) == 0 {
				assert.Contains(t, w.run("rehearse"), "every byte and every row is as it was saved")
				assert.NotContains(t, w.run("preflight"), "may do more than use it")
				s.exec(t, "GRANT FILE, SUPER ON *.* TO 'museum'@'127.0.0.1'")
				assert.Contains(t, w.run("preflight"), "the account museum may do more than use it (FILE, SUPER")
				s.exec(t, "REVOKE FILE, SUPER ON *.* FROM 'museum'@'127.0.0.1'")
			}

			w.write(".my.cnf", "[client]\nuser=root\nsocket="+s.socket+"\n")
			recoverByHand(t, w, "SQLite", "DATABASE=recovered", "HOME="+w.dir)
			defer s.exec(t, "DROP DATABASE recovered")
			assert.Equal(t, want, unqualified(s.describe(t, "recovered"), "recovered", db), "the plain client loads it")
			assert.Equal(t, past, s.past(t, "recovered"))
		})
	}
}

// grantsOnPlaces are the rights that tell where tables are staged: beside the live ones
// under other names, as on shared hosting, or in a database of their own.
var grantsOnPlaces = map[string][]string{"own database only": nil, "may make databases": {"GRANT ALL ON `rv\\_%`.* TO 'museum'@'127.0.0.1'"}}

func TestAnSQLFileOfTheServersOwnClientIsLoaded(t *testing.T) {
	t.Parallel()
	s := ownMariadb(t)
	for name, grants := range grantsOnPlaces {
		t.Run(name, func(t *testing.T) { sqlFileIsLoaded(t, s, grants) })
	}
}

func sqlFileIsLoaded(t *testing.T, s *server, grants []string) {
	db := "lighthouse"
	w := described(t, s, db, grants...)
	s.exec(t, "USE lighthouse;"+everything)
	// The client writes only the present of tables that keep their past.
	s.exec(t, "USE lighthouse; DROP TABLE versioned; UPDATE numbers SET f = 0.5") // and it rounds floats
	want := s.describe(t, db)
	w.write("museum.sql", dumpWithClient(t, s, db))
	s.exec(t, "USE lighthouse; SET foreign_key_checks = 0; DROP TABLE parent, texts; DROP FUNCTION twice; CREATE TABLE planted (a INT)")
	broken := s.describe(t, db)
	w.write("evil.sql", "CREATE TABLE a (a INT);\nGRANT ALL ON *.* TO 'museum'@'127.0.0.1';")
	w.fails(1, []string{"does not write", "GRANT ALL", "the site is unchanged"}, "restore", "kestrelpoint", "--sql", "evil.sql", "--yes")
	w.write("cut.sql", "CREATE TABLE a (a INT);\nINSERT INTO a VALUES ('cut he")
	w.fails(1, []string{"it is cut", "the site is unchanged"}, "restore", "kestrelpoint", "--sql", "cut.sql", "--yes")
	for table, rows := range map[string]string{
		"(a VARCHAR(3)) CHARACTER SET utf8mb4": "INSERT INTO a VALUES ('lamp')", "(a VARCHAR(3)) ENGINE=MyISAM": "INSERT INTO a VALUES ('a'), ('lamp')",
		"(a TINYINT)": "REPLACE INTO a VALUES (1871)", "(a DATE)": "INSERT INTO a VALUES ('a day')",
		"(a VARCHAR(9)) CHARACTER SET latin1": "INSERT INTO a VALUES ('🔦')", "(a VARCHAR(2)) ": "INSERT IGNORE INTO a VALUES ('lamp')", "(a INT PRIMARY KEY)": "INSERT IGNORE INTO a VALUES (1), (1)",
	} {
		w.write("misfit.sql", "CREATE TABLE fits (a VARCHAR(3));\nINSERT INTO fits VALUES ('a');\nCREATE TABLE a "+table+";\nSET sql_mode='';\n"+rows+";\n")
		w.fails(1, []string{" INTO `", "the site is unchanged", "--anyway"}, "restore", "kestrelpoint", "--sql", "misfit.sql", "--yes")
		assert.Equal(t, broken, s.describe(t, db))
		r := w.try("restore", "kestrelpoint", "--sql", "misfit.sql", "--yes", "--anyway")
		require.Equal(t, 0, r.code, r.err)
		assert.Contains(t, r.err, "or left out: 1; the first: ", rows)
		w.run("undo", "kestrelpoint", "--yes")
	}
	// A server that was not strict keeps such values, and its client writes them out.
	s.exec(t, "SET sql_mode = ''; CREATE DATABASE odd; USE odd; CREATE TABLE a (a ENUM('lit', 'out') NOT NULL, b VARCHAR(9)); INSERT INTO a VALUES ('lit', 'x'), ('glimmers', 'y')")
	w.write("odd.sql", dumpWithClient(t, s, "odd"))
	kept := s.column(t, "SELECT CONCAT(a + 0, b) FROM odd.a ORDER BY b")
	s.exec(t, "DROP DATABASE odd")
	r := w.try("restore", "kestrelpoint", "--sql", "odd.sql", "--yes")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "or left out: 1; the first: ")
	assert.Contains(t, r.err, "the SQL makes nothing for")
	assert.Equal(t, kept, s.column(t, "SELECT CONCAT(a + 0, b) FROM lighthouse.a ORDER BY b"))
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, s.describe(t, db))

	w.run("restore", "kestrelpoint", "--sql", "museum.sql", "--yes")
	assert.Equal(t, want, live(s.describe(t, db)))
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, s.describe(t, db))
}

// Dumps of the server's own client, with the flags that people use: each is loaded as
// it is meant, or refused with the live database untouched; undo gives back what was
// there.
func TestDumpsWithTheFlagsThatPeopleUse(t *testing.T) {
	t.Parallel()
	s := ownMariadb(t)
	for name, grants := range grantsOnPlaces {
		t.Run(name, func(t *testing.T) { dumpsWithFlags(t, s, grants) })
	}
}

func dumpsWithFlags(t *testing.T, s *server, grants []string) {
	w := described(t, s, "lighthouse", grants...)
	s.exec(t, "CREATE DATABASE pier; USE pier; CREATE TABLE boats (a INT); INSERT INTO boats VALUES (1), (2)")
	defer s.exec(t, "DROP DATABASE pier")
	s.exec(t, `USE lighthouse; CREATE TABLE parent (id INT PRIMARY KEY AUTO_INCREMENT, name VARCHAR(40) CHARACTER SET latin1, stamp TIMESTAMP NULL);
		CREATE TABLE child (id INT PRIMARY KEY, parent INT, raw BLOB, KEY (parent), FOREIGN KEY (parent) REFERENCES parent (id) ON DELETE CASCADE);
		INSERT INTO parent VALUES (1, 'Föhr; -- it''s /* lit */ \\', '2026-11-20 03:20:00'), (2, NULL, NULL); INSERT INTO child VALUES (1, 1, x'00ff0a0d27'), (2, 2, '');
		CREATE VIEW z_view AS SELECT id FROM parent; CREATE VIEW a_view AS SELECT id FROM z_view; CREATE FUNCTION twice(a INT) RETURNS INT DETERMINISTIC RETURN 2 * a;
		CREATE TRIGGER lit BEFORE INSERT ON child FOR EACH ROW SET NEW.id = NEW.id + LENGTH(';') - 1`)
	full := s.describe(t, "lighthouse")
	cases := []struct {
		flags string
		// want is what is there afterwards, if refused is not set: all of it, or not
		// what begins so.
		lacks   []string
		refused string
	}{
		{flags: "--routines lighthouse"},
		{flags: "--routines --skip-opt --create-options --databases lighthouse"},
		{flags: "--routines --databases --add-drop-database lighthouse pier"},
		{flags: "--routines --all-databases --flush-privileges --hex-blob"},
		{flags: "--compact --skip-extended-insert --complete-insert --single-transaction --skip-triggers lighthouse", lacks: []string{"routine", "trigger"}},
		{flags: "--replace --order-by-primary --skip-comments --skip-tz-utc --no-autocommit --routines lighthouse"},
		{flags: "--insert-ignore --lock-all-tables --quick --disable-keys --skip-add-drop-table --routines --databases pier lighthouse"},
		{flags: "--no-create-info --skip-triggers lighthouse", refused: "rows of a table and not its definition"},
		{flags: "--no-create-info --replace --databases lighthouse", refused: "rows of a table and not its definition"},
		{flags: "--databases pier mysql", lacks: []string{"parent", "child", "view", "routine", "trigger"}},
		{flags: "--system=users --databases lighthouse", refused: "does not write"},
	}
	dumps := map[string]string{}
	for _, c := range cases {
		args := append([]string{"--no-defaults", "-uroot", "--socket=" + s.socket}, strings.Fields(c.flags)...)
		out, err := exec.Command("mariadb-dump", args...).Output()
		require.NoError(t, err, c.flags)
		dumps[c.flags] = string(out)
	}
	s.exec(t, "USE lighthouse; SET foreign_key_checks = 0; DROP TABLE parent; DELETE FROM child WHERE id = 2; DROP FUNCTION twice; DROP VIEW a_view; CREATE TABLE planted (a INT)")
	broken := s.describe(t, "lighthouse")
	for _, c := range cases {
		for _, ending := range []string{"\n", "\r\n"} {
			w.write("museum.sql", strings.ReplaceAll(dumps[c.flags], "\n", ending))
			if c.refused != "" {
				w.fails(1, []string{c.refused, "the site is unchanged"}, "restore", "kestrelpoint", "--sql", "museum.sql", "--yes")
			} else {
				w.run("restore", "kestrelpoint", "--sql", "museum.sql", "--yes")
				now := s.describe(t, "lighthouse")
				for name, text := range full {
					if slices.ContainsFunc(c.lacks, func(l string) bool { return strings.HasPrefix(name, l) }) {
						assert.NotContains(t, now, name, c.flags)
					} else {
						assert.Equal(t, text, strings.ReplaceAll(now[name], "\r\n", "\n"), c.flags)
					}
				}
				assert.NotContains(t, now, "planted")
				w.run("undo", "kestrelpoint", "--yes")
			}
			require.Equal(t, broken, s.describe(t, "lighthouse"), c.flags)
			require.Equal(t, []string{"1", "2"}, s.column(t, "SELECT a FROM pier.boats ORDER BY 1"))
		}
	}
	w.write("museum.sql", dumps["--routines --databases --add-drop-database lighthouse pier"])
	w.fails(1, []string{"no database shop", "lighthouse, pier", "--sql-database"}, "restore", "kestrelpoint", "--sql", "museum.sql", "--sql-database", "shop", "--yes")
	w.run("restore", "kestrelpoint", "--sql", "museum.sql", "--sql-database", "pier", "--yes")
	assert.Equal(t, []string{"boats"}, slices.Collect(maps.Keys(live(s.describe(t, "lighthouse")))))
	w.run("undo", "kestrelpoint", "--yes")
	require.Equal(t, broken, s.describe(t, "lighthouse"))
}

// Two databases of one site on one server, with tables of the same names; and a table
// whose rows are elsewhere: no archive holds it, no restore takes it away.
func TestTwoDatabasesOfOneSite(t *testing.T) {
	s := mariadb(t)
	for name, grants := range grantsOnPlaces {
		t.Run(name, func(t *testing.T) {
			w := described(t, s, "lighthouse", grants...)
			s.exec(t, "CREATE DATABASE shop; GRANT ALL ON shop.* TO 'museum'@'127.0.0.1'")
			defer s.exec(t, "DROP DATABASE shop")
			config, err := os.ReadFile(w.path("revlet.yaml"))
			require.NoError(t, err)
			w.write("revlet.yaml", strings.Replace(string(config), "databases: {main:", fmt.Sprintf("databases: {shop: {mysql: \"museum@127.0.0.1:%d/shop\", password_file: pw}, main:", s.port), 1))
			for _, db := range []string{"lighthouse", "shop"} {
				s.exec(t, "USE "+db+"; CREATE TABLE options (id INT PRIMARY KEY, v TEXT) ENGINE=InnoDB; INSERT INTO options VALUES (1, '"+db+"'); CREATE TABLE old (a INT) ENGINE=MyISAM; INSERT INTO old VALUES (7); CREATE TABLE united (a INT) ENGINE=MERGE UNION=(old)")
			}
			r := w.fails(3, []string{"table united", "kept elsewhere, by storage engine MRG_MyISAM"}, "backup")
			assert.Contains(t, r.out, "database/shop")
			want := []map[string]string{s.describe(t, "lighthouse"), s.describe(t, "shop")}
			s.exec(t, "UPDATE lighthouse.options SET v = 'x'; DROP TABLE shop.options")
			broken := []map[string]string{s.describe(t, "lighthouse"), s.describe(t, "shop")}
			w.run("restore", "kestrelpoint", "--only", "database", "--yes")
			assert.Equal(t, want, []map[string]string{live(s.describe(t, "lighthouse")), live(s.describe(t, "shop"))})
			w.run("undo", "kestrelpoint", "--yes")
			assert.Equal(t, broken, []map[string]string{s.describe(t, "lighthouse"), s.describe(t, "shop")})
			w.run("restore", "kestrelpoint", "--only", "database", "--yes")
			w.run("settle", "kestrelpoint", "--unsaved", "--yes")
			assert.Equal(t, want, []map[string]string{s.describe(t, "lighthouse"), s.describe(t, "shop")})
		})
	}
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

// A server that writes a binary log lets only few make triggers and functions, and drop
// them. That is known before the site is closed, and so is a right that lacks.
func TestWhatAnAccountMayNotMakeIsRefusedFirst(t *testing.T) {
	t.Parallel()
	s := ownMariadb(t, "--log-bin=log")
	for name, grants := range map[string][]string{"own database only": nil, "may make databases, and nothing in them": {"GRANT CREATE ON *.* TO 'museum'@'127.0.0.1'"}} {
		t.Run(name, func(t *testing.T) {
			w := described(t, s, "lighthouse", grants...)
			s.exec(t, "USE lighthouse; CREATE TABLE log (id INT PRIMARY KEY, t TEXT); INSERT INTO log VALUES (1, 'lit'); CREATE TABLE of (id INT PRIMARY KEY, log INT, FOREIGN KEY (log) REFERENCES log (id))")
			w.run("backup")
			s.exec(t, "UPDATE lighthouse.log SET t = 'gone'")
			r := w.try("restore", "kestrelpoint", "--only", "database", "--yes")
			assert.Equal(t, grants != nil, strings.Contains(r.out+r.err, "may make databases and not drop them"), r.out+r.err)
			assert.Equal(t, []string{"lit"}, s.column(t, "SELECT t FROM lighthouse.log"))

			s.exec(t, "USE lighthouse; CREATE TRIGGER tidy BEFORE INSERT ON log FOR EACH ROW SET NEW.t = ''")
			s.exec(t, "UPDATE lighthouse.log SET t = 'since'")
			const allowed = "SET GLOBAL log_bin_trust_function_creators = 1"
			refused := []string{"may not make or drop a trigger", allowed, "the site is unchanged"}
			w.fails(1, refused, "restore", "kestrelpoint", "--only", "database", "--yes")
			w.run("backup")
			with := w.newest()
			s.exec(t, "DROP TRIGGER lighthouse.tidy")
			w.fails(1, refused, "restore", with, "--only", "database", "--yes")
			assert.Equal(t, []string{"since"}, s.column(t, "SELECT t FROM lighthouse.log"))
			assert.Empty(t, s.column(t, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_NAME LIKE 'rv\\_new%'"))

			s.exec(t, allowed)
			w.run("restore", with, "--only", "database", "--yes")
			assert.Equal(t, []string{"tidy"}, s.column(t, "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = 'lighthouse'"))
			s.exec(t, "SET GLOBAL log_bin_trust_function_creators = 0")
		})
	}
}

func TestARowThatIsLargerThanAServerTakes(t *testing.T) {
	t.Parallel()
	s := ownMariadb(t)
	w := described(t, s, "lighthouse")
	s.exec(t, "USE lighthouse; CREATE TABLE pictures (id INT PRIMARY KEY, b LONGBLOB); INSERT INTO pictures VALUES (1, REPEAT('x', 6000000))")
	w.run("backup")
	s.exec(t, "SET GLOBAL max_allowed_packet = 1048576")
	w.fails(1, []string{"load rows pictures: a row is larger than what the server takes at once, 1 MiB (max_allowed_packet)", "the site is unchanged", "SET GLOBAL max_allowed_packet"}, "restore", "kestrelpoint", "--only", "database", "--yes")
	s.exec(t, "SET GLOBAL max_allowed_packet = 16777216")
	w.run("restore", "kestrelpoint", "--only", "database", "--yes")
}

// A server that cannot take a value takes another one, and warns.
func TestValuesThatAServerTakesOtherwiseAreSaid(t *testing.T) {
	t.Parallel()
	s := ownMariadb(t)
	w := described(t, s, "lighthouse")
	s.exec(t, "USE lighthouse; SET sql_mode = ''; CREATE TABLE tides (id INT PRIMARY KEY, metres INT, moon ENUM('new', 'full')); INSERT INTO tides VALUES (1, 300, 'half')")
	w.run("backup")
	w.run("restore", "kestrelpoint", "--only", "database", "--yes")
	assert.Equal(t, []string{"300 0"}, s.column(t, "SELECT CONCAT(metres, ' ', moon + 0) FROM lighthouse.tides"), "what an ENUM does not have is no alarm")

	w.forge(func(p archive.Part) bool { return p.Kind == archive.KindSchema }, func(sql string) string { return strings.Replace(sql, "`metres` int(11)", "`metres` tinyint", 1) })
	r := w.fails(4, nil, "restore", "kestrelpoint", "--only", "database", "--yes")
	assert.Contains(t, r.out, "Restored what was left:")
	assert.Contains(t, r.out, "values of table tides, which this server took otherwise: Out of range value for column 'metres'")
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
