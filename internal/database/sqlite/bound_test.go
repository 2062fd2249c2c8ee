package sqlite

import (
	"database/sql"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

// A file of some pages whose definitions make a gigabyte of a row took 3.5 GB when it was loaded and proved.
func TestDefinitionsThatMakeMuch(t *testing.T) {
	const much = "length(hex(zeroblob(40000000))) > 0"
	for name, made := range map[string]string{
		"a check":                    "CREATE TABLE t (a INT CHECK (" + much + ")); PRAGMA ignore_check_constraints = ON; INSERT INTO t VALUES (1)",
		"a stored column":            "PRAGMA writable_schema = ON; CREATE TABLE t (a INT); INSERT INTO t VALUES (1); UPDATE sqlite_schema SET sql = 'CREATE TABLE t (a INT, CHECK (" + much + "))'",
		"an index":                   "CREATE TABLE t (a INT); CREATE INDEX i ON t (length(hex(zeroblob(40000000)))); ",
		"an index over what is left": "CREATE TABLE t (a INT); CREATE INDEX i ON t (a) WHERE " + much,
	} {
		file := filepath.Join(t.TempDir(), "museum.db")
		db, err := sql.Open("sqlite", dsn(file, ""))
		require.NoError(t, err)
		db.SetMaxOpenConns(1)
		_, err = db.Exec(made)
		require.NoError(t, err, name)
		if strings.HasPrefix(name, "an index") {
			_, err = db.Exec("INSERT INTO t VALUES (1)")
			require.NoError(t, err, name)
		}
		require.NoError(t, db.Close())
		units, texts, _ := dumpAll(t, file)
		target := ForRestore(Config{Path: file, Disk: &disk.Disk{}, Beside: filepath.Join(t.TempDir(), "box")})
		p := target.Plan("1")
		require.NoError(t, target.Prepare(t.Context(), p, nil))
		var failed error
		for i, u := range units {
			if _, err := target.Load(t.Context(), p, u, strings.NewReader(texts[i])); err != nil {
				failed = err
				break
			}
		}
		assert.ErrorContains(t, failed, "too big", name)
	}
	file := filepath.Join(t.TempDir(), "museum.db")
	db, err := sql.Open("sqlite", dsn(file, ""))
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE options (name TEXT, value TEXT); CREATE VIEW seen AS SELECT 'home' AS name, hex(zeroblob(40000000)) AS value")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	at, err := Open(t.Context(), Config{Path: file, Disk: &disk.Disk{}})
	require.NoError(t, err)
	defer at.Close()
	_, err = at.Lookup(t.Context(), "seen", "value", "name", "home")
	assert.ErrorContains(t, err, "too big")
}

// What a file really holds is no matter of the bound: not in its log either, beside which it may be small.
func TestALargeValueIsNotTooMuch(t *testing.T) {
	file := filepath.Join(t.TempDir(), "museum.db")
	db, err := sql.Open("sqlite", dsn(file, "_pragma=journal_mode(WAL)&_pragma=wal_autocheckpoint(0)"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("CREATE TABLE t (a BLOB CHECK (length(hex(a)) > 0)); INSERT INTO t VALUES (zeroblob(34000000))")
	require.NoError(t, err)
	units, texts, rows := dumpAll(t, file)
	copied := filepath.Join(t.TempDir(), "copy.db")
	restore(t, copied, units, texts, rows)
	again, err := sql.Open("sqlite", dsn(copied, "mode=ro"))
	require.NoError(t, err)
	defer again.Close()
	var length int
	require.NoError(t, again.QueryRow("SELECT length(a) FROM t").Scan(&length))
	assert.Equal(t, 34_000_000, length)
}
