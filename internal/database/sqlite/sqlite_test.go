package sqlite

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
	"revlet/internal/database/sqltext/sqltexttest"
	"revlet/internal/platform/disk"
)

const everything = `
PRAGMA application_id = 1871; PRAGMA user_version = 7;
CREATE TABLE plain (a, b TEXT, c REAL, d BLOB, e INTEGER);
CREATE TABLE keyed (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT COLLATE NOCASE UNIQUE, up INT GENERATED ALWAYS AS (length(name)) STORED, v GENERATED ALWAYS AS (id * 2), CHECK (length(name) < 99));
CREATE TABLE flat (k TEXT, n INT, v, PRIMARY KEY (k, n)) WITHOUT ROWID, STRICT_;
CREATE TABLE "odd ""name""; -- 'x'" ("select" INT, [a b] TEXT, rowid TEXT);
CREATE TABLE parent (id INTEGER PRIMARY KEY, child INT REFERENCES child (id)); CREATE TABLE child (id INTEGER PRIMARY KEY, parent INT REFERENCES parent (id) ON DELETE CASCADE);
CREATE TABLE empty (a);
CREATE VIRTUAL TABLE search USING fts5 (title, body, tokenize = 'porter');
CREATE INDEX partial ON keyed (name DESC) WHERE id > 1; CREATE UNIQUE INDEX expr ON plain (abs(e)) WHERE e IS NOT NULL;
CREATE VIEW top AS SELECT name, 'a;b' AS semi FROM keyed ORDER BY id LIMIT 2;
CREATE TRIGGER stamp AFTER INSERT ON keyed WHEN NEW.name <> ';' BEGIN INSERT INTO empty VALUES (NEW.name || ';'); DELETE FROM empty; END;
INSERT INTO keyed (id, name) VALUES (3, 'Lens'), (9, 'horn'); DELETE FROM keyed WHERE id = 9;
INSERT INTO flat VALUES ('b', 2, NULL), ('a', 10, x'00'), ('a', 9, 1.5);
INSERT INTO "odd ""name""; -- 'x'" VALUES (1, 'it''s; [x]', 'r');
INSERT INTO parent VALUES (1, 1); INSERT INTO child VALUES (1, 1);
INSERT INTO search VALUES ('The great lens', 'two tonnes of glass'), ('Fog', 'nineteen hours');
INSERT INTO plain (rowid, a) VALUES (-5, 'negative row number'), (1000000, NULL);`

// build makes a database with one of everything.
func build(t *testing.T, file, mode string) {
	pragma := "journal_mode(" + mode + ")"
	if strings.HasPrefix(mode, "UTF") {
		pragma = "encoding('" + mode + "')"
	}
	db, err := sql.Open("sqlite", dsn(file, "_pragma="+pragma))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(strings.Replace(everything, ", STRICT_", "", 1))
	require.NoError(t, err)
	for i, v := range []any{math.Inf(1), math.Inf(-1), math.Copysign(0, -1), 5e-324, 0.1, 1e22, int64(math.MinInt64), int64(math.MaxInt64), "nul\x00inside", "bad\xff\xfe", "line\nbreak';", []byte{}, []byte("\x00'\n"), ""} {
		_, err = db.Exec("INSERT INTO plain (a, b, e) VALUES (?, ?, ?)", v, fmt.Sprint(i), i)
		require.NoError(t, err)
	}
	// Text with a zero byte is text, not a blob.
	_, err = db.Exec("INSERT INTO plain (a) VALUES (CAST(x'610062' AS TEXT))")
	require.NoError(t, err)
}

// dumpAll writes every unit, by its name.
func dumpAll(t *testing.T, file string) (units []database.Unit, texts []string, rows []int64) {
	t.Helper()
	db, err := Open(t.Context(), Config{Path: file, Scratch: t.TempDir(), Disk: &disk.Disk{}})
	require.NoError(t, err)
	defer db.Close()
	s, err := db.Snapshot(t.Context())
	require.NoError(t, err)
	defer s.Close()
	for _, u := range s.Units() {
		var b bytes.Buffer
		n, err := s.Dump(t.Context(), u, &b)
		require.NoError(t, err)
		units, texts, rows = append(units, u), append(texts, b.String()), append(rows, n)
	}
	return units, texts, rows
}

// restore loads units beside a file and swaps.
func restore(t *testing.T, file string, units []database.Unit, texts []string, rows []int64) (*Database, *database.Plan) {
	t.Helper()
	box := filepath.Join(filepath.Dir(file), ".revlet-box")
	target := ForRestore(Config{Path: file, Disk: &disk.Disk{}, Beside: box, Mode: FileMode{Perm: 0o640, UID: os.Getuid(), GID: os.Getgid()}})
	p := target.Plan("1")
	require.NoError(t, target.Prepare(t.Context(), p, nil))
	for i, u := range units {
		n, err := target.Load(t.Context(), p, u, strings.NewReader(texts[i]))
		require.NoError(t, err, u.Table)
		assert.Equal(t, rows[i], n, u.Table)
	}
	require.NoError(t, target.Swap(t.Context(), p))
	return target, p
}

