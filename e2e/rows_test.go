package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
)

// contentOf is what the museum's tables hold, without their definitions: a share
// keeps tables of its own in the file until it is settled.
func contentOf(t *testing.T, w *world) string {
	t.Helper()
	var lines []string
	for line := range strings.SplitSeq(rows(t, w), "\n") {
		if _, _, ok := strings.Cut(line, " ["); ok && !strings.HasPrefix(line, "keepers_log") {
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "\n")
}

// A deleted page comes back with what belongs to it; what was written since
// stays. Wherever that is stopped, the page is wholly there or not at all.
func TestADeletedPageComesBack(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	w.run("backup")
	first := w.newest()
	change := func(q string) {
		t.Helper()
		require.NoError(t, lampblack.Execute(t.Context(), w.path("htdocs", lampblack.DatabaseFile), q))
	}
	change("INSERT INTO remarks VALUES (9, 2, 'Eve', 'written since')")
	change("UPDATE pages SET title = 'edited since' WHERE slug = 'history'")
	want := contentOf(t, w)
	change("DELETE FROM pages WHERE slug = 'visit'; DELETE FROM remarks WHERE id < 3")
	gone := contentOf(t, w)
	tree := snapshot(t, w.path("htdocs"), "data", "cache")
	status, _ := get(t, address+"/visit")
	require.Equal(t, 404, status)

	for _, c := range []struct {
		code  int
		words []string
		args  []string
	}{
		{2, []string{"TABLE:COLUMN=VALUE"}, []string{"--rows", "pages"}},
		{1, []string{`has no table "pagse"`, "opening_hours, pages"}, []string{"--rows", "pagse:id=2"}},
		{1, []string{`no column "slugs"`, "id, slug, title"}, []string{"--rows", "pages:slugs=visit"}},
		{1, []string{`no such row of pages where slug is "vist"`}, []string{"--rows", "pages:slug=vist"}},
		{1, []string{"remarks refer by page to rows of pages that are gone (2)", "next: add --rows pages:id=2"}, []string{"--rows", "remarks:id=1"}},
		{1, []string{"nothing of that is missing"}, []string{"--table", "users", "--mode", "fill"}},
		{2, []string{"choose one of --only database"}, []string{"--only", "database", "--table", "users"}},
	} {
		w.fails(c.code, c.words, append([]string{"restore", "kestrelpoint", "--yes"}, c.args...)...)
		assert.Equal(t, gone, contentOf(t, w), c.args)
	}
	w.clean()

	for range kills / 3 {
		w.interrupt(syscall.SIGKILL, 40*time.Millisecond, "restore", first, "--rows", "pages:slug=visit", "--yes")
		w.run("backup", "--scope", "database") // the next command finishes or reverts
		assert.NotContains(t, w.run("show", "kestrelpoint"), "rv_", "what is aside is not saved")
		assert.Contains(t, []string{want, gone}, contentOf(t, w))
		if w.try("undo", "kestrelpoint", "--yes").code == 0 {
			w.interrupt(syscall.SIGKILL, 20*time.Millisecond, "undo", "kestrelpoint", "--yes")
		}
		w.try("settle", "kestrelpoint", "--unsaved", "--yes")
		require.Equal(t, gone, contentOf(t, w))
		w.clean()
	}

	out := w.run("restore", first, "--rows", "pages:slug=visit", "--yes")
	for _, words := range []string{"rows of pages where slug is visit come back", "what is missing of it in remarks; later rows stay", "pages: 1 row put back", "remarks: 2 rows put back"} {
		assert.Contains(t, out, words)
	}
	assert.Equal(t, want, contentOf(t, w))
	assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data", "cache"), "no file is touched")
	_, page := get(t, address+"/visit")
	assert.Contains(t, page, "Bring a coat")
	assert.Contains(t, page, "written since")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	assert.Equal(t, want, contentOf(t, w))
	assert.NotContains(t, rows(t, w), "rv_old", "nothing is left in the file")

	// A picture and what is noted of it, in one go; several rows and paths.
	require.NoError(t, os.Remove(w.path("htdocs/uploads/2026/lens.svg")))
	change("DELETE FROM exhibits WHERE id < 3")
	w.run("restore", first, "--rows", "exhibits:id=1,id=2", "--path", "uploads/2026/{lens,horn}.svg", "--yes")
	assert.FileExists(t, w.path("htdocs/uploads/2026/lens.svg"))
	assert.Equal(t, want, contentOf(t, w))
	w.run("undo", "kestrelpoint", "--yes")
	assert.NoFileExists(t, w.path("htdocs/uploads/2026/lens.svg"))
	assert.NotContains(t, contentOf(t, w), "Two tonnes")
}

// keeping is a database of some make that a site has.
type keeping struct {
	config string
	exec   func(q string)
	query  func(q string) string
}

// world is one with a site of a page that has the database.
func (k keeping) world(t *testing.T) *world {
	w := newWorld(t)
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("htdocs/index.html", "a page")
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    stores: [here]\n    recipe: none\n    databases: {main: "+k.config+"}\n")
	return w
}

func keepings() map[string]func(t *testing.T) keeping {
	text := func(t *testing.T, rows *sql.Rows, err error) string {
		require.NoError(t, err)
		defer rows.Close()
		columns, err := rows.Columns()
		require.NoError(t, err)
		out := ""
		for rows.Next() {
			values, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
			for i := range values {
				into[i] = &values[i]
			}
			require.NoError(t, rows.Scan(into...))
			out += fmt.Sprintln(values)
		}
		return out
	}
	mysql := func(grant string) func(t *testing.T) keeping {
		return func(t *testing.T) keeping {
			s := ownMariadb(t)
			s.exec(t, "CREATE DATABASE shares; CREATE USER shares@'127.0.0.1'; GRANT ALL ON shares.* TO shares@'127.0.0.1';"+grant)
			return keeping{fmt.Sprintf(`{mysql: "shares@127.0.0.1:%d/shares"}`, s.port),
				func(q string) { s.exec(t, "USE shares;"+q) },
				func(q string) string {
					conn, err := s.root.Conn(t.Context())
					require.NoError(t, err)
					defer conn.Close()
					_, err = conn.ExecContext(t.Context(), "USE shares")
					require.NoError(t, err)
					rows, err := conn.QueryContext(t.Context(), q)
					return text(t, rows, err)
				}}
		}
	}
	return map[string]func(t *testing.T) keeping{
		"sqlite": func(t *testing.T) keeping {
			file := t.TempDir() + "/shares.db"
			db, err := sql.Open("sqlite", "file:"+file)
			require.NoError(t, err)
			t.Cleanup(func() { _ = db.Close() })
			return keeping{`{sqlite: "` + file + `"}`, func(q string) {
				_, err := db.Exec(q)
				require.NoError(t, err, q)
			}, func(q string) string {
				rows, err := db.Query(q)
				return text(t, rows, err)
			}}
		},
		"mysql, one database":        mysql(""),
		"mysql, may make databases":  mysql("GRANT ALL ON `rv\\_%`.* TO shares@'127.0.0.1'"),
		"mysql, without transaction": mysql("SET GLOBAL default_storage_engine = MyISAM"),
		"postgres": func(t *testing.T) keeping {
			s := postgres(t)
			s.exec(t, "postgres", "CREATE DATABASE shares")
			return keeping{fmt.Sprintf(`{postgres: "postgres@127.0.0.1:%d/shares"}`, s.Port),
				func(q string) { s.exec(t, "shares", q) },
				func(q string) string {
					conn, err := s.Root(t.Context(), "shares")
					require.NoError(t, err)
					defer conn.Close(context.Background())
					rows, err := conn.Query(t.Context(), q)
					require.NoError(t, err)
					out := ""
					for rows.Next() {
						values, err := rows.Values()
						require.NoError(t, err)
						out += fmt.Sprintln(values)
					}
					require.NoError(t, rows.Err())
					return out
				}}
		},
	}
}

// Tables and rows go back the same way into every make: parents are not taken
// from under their children, keys are not taken from other rows, and undo brings
// back what was there.
func TestSharesOfEveryMake(t *testing.T) {
	t.Parallel()
	for name, open := range keepings() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			db := open(t)
			testShares(t, name, db)
		})
	}
}

