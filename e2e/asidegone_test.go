package e2e

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// keptTables are queries for the tables that a restore has set aside, by the make of the database.
var keptTables = map[string]string{
	"sqlite":   "SELECT name FROM sqlite_master WHERE type = 'table' AND name LIKE 'rv\\_old\\_%' ESCAPE '\\'",
	"mysql":    "SELECT CONCAT(TABLE_SCHEMA, '.', TABLE_NAME) FROM information_schema.TABLES WHERE TABLE_SCHEMA LIKE 'rv\\_old%' OR TABLE_NAME LIKE 'rv\\_old%'",
	"postgres": "SELECT schemaname || '.' || tablename FROM pg_tables WHERE schemaname LIKE 'rv\\_old%'",
}

// An undo for which something is lacking does not begin: it would close the site, or call what it has not done undone. Neither
// does its dry run promise it. What is left can be settled.
func TestUndoNeedsWhatWasSetAside(t *testing.T) {
	t.Parallel()
	for name, open := range keepings() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			db := open(t)
			w := db.world(t)
			kind, _, _ := strings.Cut(name, ",")
			exec, query := db.exec, db.query
			if kind == "sqlite" { // a file that changes places is opened anew
				exec, query = freshly(t, regexp.MustCompile(`/[^"]+`).FindString(db.config))
			}
			exec("CREATE TABLE people (id INTEGER PRIMARY KEY, name VARCHAR(40)); CREATE TABLE pages (id INTEGER PRIMARY KEY, title VARCHAR(80)); INSERT INTO people VALUES (1, 'Marrow'); INSERT INTO pages VALUES (1, 'First')")
			w.run("backup")
			table := "pages"
			content := func() string { return query("SELECT * FROM "+table) + w.read("htdocs/index.html") }
			lacking := func(what string, take func(), restore ...string) {
				t.Helper()
				exec("UPDATE pages SET title = 'defaced'")
				w.write("htdocs/index.html", "defaced")
				w.run(append([]string{"restore", "kestrelpoint", "--yes"}, restore...)...)
				take()
				before := content()
				for _, line := range [][]string{{"undo", "kestrelpoint", "--dry-run"}, {"undo", "kestrelpoint", "--yes"}} {
					r := w.fails(1, []string{"what was set aside is not all there any more", "next: look at the site; `revlet settle kestrelpoint` forgets that restore"}, line...)
					assert.NotContains(t, r.out, "Undone", what)
					assert.NotContains(t, r.out, "nothing was changed", what)
				}
				assert.Equal(t, before, content(), what)
				assert.Contains(t, w.run("aside", "list"), "what was set aside is not all there any more")
				assert.Contains(t, w.try("settle", "kestrelpoint", "--dry-run").err, "what was set aside is not all there any more")
				w.run("settle", "kestrelpoint", "--unsaved", "--yes")
				assert.Equal(t, before, content(), what)
			}
			kept := func() []string {
				return regexp.MustCompile(`\w*\.?rv_old\w*(\.\w+)?`).FindAllString(query(keptTables[kind]), -1)
			}
			drop := func(i int) func() {
				return func() {
					all := kept()
					slices.Sort(all)
					require.Greater(t, len(all), i)
					exec("DROP TABLE " + all[i])
				}
			}
			if kind == "sqlite" {
				lacking("the file", func() {
					files, err := filepath.Glob(filepath.Join(filepath.Dir(regexp.MustCompile(`/[^"]+`).FindString(db.config)), ".revlet-*/old-*.db"))
					require.NoError(t, err)
					require.Len(t, files, 1)
					require.NoError(t, os.Remove(files[0]))
				})
			} else {
				for i := range 2 {
					lacking(fmt.Sprintf("table %d of a whole", i), drop(i))
				}
			}
			for i := range 3 {
				lacking(fmt.Sprintf("table %d of a share", i), drop(i), "--table", "pages")
			}
			lacking("the table itself", func() { exec("DROP TABLE pages"); table = "people" }, "--table", "pages")
		})
	}
}

