package sqlite

import (
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
)

const museum = `
CREATE TABLE users (id INTEGER PRIMARY KEY, name TEXT);
CREATE TABLE pages (id INTEGER PRIMARY KEY, slug TEXT UNIQUE, author INT REFERENCES users (id));
CREATE TABLE remarks (id INTEGER PRIMARY KEY, page INT REFERENCES pages (id) ON DELETE CASCADE, text TEXT);
CREATE TABLE edits (id INTEGER PRIMARY KEY, page INT);
INSERT INTO edits VALUES (1, 3);
CREATE TABLE log (day TEXT, entry TEXT);
CREATE TABLE "odd ""name""" (k TEXT PRIMARY KEY, v BLOB);
INSERT INTO users VALUES (1, 'keeper'), (2, 'volunteer');
INSERT INTO pages VALUES (1, 'home', 1), (2, 'visit', 2), (3, 'lens', 1);
INSERT INTO remarks VALUES (1, 2, 'first'), (2, 2, 'second'), (3, 3, 'third');
INSERT INTO log VALUES ('mon', 'a'), ('mon', 'a'), ('tue', 'b');
INSERT INTO "odd ""name""" VALUES ('a', x'00ff'), ('b', 'it''s');`

var relations = []database.Relation{
	{From: "pages", FromColumn: "id", Table: "remarks", Column: "page", Keep: true},
	{From: "pages", FromColumn: "author", Table: "users", Column: "id", Parent: true},
	{From: "remarks", FromColumn: "page", Table: "pages", Column: "id", Parent: true},
	{From: "edits", FromColumn: "page", Table: "pages", Column: "id", Parent: true},
}

// shares is a museum's database that was saved, and what has happened since.
type shares struct {
	t      *testing.T
	file   string
	target *Database
	plan   *database.Plan
}

func run(t *testing.T, file, statements string) {
	t.Helper()
	db, err := sql.Open("sqlite", dsn(file, ""))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(statements)
	require.NoError(t, err)
}

// begin saves the museum, lets since happen, stages a share and selects its rows.
func begin(t *testing.T, since string, s database.RowSelection) (*shares, error) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "museum.db")
	run(t, file, museum)
	units, texts, _ := dumpAll(t, file)
	for _, u := range units {
		if u.Kind == database.Rows {
			s.Archived = append(s.Archived, u.Table)
		}
	}
	run(t, file, since)
	box := filepath.Join(filepath.Dir(file), ".revlet-box")
	c := &shares{t: t, file: file, target: ForRestore(Config{Path: file, Disk: &disk.Disk{}, Beside: box, Mode: FileMode{Perm: 0o640, UID: os.Getuid(), GID: os.Getgid()}})}
	c.plan = c.target.Plan("1")
	c.plan.Rows = &database.RowPlan{Staged: s.Staged()}
	require.NoError(t, c.target.Prepare(t.Context(), c.plan, c.plan.Rows.Staged))
	for i, u := range units {
		_, err := c.target.Load(t.Context(), c.plan, u, strings.NewReader(texts[i]))
		require.NoError(t, err)
	}
	return c, c.target.Select(t.Context(), c.plan, s)
}

// content is every row of every table that is the museum's own.
func (c *shares) content() string {
	c.t.Helper()
	units, texts, _ := dumpAll(c.t, c.file)
	var all strings.Builder
	for i, u := range units {
		if u.Kind == database.Rows && !strings.HasPrefix(u.Table, asidePrefix) {
			all.WriteString(texts[i])
		}
	}
	return all.String()
}

// values are the first column of a query's rows.
func (c *shares) values(query string) string {
	c.t.Helper()
	db, err := sql.Open("sqlite", dsn(c.file, ""))
	require.NoError(c.t, err)
	defer db.Close()
	rows, err := db.Query(query)
	require.NoError(c.t, err)
	defer rows.Close()
	var all []string
	for rows.Next() {
		var v string
		require.NoError(c.t, rows.Scan(&v))
		all = append(all, v)
	}
	require.NoError(c.t, rows.Err())
	return strings.Join(all, " ")
}

