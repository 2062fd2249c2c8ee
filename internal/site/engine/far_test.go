package engine

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
	"revlet/internal/site/tree"
)

// elsewhere is a folder whose files have no path here. opened, if set, is told of every
// file that is opened.
type elsewhere struct {
	tree.Folder
	opened func(name string)
}

// Open implements tree.Folder.
func (e elsewhere) Open(name string) (tree.File, error) {
	f, err := e.Folder.Open(name)
	if e.opened != nil {
		e.opened(name)
	}
	if err != nil {
		return nil, err
	}
	return struct{ tree.File }{f}, nil // and no handle either
}

func museumFile(t *testing.T, mode string) (dir string, db *sql.DB) {
	dir = t.TempDir()
	db, err := sql.Open("sqlite", filepath.Join(dir, "museum.sqlite")+"?_pragma=journal_mode("+mode+")&_pragma=wal_autocheckpoint(0)")
	require.NoError(t, err)
	db.SetMaxOpenConns(1)
	t.Cleanup(func() { _ = db.Close() })
	_, err = db.Exec("CREATE TABLE log (entry TEXT); INSERT INTO log VALUES ('the lamp is lit')")
	require.NoError(t, err)
	return dir, db
}

func entries(t *testing.T, file string) (n int) {
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.QueryRow("SELECT count(*) FROM log").Scan(&n))
	return n
}

// A database file elsewhere is fetched as of one moment, what is only in its log included.
func TestAFarDatabaseFile(t *testing.T) {
	for _, mode := range []string{"WAL", "DELETE", "PERSIST"} {
		t.Run(mode, func(t *testing.T) {
			dir, db := museumFile(t, mode)
			in, err := tree.Local(nil).Folder(t.Context(), dir)
			require.NoError(t, err)
			scratch := t.TempDir()
			fetched := func(opened func(string)) string {
				file, err := CopyFile(t.Context(), &disk.Disk{}, elsewhere{in, opened}, "museum.sqlite", scratch)
				require.NoError(t, err)
				return file
			}
			assert.Equal(t, 1, entries(t, fetched(nil)))

			// Written to while it is read: begun again, and never torn.
			writes := 2
			file := fetched(func(name string) {
				if name == "museum.sqlite" && writes > 0 {
					writes--
					_, err := db.Exec("INSERT INTO log VALUES (hex(randomblob(40000)))")
					assert.NoError(t, err)
				}
			})
			assert.Equal(t, 3, entries(t, file))
			left, err := filepath.Glob(filepath.Join(scratch, "far-*"))
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

// What is half written is no database: it is waited for.
func TestAFarDatabaseThatIsBeingWritten(t *testing.T) {
	dir, _ := museumFile(t, "DELETE")
	in, err := tree.Local(nil).Folder(t.Context(), dir)
	require.NoError(t, err)
	journal := filepath.Join(dir, "museum.sqlite-journal")
	require.NoError(t, os.WriteFile(journal, []byte(journalMagic+"and pages"), 0o600))
	ctx, stop := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer stop()
	_, err = CopyFile(ctx, &disk.Disk{}, elsewhere{Folder: in}, "museum.sqlite", t.TempDir())
	require.ErrorIs(t, err, context.DeadlineExceeded)
	time.AfterFunc(300*time.Millisecond, func() { _ = os.Remove(journal) })
	file, err := CopyFile(t.Context(), &disk.Disk{}, elsewhere{Folder: in}, "museum.sqlite", t.TempDir())
	require.NoError(t, err)
	assert.Equal(t, 1, entries(t, file))
}