// freshly runs statements and queries on a file of SQLite's that is opened for each.
func freshly(t *testing.T, file string) (exec func(string), query func(string) string) {
	open := func(work func(db *sql.DB)) {
		db, err := sql.Open("sqlite", "file:"+file)
		require.NoError(t, err)
		work(db)
		require.NoError(t, db.Close())
	}
	exec = func(q string) {
		open(func(db *sql.DB) {
			_, err := db.ExecContext(t.Context(), q)
			require.NoError(t, err, q)
		})
	}
	query = func(q string) (out string) {
		open(func(db *sql.DB) {
			rows, err := db.QueryContext(t.Context(), q)
			require.NoError(t, err, q)
			defer rows.Close()
			for rows.Next() {
				var columns []string
				if columns, err = rows.Columns(); err == nil {
					values, into := make([]string, len(columns)), make([]any, len(columns))
					for i := range values {
						into[i] = &values[i]
					}
					err = rows.Scan(into...)
					out += fmt.Sprintln(values)
				}
				require.NoError(t, err)
			}
			require.NoError(t, rows.Err())
		})
		return out
	}
	return exec, query
}

// The same of files: of a webroot, of one that is a mount point, of one on another machine.
func TestUndoNeedsTheFilesThatWereSetAside(t *testing.T) {
	t.Parallel()
	lacking := func(t *testing.T, w *world, boxes string) {
		t.Helper()
		w.write("htdocs/index.html", "defaced")
		w.write("htdocs/planted.php", "evil")
		w.run("restore", "kestrelpoint", "--yes")
		was, err := filepath.Glob(boxes)
		require.NoError(t, err)
		require.Len(t, was, 1)
		hidden := filepath.Join(t.TempDir(), "hidden")
		require.NoError(t, os.Rename(was[0], hidden))
		for _, line := range [][]string{{"undo", "kestrelpoint", "--dry-run"}, {"undo", "kestrelpoint", "--yes"}} {
			r := w.fails(1, []string{"next: look at the site; `revlet settle kestrelpoint` forgets that restore"}, line...)
			assert.NotContains(t, r.out, "nothing was changed")
		}
		assert.Equal(t, "a page", w.read("htdocs/index.html"))
		assert.Contains(t, w.run("aside", "list"), "cannot be told")
		require.NoError(t, os.Rename(hidden, was[0]))
		w.run("undo", "kestrelpoint", "--dry-run")
		w.run("undo", "kestrelpoint", "--yes")
		assert.Equal(t, "defaced", w.read("htdocs/index.html"))
		assert.Equal(t, "evil", w.read("htdocs/planted.php"))
	}
	t.Run("here", func(t *testing.T) {
		w := plain(t)
		w.write("htdocs/index.html", "a page")
		w.run("backup")
		lacking(t, w, w.path(".revlet-*/old"))
	})
	t.Run("elsewhere", func(t *testing.T) {
		w, root := farMuseum(t)
		require.NoError(t, os.RemoveAll(w.path("htdocs")))
		w.write("htdocs/index.html", "a page")
		require.NoError(t, os.MkdirAll(w.path("archives"), 0o700))
		w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: %q, recipe: none, stores: [here], reach: {key_file: %q}}\n", root, w.path("ssh/id")))
		w.run("preflight", "--trust")
		w.run("backup")
		lacking(t, w, w.path(".revlet-*/old"))
	})
}

