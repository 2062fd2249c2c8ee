package postgres

import (
	"io"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
	"revlet/internal/platform/scratchserver"
)

// A table that was listed, and that its owner has made a view of since, is not read: what a view calls runs in the name of
// whoever reads it.
func TestAViewInATablesPlaceIsNotRead(t *testing.T) {
	if _, err := scratchserver.PostgresPrograms(); err != nil {
		t.Skip("no PostgreSQL server here")
	}
	dir, err := os.MkdirTemp("", "rvpg")
	require.NoError(t, err)
	s, err := scratchserver.StartPostgres(t.Context(), dir, scratchserver.Options{Listen: true, Trust: true})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Stop(); _ = os.RemoveAll(dir) })
	owner, err := s.Root(t.Context(), "postgres")
	require.NoError(t, err)
	defer owner.Close(t.Context())
	exec := func(q string) {
		_, err := owner.Exec(t.Context(), q)
		require.NoError(t, err, q)
	}
	var knows bool
	require.NoError(t, owner.QueryRow(t.Context(), "SELECT EXISTS (SELECT FROM pg_settings WHERE name = 'restrict_nonsystem_relation_kind')").Scan(&knows))
	if !knows {
		t.Skip("this server cannot be told so")
	}
	exec("CREATE TABLE pages (id int PRIMARY KEY, title text)")
	exec("INSERT INTO pages VALUES (1, 'Hours')")
	db, err := Open(t.Context(), Config{Host: "127.0.0.1", Port: s.Port, User: "postgres", Name: "postgres"})
	require.NoError(t, err)
	defer db.Close()
	dump := func(change string) (int64, error) {
		snap, err := db.Snapshot(t.Context())
		require.NoError(t, err)
		defer snap.Close()
		if change != "" {
			exec(change)
		}
		return snap.Dump(t.Context(), database.Unit{Kind: database.Rows, Table: "pages", Slice: 1}, io.Discard)
	}
	n, err := dump("")
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
	_, err = dump("ALTER TABLE pages RENAME TO pages_too; CREATE VIEW pages AS SELECT 1 AS id, 'Hours'::text AS title")
	assert.ErrorContains(t, err, "pages")
	assert.ErrorContains(t, err, "non-system view")
}