func TestSharesOfRows(t *testing.T) {
	for name, c := range map[string]struct {
		since     string
		selection database.RowSelection
		query     string
		want      string
	}{
		"a page with its remarks; a later one stays": {"DELETE FROM remarks WHERE page = 2; DELETE FROM pages WHERE id = 2; INSERT INTO remarks VALUES (9, 3, 'later')",
			database.RowSelection{Rows: []database.RowPick{{Table: "pages", Column: "slug", Value: "visit"}}},
			"SELECT text FROM remarks ORDER BY id", "first second third later"},
		"a remark that was changed stays as it is now": {"DELETE FROM remarks WHERE id = 1; UPDATE remarks SET text = 'edited' WHERE id = 2; UPDATE pages SET slug = 'moved' WHERE id = 2",
			database.RowSelection{Rows: []database.RowPick{{Table: "pages", Column: "id", Value: "2"}}},
			"SELECT text FROM remarks ORDER BY id", "first edited third"},
		"the row itself becomes the archive's": {"UPDATE pages SET slug = 'moved' WHERE id = 2",
			database.RowSelection{Rows: []database.RowPick{{Table: "pages", Column: "id", Value: "2"}}},
			"SELECT slug FROM pages ORDER BY id", "home visit lens"},
		"a table becomes exactly the archive's": {"DELETE FROM users WHERE id = 2; INSERT INTO users VALUES (7, 'new')",
			database.RowSelection{Tables: []string{"users"}}, "SELECT name FROM users ORDER BY id", "keeper volunteer"},
		"a table is filled": {"DELETE FROM users WHERE id = 2; INSERT INTO users VALUES (7, 'new'); UPDATE users SET name = 'changed' WHERE id = 1",
			database.RowSelection{Tables: []string{"users"}, Fill: true}, "SELECT name FROM users ORDER BY id", "changed volunteer new"},
		"a table without a key, whole": {"DELETE FROM log", database.RowSelection{Tables: []string{"log"}}, "SELECT day FROM log ORDER BY day", "mon mon tue"},
		"a table that is gone is made": {"DROP TABLE log", database.RowSelection{Tables: []string{"log"}}, "SELECT entry FROM log ORDER BY entry", "a a b"},
		"an odd name":                  {`UPDATE "odd ""name""" SET v = 'x'`, database.RowSelection{Tables: []string{`odd "name"`}}, `SELECT hex(v) FROM "odd ""name""" ORDER BY k`, "00FF 69742773"},
		"parents keep their children":  {"INSERT INTO remarks VALUES (9, 1, 'later')", database.RowSelection{Tables: []string{"pages"}}, "SELECT text FROM remarks ORDER BY id", "first second third later"},
		"without its parent, asked for": {"DELETE FROM edits WHERE id = 1; DELETE FROM pages WHERE id = 3; DELETE FROM remarks WHERE page = 3",
			database.RowSelection{Rows: []database.RowPick{{Table: "edits", Column: "id", Value: "1"}}, Anyway: true}, "SELECT id FROM edits", "1"},
	} {
		t.Run(name, func(t *testing.T) {
			c.selection.Relations = relations
			s, err := begin(t, c.since, c.selection)
			require.NoError(t, err)
			before := s.content()
			for range 2 { // the second time after a crash
				require.NoError(t, s.target.Swap(t.Context(), s.plan))
			}
			assert.Equal(t, c.want, s.values(c.query))
			for range 2 {
				require.NoError(t, s.target.Revert(t.Context(), s.plan))
			}
			assert.Equal(t, before, s.content(), "taken back to the byte")
			require.NoError(t, s.target.Swap(t.Context(), s.plan))
			assert.Equal(t, c.want, s.values(c.query), "and done again")
			require.NoError(t, s.target.DropAside(t.Context(), s.plan))
			require.NoError(t, s.target.DropStage(t.Context(), s.plan))
			assert.Empty(t, s.values("SELECT name FROM sqlite_schema WHERE name LIKE '"+asidePrefix+"%'"), "nothing is left over")
			assert.Equal(t, c.want, s.values(c.query))
		})
	}
}

func TestSharesThatDoNotFitAreRefusedWithAReason(t *testing.T) {
	page := database.RowSelection{Rows: []database.RowPick{{Table: "pages", Column: "id", Value: "2"}}}
	for name, c := range map[string]struct {
		since     string
		selection database.RowSelection
		why       reason.Reason
	}{
		"the author is gone":           {"DELETE FROM remarks; DELETE FROM pages WHERE id = 2; DELETE FROM users WHERE id = 2", page, reason.ParentsRequired},
		"what it is of is gone":        {"DELETE FROM edits; DELETE FROM remarks; DELETE FROM pages WHERE id = 3", database.RowSelection{Rows: []database.RowPick{{Table: "edits", Column: "id", Value: "1"}}}, reason.ParentsGone},
		"a column is gone":             {"DELETE FROM remarks; ALTER TABLE pages DROP COLUMN author", page, reason.ColumnGone},
		"rows without a key":           {"DELETE FROM log", database.RowSelection{Rows: []database.RowPick{{Table: "log", Column: "day", Value: "mon"}}}, reason.NoPrimaryKey},
		"still referred to":            {"INSERT INTO pages VALUES (9, 'new', 1); INSERT INTO remarks VALUES (9, 9, 'of the new page')", database.RowSelection{Tables: []string{"pages"}}, reason.StillReferred},
		"a remark's number is another": {"DELETE FROM remarks; INSERT INTO remarks VALUES (1, 3, 'of another page')", page, reason.KeysTaken},
	} {
		t.Run(name, func(t *testing.T) {
			c.selection.Relations = relations
			s, err := begin(t, c.since, c.selection)
			var before string
			if err == nil {
				before = s.content()
				err = s.target.Swap(t.Context(), s.plan)
				assert.Equal(t, before, s.content(), "nothing was changed")
			}
			require.Error(t, err)
			assert.True(t, reason.Is(err, c.why), "%v", err)
		})
	}
}
