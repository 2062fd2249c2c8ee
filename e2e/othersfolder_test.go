package e2e

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
)

// Root looks after a site whose folders belong to an account of its own, as they should: SQLite never works there by paths
// that this account could lead elsewhere.
func TestADatabaseInAFolderOfAnotherAccount(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root has to take care")
	}
	w, _ := museum(t)
	require.NoError(t, lampblack.Execute(t.Context(), w.path("htdocs", lampblack.DatabaseFile), "PRAGMA journal_mode=WAL"))
	require.NoError(t, filepath.WalkDir(w.path("htdocs"), func(name string, _ os.DirEntry, err error) error {
		require.NoError(t, err)
		return os.Lchown(name, 61005, 61005)
	}))
	before := rows(t, w)
	w.run("backup")
	w.run("rehearse")
	assert.Contains(t, w.run("compare", "kestrelpoint"), "Nothing differs")
	assert.NoFileExists(t, w.path("htdocs", lampblack.DatabaseFile+"-shm"), "nothing is made beside it")
	require.NoError(t, lampblack.Execute(t.Context(), w.path("htdocs", lampblack.DatabaseFile), "DROP TABLE exhibits"))
	w.fails(4, []string{"exhibits"}, "compare", "kestrelpoint")
	w.fails(1, []string{"belongs to 61005", "as root, nothing is written there by its path", "sudo -u '#61005'"}, "restore", "kestrelpoint", "--table", "exhibits", "--yes")
	w.run("restore", "kestrelpoint", "--only", "database", "--yes")
	assert.Equal(t, before, rows(t, w))
	w.run("undo", "kestrelpoint", "--yes")
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, before, rows(t, w))
	assert.Empty(t, scratchLeft(t, w))
	left, err := filepath.Glob(w.path("state/*sqlite*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// The state folder of somebody else says nothing to root: a lock in it may lead to any file, a journal name any folder.
func TestAStateFolderOfAnotherAccount(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root is to be led astray by others")
	}
	t.Parallel()
	w := plain(t)
	w.run("backup")
	w.write("victim", "of great worth")
	lock := w.path("state/locks/kestrelpoint.lock")
	require.NoError(t, os.Remove(lock))
	require.NoError(t, os.Symlink(w.path("victim"), lock))
	for how, give := range map[string]func() error{
		"its folder":    func() error { return os.Chown(w.path("state"), ownAccount, ownAccount) },
		"for everybody": func() error { return errors.Join(os.Chown(w.path("state"), 0, 0), os.Chmod(w.path("state"), 0o777)) },
		"for a group": func() error {
			return errors.Join(os.Chown(w.path("state"), 0, webAccount), os.Chmod(w.path("state"), 0o770))
		},
	} {
		require.NoError(t, give())
		for _, line := range [][]string{{"backup"}, {"status"}, {"restore", "kestrelpoint", "--yes"}, {"due"}} {
			r := w.try(line...)
			assert.Equal(t, "of great worth", w.read("victim"), "%s, %s", how, line[0])
			assert.Equal(t, 2, r.code, "%s, %s: %s", how, line[0], r.err)
			assert.Contains(t, r.err, "belongs to another account, or others may put something into it")
		}
	}
}