func TestEverythingComesBack(t *testing.T) {
	for _, mode := range []string{"wal", "delete", "UTF-16le", "UTF-16be"} {
		t.Run(mode, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "museum.db")
			build(t, file, mode)
			units, texts, rows := dumpAll(t, file)
			_, again, _ := dumpAll(t, file)
			assert.Equal(t, texts, again, "the same database gives the same text")

			broken, err := sql.Open("sqlite", dsn(file, ""))
			require.NoError(t, err)
			_, err = broken.Exec("DROP TABLE plain; DROP TABLE search; DELETE FROM keyed")
			require.NoError(t, err)
			require.NoError(t, broken.Close())
			_, bad, _ := dumpAll(t, file)

			target, p := restore(t, file, units, texts, rows)
			_, got, _ := dumpAll(t, file)
			assert.Equal(t, texts, got)
			info, err := os.Stat(file)
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())

			db, err := sql.Open("sqlite", dsn(file, ""))
			require.NoError(t, err)
			var found, version, next int
			require.NoError(t, db.QueryRow("SELECT count(*) FROM search WHERE search MATCH 'tonne'").Scan(&found), "the index of words works")
			require.NoError(t, db.QueryRow("PRAGMA user_version").Scan(&version))
			require.NoError(t, db.QueryRow("INSERT INTO keyed (name) VALUES ('next') RETURNING id").Scan(&next))
			assert.Equal(t, []int{1, 7, 10}, []int{found, version, next}, "a used number is not used again")
			var characters string
			require.NoError(t, db.QueryRow("SELECT unicode(a) || ' ' || length(CAST(a AS BLOB)) FROM plain WHERE typeof(a) = 'text' AND b = 8").Scan(&characters))
			assert.Equal(t, map[bool]string{true: "110 20", false: "110 10"}[strings.HasPrefix(mode, "UTF")], characters, "a zero byte ends no text")
			source, err := Open(t.Context(), Config{Path: file, Scratch: t.TempDir(), Disk: &disk.Disk{}})
			require.NoError(t, err)
			tables, err := source.Tables(t.Context())
			require.NoError(t, err)
			require.NoError(t, source.Close())
			assert.NotContains(t, tables, database.TableInfo{Name: "search"}, "its rows lie in other tables")
			assert.Contains(t, tables, database.TableInfo{Name: "search_content"})
			require.NoError(t, db.Close())

			require.NoError(t, target.Revert(t.Context(), p))
			_, got, _ = dumpAll(t, file)
			assert.Equal(t, bad, got)
			require.NoError(t, target.Revert(t.Context(), p), "again does nothing")
			_, got, _ = dumpAll(t, file)
			assert.Equal(t, bad, got)
		})
	}
}

// TestSavedWhileWritten: two rows always change together; no dump may see one
// changed and the other not, and no writer may be held up for long.
func TestSavedWhileWritten(t *testing.T) {
	for _, mode := range []string{"wal", "delete"} {
		t.Run(mode, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "museum.db")
			db, err := sql.Open("sqlite", dsn(file, "_pragma=journal_mode("+mode+")&_pragma=busy_timeout(5000)&_txlock=immediate"))
			require.NoError(t, err)
			defer db.Close()
			db.SetMaxOpenConns(1)
			_, err = db.Exec("CREATE TABLE a (n INT); CREATE TABLE b (n INT); INSERT INTO a VALUES (0); INSERT INTO b VALUES (0); CREATE TABLE padding AS WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c LIMIT 20000) SELECT x, hex(randomblob(40)) AS t FROM c")
			require.NoError(t, err)
			var writes atomic.Int64
			ctx, stop := context.WithCancel(t.Context())
			done := make(chan error, 1)
			go func() {
				for i := 1; ctx.Err() == nil; i++ {
					if _, err := db.Exec("BEGIN IMMEDIATE; UPDATE a SET n = ?1; UPDATE b SET n = ?1; COMMIT", i); err != nil && ctx.Err() == nil {
						done <- err
						return
					}
					writes.Add(1)
					time.Sleep(time.Millisecond)
				}
				done <- nil
			}()
			for range 5 {
				units, texts, _ := dumpAll(t, file)
				values := map[string]string{}
				for i, u := range units {
					if u.Table == "a" || u.Table == "b" {
						values[u.Table] = strings.ReplaceAll(texts[i], `"`+u.Table+`"`, "")
					}
				}
				assert.Equal(t, values["a"], values["b"], "one moment")
			}
			stop()
			require.NoError(t, <-done)
			assert.Positive(t, writes.Load())
		})
	}
}

