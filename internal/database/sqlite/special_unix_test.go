//go:build unix

package sqlite

import (
	"database/sql"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

// Whoever owns a site's folder may put a named pipe in the place of its database, or of what SQLite keeps beside it:
// nobody waits for it.
func TestNoPipeIsWaitedFor(t *testing.T) {
	made := filepath.Join(t.TempDir(), "made.db")
	db, err := sql.Open("sqlite", dsn(made, ""))
	require.NoError(t, err)
	_, err = db.ExecContext(t.Context(), "CREATE TABLE t (a); INSERT INTO t VALUES (1)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	whole, err := os.ReadFile(made)
	require.NoError(t, err)
	for _, beside := range []string{"", "-wal", "-journal", "-shm"} {
		file := filepath.Join(t.TempDir(), "museum.db")
		require.NoError(t, os.WriteFile(file, whole, 0o600))
		if beside == "" {
			require.NoError(t, os.Remove(file))
		}
		require.NoError(t, syscall.Mkfifo(file+beside, 0o600))
		c := Config{Path: file, Scratch: t.TempDir(), Disk: &disk.Disk{}}
		for _, open := range []func() error{
			func() error { _, err := Open(t.Context(), c); return err },
			func() error { _, err := OpenUntouched(t.Context(), c); return err },
		} {
			done := make(chan error, 1)
			go func() { done <- open() }()
			select {
			case err := <-done:
				assert.ErrorIs(t, err, disk.ErrSpecial, beside)
			case <-time.After(20 * time.Second):
				require.Fail(t, "waits for ever", beside)
			}
		}
	}
}