// A table that somebody drops while others are loaded beside it is not taken for one that is live already: a site must not
// come to be of two times.
func TestWhatIsMadeReadyIsStillThere(t *testing.T) {
	t.Parallel()
	rows := map[string]string{
		"mysql":    "INSERT INTO visits SELECT seq, REPEAT('fog ', 50) FROM seq_1_to_150000",
		"postgres": "INSERT INTO visits SELECT n, repeat('fog ', 50) FROM generate_series(1, 150000) n",
	}
	staged := map[string]string{
		"mysql":    "SELECT CONCAT(TABLE_SCHEMA, '.', TABLE_NAME) FROM information_schema.TABLES WHERE TABLE_SCHEMA LIKE 'rv\\_new%' AND TABLE_NAME = 'pages'",
		"postgres": "SELECT schemaname || '.' || tablename FROM pg_tables WHERE schemaname LIKE 'rv\\_new%' AND tablename = 'pages'",
	}
	for _, name := range []string{"mysql, may make databases", "postgres"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			db := keepings()[name](t)
			kind, _, _ := strings.Cut(name, ",")
			w := db.world(t)
			db.exec("CREATE TABLE pages (id INTEGER PRIMARY KEY, title VARCHAR(80)); CREATE TABLE visits (id INTEGER PRIMARY KEY, words VARCHAR(400)); INSERT INTO pages VALUES (1, 'First')")
			db.exec(rows[kind])
			w.run("backup")
			db.exec("UPDATE pages SET title = 'defaced'; DELETE FROM visits WHERE id > 5")
			w.write("htdocs/index.html", "defaced")
			before := func() string {
				return db.query("SELECT * FROM pages") + db.query("SELECT COUNT(*) FROM visits") + w.read("htdocs/index.html")
			}
			was := before()
			cmd := w.command("restore", "kestrelpoint", "--yes")
			var said lockedBuffer
			cmd.Stdout, cmd.Stderr = &said, &said
			require.NoError(t, cmd.Start())
			found := regexp.MustCompile(`rv_new\w*\.pages`)
			var table string
			require.Eventually(t, func() bool { table = found.FindString(db.query(staged[kind])); return table != "" }, 20*time.Second, 2*time.Millisecond)
			require.Eventually(t, func() bool { return strings.Contains(db.query("SELECT COUNT(*) FROM "+table), "1") }, 20*time.Second, 2*time.Millisecond)
			db.exec("DROP TABLE " + table)
			require.Error(t, cmd.Wait(), said.String())
			if kind == "mysql" { // a primary key that cannot be made tells as well
				assert.Contains(t, said.String(), "what was made ready is not all there any more")
			}
			assert.Contains(t, said.String(), "the site is unchanged")
			assert.Equal(t, was, before())
			w.run("restore", "kestrelpoint", "--yes")
			assert.Contains(t, before(), "First")
		})
	}
}

// Tables that somebody else has in use are not waited for with the site closed: nothing begins, and that is said.
func TestAnExchangeThatWouldHaveToWait(t *testing.T) {
	t.Parallel()
	hold := map[string]string{
		"mysql":    "START TRANSACTION; SELECT * FROM pages; DO SLEEP(40)",
		"postgres": "BEGIN; UPDATE pages SET title = title; SELECT pg_sleep(40); COMMIT",
	}
	for _, name := range []string{"mysql, may make databases", "postgres"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			db := keepings()[name](t)
			kind, _, _ := strings.Cut(name, ",")
			w := db.world(t)
			db.exec("CREATE TABLE pages (id INTEGER PRIMARY KEY, title VARCHAR(80)); INSERT INTO pages VALUES (1, 'First')")
			w.run("backup")
			w.run("restore", "kestrelpoint", "--yes")
			db.exec("UPDATE pages SET title = 'defaced'")
			w.write("htdocs/index.html", "defaced")
			ended := make(chan struct{})
			go func() {
				defer close(ended)
				db.exec(hold[kind])
			}()
			time.Sleep(500 * time.Millisecond)
			r := w.fails(1, []string{"somebody else has had tables of database shares in use", "the site is unchanged", "next: try again when that has ended"}, "restore", "kestrelpoint", "--yes")
			assert.NotContains(t, r.out, "Restored")
			began := time.Now()
			w.run("undo", "kestrelpoint", "--dry-run")
			w.run("aside", "list")
			assert.Less(t, time.Since(began), 8*time.Second, "who only looks locks nothing")
			w.fails(1, []string{"somebody else has had tables"}, "undo", "kestrelpoint", "--yes")
			if kind == "postgres" { // rows wait for those who write
				w.fails(1, []string{"somebody else has had tables", "the site is unchanged"}, "restore", "kestrelpoint", "--table", "pages", "--yes")
			}
			assert.Contains(t, db.query("SELECT * FROM pages"), "defaced")
			assert.Equal(t, "defaced", w.read("htdocs/index.html"))
			<-ended
			w.run("restore", "kestrelpoint", "--yes")
			assert.Contains(t, db.query("SELECT * FROM pages"), "First")
			w.run("undo", "kestrelpoint", "--yes")
			assert.Contains(t, db.query("SELECT * FROM pages"), "defaced")
		})
	}
}