func testShares(t *testing.T, make string, db keeping) {
	w := db.world(t)
	db.exec(`CREATE TABLE people (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL UNIQUE);
		CREATE TABLE pages (id INTEGER PRIMARY KEY, author INTEGER REFERENCES people (id), title VARCHAR(80) NOT NULL);
		CREATE TABLE notes (page INTEGER NOT NULL, nr INTEGER NOT NULL, words VARCHAR(80), PRIMARY KEY (page, nr), FOREIGN KEY (page) REFERENCES pages (id) ON DELETE CASCADE);
		CREATE TABLE visits (line VARCHAR(80));
		INSERT INTO people VALUES (1, 'Marrow'), (2, 'Tull');
		INSERT INTO pages VALUES (1, 1, 'First'), (2, 1, 'Second'), (3, 2, 'it''s \ "odd"'), (4, NULL, '');
		INSERT INTO notes VALUES (1, 1, 'a'), (1, 2, NULL), (2, 1, 'b'), (3, 1, 'c');
		INSERT INTO visits VALUES ('x'), ('x'), (NULL)`)
	w.run("backup")
	foreign := !strings.Contains(make, "without")
	state := func() string {
		return db.query("SELECT * FROM people ORDER BY id") + db.query("SELECT * FROM pages ORDER BY id") + db.query("SELECT * FROM notes ORDER BY page, nr") + db.query("SELECT line FROM visits ORDER BY line")
	}
	archived := state()
	// puts back what is asked for, compares, and takes it back.
	puts := func(want string, args ...string) {
		t.Helper()
		before := state()
		w.run(append([]string{"restore", "kestrelpoint", "--yes"}, args...)...)
		assert.Equal(t, want, state(), args)
		w.run("undo", "kestrelpoint", "--yes")
		assert.Equal(t, before, state(), "undo %v", args)
	}
	refuses := func(words []string, args ...string) {
		t.Helper()
		before := state()
		w.fails(1, words, append([]string{"restore", "kestrelpoint", "--yes"}, args...)...)
		assert.Equal(t, before, state(), args)
	}

	db.exec("DELETE FROM notes WHERE page = 1; DELETE FROM pages WHERE id = 1")
	if foreign {
		refuses([]string{"notes refer by page to rows of pages that are gone (1)", "next: add --rows pages:id=1"}, "--rows", "notes:page=1")
	}
	puts(archived, "--rows", "notes:page=1,pages:id=1")
	puts(archived, "--table", "notes", "--table", "pages")
	puts(archived, "--table", "notes", "--table", "pages", "--mode", "fill")
	gone := state()
	for range kills / 8 {
		w.interrupt(syscall.SIGKILL, 120*time.Millisecond, "restore", "kestrelpoint", "--rows", "pages:id=1,notes:page=1", "--yes")
		if foreign {
			assert.Contains(t, []string{gone, archived}, state(), "it happens as a whole")
		}
		w.try("undo", "kestrelpoint", "--yes")
		assert.Equal(t, gone, state())
	}
	w.run("restore", "kestrelpoint", "--rows", "pages:id=1,notes:page=1", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	assert.Equal(t, archived, state())

	// Replaced parents keep their children; other rows keep what they have.
	db.exec("UPDATE pages SET title = 'defaced'; UPDATE people SET name = 'Penhale' WHERE id = 2")
	puts(strings.Replace(archived, "Tull", "Penhale", 1), "--table", "pages")
	w.run("restore", "kestrelpoint", "--table", "pages", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	db.exec("UPDATE people SET name = 'Tull' WHERE id = 2")
	assert.Equal(t, archived, state())

	db.exec("INSERT INTO people VALUES (3, 'Eve'); INSERT INTO pages VALUES (5, 3, 'since')")
	if foreign {
		refuses([]string{"1 rows of pages refer by author to rows of people that the archive does not have", "--mode fill"}, "--table", "people")
	}
	puts(archived, "--table", "people", "--table", "pages")
	db.exec("DELETE FROM pages WHERE id = 5; DELETE FROM people WHERE id = 3")

	// What was written since under a key, or a unique value, of a row that comes back
	// gives way, and is counted.
	db.exec("INSERT INTO people VALUES (3, 'Eve')")
	before := state()
	w.run("restore", "kestrelpoint", "--table", "people", "--yes")
	db.exec("INSERT INTO people VALUES (3, 'Ida'), (4, 'Eve'), (5, 'Nora')")
	assert.Contains(t, w.run("undo", "kestrelpoint", "--yes"), "note: 2 rows of table people were written since, and give way")
	db.exec("DELETE FROM people WHERE id = 5")
	assert.Equal(t, before, state())
	db.exec("DELETE FROM people WHERE id = 3; UPDATE pages SET title = 'taken' WHERE id = 2")
	refuses([]string{"1 rows of pages cannot come back: their keys (id = 2) belong to other rows now"}, "--rows", "pages:title=Second")
	db.exec("UPDATE pages SET title = 'Second' WHERE id = 2")

	// Without a key, a table comes back whole or not at all.
	db.exec("DELETE FROM visits; INSERT INTO visits VALUES ('planted')")
	refuses([]string{"visits has no primary key", "--table visits"}, "--rows", "visits:line=x")
	refuses([]string{"visits has no primary key"}, "--table", "visits", "--mode", "fill")
	puts(archived, "--table", "visits")
	w.run("restore", "kestrelpoint", "--table", "visits", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	assert.Equal(t, archived, state())

	db.exec("DROP TABLE visits")
	if make == "postgres" {
		w.fails(1, []string{"visits", "is gone", "the site is unchanged"}, "restore", "kestrelpoint", "--table", "visits", "--yes")
		db.exec("CREATE TABLE visits (line VARCHAR(80))")
	}
	w.run("restore", "kestrelpoint", "--table", "visits", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	assert.Equal(t, archived, state())
	changedColumns(t, make, db, w)
	db.exec("ALTER TABLE people RENAME COLUMN name TO called")
	w.fails(1, []string{"people has no column name now", "extract"}, "restore", "kestrelpoint", "--table", "people", "--yes")
	w.clean()
}

// Columns that an update has made narrower, or of another type, get no value that is cut, rounded or made a number.
func changedColumns(t *testing.T, make string, db keeping, w *world) {
	t.Helper()
	table := func(code, share string) {
		db.exec("DROP TABLE IF EXISTS rates; CREATE TABLE rates (id INTEGER PRIMARY KEY, code " + code + ", share " + share + ")")
	}
	table("VARCHAR(9)", "NUMERIC(6,2)")
	db.exec("INSERT INTO rates VALUES (1, '007', 1.25), (2, NULL, NULL)")
	w.run("backup")
	archived := db.query("SELECT * FROM rates WHERE id = 1")
	for _, c := range []struct {
		code, share string
		fits        bool
	}{
		{"VARCHAR(20)", "NUMERIC(8,2)", true}, {"VARCHAR(3)", "NUMERIC(6,2)", true},
		{"VARCHAR(2)", "NUMERIC(6,2)", make == "sqlite"}, {"VARCHAR(9)", "NUMERIC(6,0)", make == "sqlite"}, {"INTEGER", "NUMERIC(6,2)", false},
	} {
		table(c.code, c.share)
		for _, how := range [][]string{{"--rows", "rates:id=1"}, {"--table", "rates"}, {"--table", "rates", "--mode", "fill"}} {
			args := append([]string{"restore", "kestrelpoint", "--yes"}, how...)
			if !c.fits {
				w.fails(1, []string{"rates", "do not fit", "next: restore the whole database", "the site is unchanged"}, args...)
				assert.Empty(t, db.query("SELECT * FROM rates"), c)
				continue
			}
			w.run(args...)
			assert.Equal(t, archived, db.query("SELECT * FROM rates WHERE id = 1"), c)
			w.run("undo", "kestrelpoint", "--yes")
		}
	}
	db.exec("DROP TABLE rates")
}
