package e2e

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The accounts of a site and of its web server, which belongs to neither's group.
const (
	ownAccount = 65534
	webAccount = 33
)

// TestAnAccountOfItsOwn has a site that is looked after by an account which is not root, as
// on shared hosting; the web server is another one, and has made files and folders there.
func TestAnAccountOfItsOwn(t *testing.T) {
	t.Parallel()
	need(t, "setpriv")
	if os.Geteuid() != 0 {
		t.Skip("only root can be two accounts")
	}
	w := plain(t)
	w.program = []string{"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", program}
	w.write("htdocs/index.php", "<?php")
	w.write("htdocs/uploads/mine.txt", "x")
	w.write("htdocs/none/file", "x")
	w.write("htdocs/locked/file", "x")
	own := func(uid int, rel string) {
		require.NoError(t, filepath.WalkDir(w.path(rel), func(p string, _ fs.DirEntry, err error) error {
			require.NoError(t, err)
			return os.Lchown(p, uid, uid)
		}))
	}
	own(ownAccount, ".")
	require.NoError(t, os.Chown(w.tmp, ownAccount, ownAccount))
	require.NoError(t, os.Chmod(filepath.Dir(w.dir), 0o755))
	byTheWebServer := func(rel string) {
		w.write(rel, "uploaded")
		require.NoError(t, os.Chmod(w.path(rel), 0o644))
		own(webAccount, filepath.Dir(rel))
	}
	byTheWebServer("htdocs/uploads/2026/picture.jpg")
	w.write("htdocs/uploads/private", "for the web server alone")
	own(webAccount, "htdocs/uploads/private")
	for rel, mode := range map[string]fs.FileMode{"none": 0, "locked": 0o555, "uploads": 0o777} {
		require.NoError(t, os.Chmod(w.path("htdocs", rel), mode))
	}

	w.fails(3, []string{"2 paths could not be saved", "webroot/none", "webroot/uploads/private"}, "backup")
	out := w.run("restore", "kestrelpoint", "--yes")
	assert.Contains(t, out, "it was carried over")
	for _, rel := range []string{"none/file", "locked/file", "uploads/private", "uploads/2026/picture.jpg"} {
		assert.FileExists(t, w.path("htdocs", rel))
	}
	closed, err := os.Stat(w.path("htdocs/none"))
	require.NoError(t, err)
	assert.Zero(t, closed.Mode().Perm(), "a folder that was opened to be moved is closed again")

	w.run("rehearse")

	byTheWebServer("htdocs/uploads/2027/since.jpg")
	out = w.run("undo", "kestrelpoint", "--dry-run")
	assert.Contains(t, out, "2027/since.jpg")
	assert.NotContains(t, out, "private", "what was carried over is carried back")
	w.fails(3, []string{"Undone:", "belongs to another account, and could not be deleted"}, "undo", "kestrelpoint", "--yes")
	assert.FileExists(t, w.path("htdocs/uploads/private"))

	// What is left of it is in nobody's way.
	w.run("restore", "kestrelpoint", "--yes")
	w.fails(3, []string{"Settled:", "belongs to another account"}, "settle", "kestrelpoint", "--unsaved", "--yes")
	w.run("restore", "kestrelpoint", "--yes")
	assert.NotContains(t, w.try("status").err, "half-way")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")

	require.NoError(t, os.RemoveAll(w.path("htdocs")))
	w.run("restore", "kestrelpoint", "--yes")
	assert.FileExists(t, w.path("htdocs/locked/file"))
	assert.DirExists(t, w.path("htdocs/none"))
}