func TestForeignStatementsAreRefused(t *testing.T) {
	rows := database.Unit{Kind: database.Rows, Table: "t"}
	for _, good := range []string{`INSERT INTO "t" (rowid, "a") VALUES` + "\n" + `(1,'it''s'),(2,CAST(x'00' AS TEXT)),(-3,9e999),(4,NULL)`, "BEGIN", "COMMIT"} {
		_, err := check(rows, good)
		assert.NoError(t, err, good)
	}
	for _, bad := range []string{
		`INSERT INTO "t" ("a") VALUES` + "\n" + `((SELECT secret FROM users))`,
		`INSERT INTO "t" ("a") VALUES` + "\n" + `(load_extension('x'))`,
		`INSERT INTO "other" ("a") VALUES` + "\n" + `(1)`,
		`INSERT INTO "t" ("a") SELECT 1`,
		`ATTACH DATABASE '/x' AS y`, `PRAGMA trusted_schema = ON`, `CREATE TABLE x (a)`, `DROP TABLE "t"`, `VACUUM INTO '/x'`,
	} {
		_, err := check(rows, bad)
		assert.ErrorIs(t, err, database.ErrForeignSQL, bad)
	}
	for _, bad := range []string{"CREATE TABLE a AS SELECT * FROM b", "SELECT writefile('x', 'y')", "INSERT INTO \"t\" (\"a\") VALUES\n(1)"} {
		_, err := check(database.Unit{Kind: database.Schema}, bad)
		assert.ErrorIs(t, err, database.ErrForeignSQL, bad)
	}
}

func TestWhatIsNoDatabaseIsRefused(t *testing.T) {
	file := filepath.Join(t.TempDir(), "museum.db")
	_, err := Open(t.Context(), Config{Path: file, Disk: &disk.Disk{}})
	assert.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, os.WriteFile(file, bytes.Repeat([]byte("not a database "), 400), 0o600))
	_, err = Open(t.Context(), Config{Path: file, Disk: &disk.Disk{}})
	require.Error(t, err)
	assert.Contains(t, err.Error(), file)
}

// A column that is not there was taken for a text: "its" value was its name.
func TestAColumnThatIsNotThere(t *testing.T) {
	file := filepath.Join(t.TempDir(), "museum.db")
	build(t, file, "DELETE")
	db, err := Open(t.Context(), Config{Path: file, Disk: &disk.Disk{}})
	require.NoError(t, err)
	defer db.Close()
	for _, c := range [][3]string{{"parent", "none", "id"}, {"parent", "child", "none"}, {"none", "a", "a"}} {
		_, err := db.Lookup(t.Context(), c[0], c[1], c[2], "1")
		assert.Error(t, err, c)
		assert.Error(t, db.Edit(t.Context(), database.Edit{Table: c[0], Set: map[string]string{c[1]: "x"}, Where: map[string]string{c[2]: "none"}}), c)
	}
	seen, err := db.Lookup(t.Context(), "plain", "b", "e", "0")
	require.NoError(t, err)
	assert.Equal(t, "0", seen)
}

func FuzzStatements(f *testing.F) {
	f.Add("CREATE TRIGGER t BEGIN SELECT ';'; END; -- x;\nSELECT [a;b];")
	f.Fuzz(func(t *testing.T, text string) {
		_ = eachStatement(strings.NewReader(text), func(string) error { return nil })
	})
}

// What takes the live file's place is durable before it does.
func TestTheStagedFileIsSyncedBeforeItIsPutInPlace(t *testing.T) {
	dir := t.TempDir()
	live := filepath.Join(dir, "live.sqlite")
	build(t, live, "delete")
	var calls []string
	d := &disk.Disk{Fault: func(op, path string) error {
		calls = append(calls, op+" "+filepath.Base(path))
		return nil
	}}
	db := ForRestore(Config{Path: live, Disk: d, Beside: filepath.Join(dir, "box")})
	p := db.Plan("7")
	require.NoError(t, os.MkdirAll(filepath.Dir(p.Stage), 0o700))
	require.NoError(t, os.WriteFile(p.Stage, []byte("staged"), 0o600))
	require.NoError(t, db.Swap(t.Context(), p))
	synced, moved := slices.Index(calls, "sync "+filepath.Base(p.Stage)), slices.Index(calls, "rename "+filepath.Base(live))
	require.GreaterOrEqual(t, synced, 0, calls)
	assert.Less(t, synced, moved, calls)
	data, err := os.ReadFile(live)
	require.NoError(t, err)
	assert.Equal(t, "staged", string(data))
}

func TestTheGateTakesLinearTime(t *testing.T) {
	sqltexttest.Linear(t, func(text string) {
		for _, kind := range []string{database.Schema, database.Rows, database.Objects} {
			_, _ = check(database.Unit{Kind: kind, Table: "t"}, text)
		}
	})
}
