package e2e

import (
	"database/sql"
	"errors"
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

// ofAnAccount is a world in which the program is run by ownAccount.
func ofAnAccount(t *testing.T) *world {
	t.Helper()
	need(t, "setpriv")
	if os.Geteuid() != 0 {
		t.Skip("only root can be two accounts")
	}
	w := plain(t)
	w.program = []string{"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", program}
	require.NoError(t, os.Chown(w.tmp, ownAccount, ownAccount))
	require.NoError(t, os.Chmod(filepath.Dir(w.dir), 0o755))
	return w
}

// TestAnAccountOfItsOwn has a site that is looked after by an account which is not root, as
// on shared hosting; the web server is another one, and has made files and folders there.
func TestAnAccountOfItsOwn(t *testing.T) {
	t.Parallel()
	w := ofAnAccount(t)
	w.write("htdocs/index.php", "<?php")
	w.write("htdocs/uploads/mine.txt", "x")
	w.write("htdocs/none/file", "x")
	w.write("htdocs/locked/file", "x")
	w.write("htdocs/shut/i/file", "x")
	own := func(uid int, rel string) {
		require.NoError(t, filepath.WalkDir(w.path(rel), func(p string, _ fs.DirEntry, err error) error {
			require.NoError(t, err)
			return os.Lchown(p, uid, uid)
		}))
	}
	own(ownAccount, ".")
	byTheWebServer := func(rel string) {
		w.write(rel, "uploaded")
		require.NoError(t, os.Chmod(w.path(rel), 0o644))
		own(webAccount, filepath.Dir(rel))
	}
	byTheWebServer("htdocs/uploads/2026/picture.jpg")
	w.write("htdocs/uploads/private", "for the web server alone")
	own(webAccount, "htdocs/uploads/private")
	for rel, mode := range map[string]fs.FileMode{"none": 0, "locked": 0o555, "uploads": 0o777, "shut/i": 0, "shut": 0o555} {
		require.NoError(t, os.Chmod(w.path("htdocs", rel), mode))
	}

	w.fails(3, []string{"3 paths could not be saved", "webroot/none", "webroot/shut/i", "webroot/uploads/private"}, "backup")
	out := w.run("restore", "kestrelpoint", "--yes")
	assert.Contains(t, out, "it was carried over")
	for _, rel := range []string{"none/file", "locked/file", "uploads/private", "uploads/2026/picture.jpg"} {
		assert.FileExists(t, w.path("htdocs", rel))
	}
	for rel, mode := range map[string]fs.FileMode{"none": 0, "shut/i": 0, "shut": 0o555} {
		closed, err := os.Stat(w.path("htdocs", rel))
		require.NoError(t, err)
		assert.Equal(t, mode, closed.Mode().Perm(), "a folder that was opened to move something is closed again: %s", rel)
	}

	w.run("rehearse")

	byTheWebServer("htdocs/uploads/2027/since.jpg")
	out = w.run("undo", "kestrelpoint", "--dry-run")
	assert.Contains(t, out, "2027/since.jpg")
	assert.NotContains(t, out, "private", "what was carried over is carried back")
	w.fails(3, []string{"Undone:", "this account may not delete all that is in"}, "undo", "kestrelpoint", "--yes")
	assert.FileExists(t, w.path("htdocs/uploads/private"))

	// What is left of it is in nobody's way.
	w.run("restore", "kestrelpoint", "--yes")
	w.fails(3, []string{"Settled:", "this account may not delete all"}, "settle", "kestrelpoint", "--unsaved", "--yes")
	w.run("restore", "kestrelpoint", "--yes")
	assert.NotContains(t, w.try("status").err, "half-way")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")

	require.NoError(t, os.RemoveAll(w.path("htdocs")))
	w.run("restore", "kestrelpoint", "--yes")
	assert.FileExists(t, w.path("htdocs/locked/file"))
	assert.DirExists(t, w.path("htdocs/none"))
}

// TestAWebrootOfTheWebServers has a site whose folder belongs to the web server, below one of
// the account that looks after it.
func TestAWebrootOfTheWebServers(t *testing.T) {
	t.Parallel()
	w := ofAnAccount(t)
	w.write("htdocs/index.php", "<?php")
	w.write("htdocs/cache/page", "x")
	for _, rel := range []string{".", "archives", "revlet.yaml"} {
		require.NoError(t, os.Chown(w.path(rel), ownAccount, ownAccount))
	}
	for _, rel := range []string{"htdocs", "htdocs/index.php", "htdocs/cache", "htdocs/cache/page"} {
		require.NoError(t, os.Chown(w.path(rel), webAccount, webAccount))
		require.NoError(t, os.Chmod(w.path(rel), 0o755))
	}

	assert.Contains(t, w.try("preflight").out, "this account may not write there: it can save the site")
	w.run("backup")
	for range 2 { // nothing is half-way
		w.fails(1, []string{"belongs to www-data", "nothing was changed", "sudo -u www-data"}, "restore", "kestrelpoint", "--yes")
	}
	require.NoError(t, os.Chmod(w.path("htdocs"), 0o777))
	w.run("restore", "kestrelpoint", "--yes")
	w.run("undo", "kestrelpoint", "--yes")

	// The folder of a database file is the web server's alone.
	require.NoError(t, os.Mkdir(w.path("htdocs/data"), 0o755))
	db, err := sql.Open("sqlite", w.path("htdocs/data/museum.db"))
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE pages (id INTEGER PRIMARY KEY)")
	require.NoError(t, errors.Join(err, db.Close()))
	for _, rel := range []string{"htdocs/data", "htdocs/data/museum.db"} {
		require.NoError(t, os.Chown(w.path(rel), webAccount, webAccount))
	}
	w.edit("revlet.yaml", "recipe: none", "recipe: none, databases: {main: {sqlite: ./htdocs/data/museum.db}}")
	w.run("backup")
	for _, half := range []string{"files", "database"} {
		w.fails(1, []string{"data belongs to www-data", "nothing was changed"}, "restore", "kestrelpoint", "--only", half, "--yes")
	}
	w.run("restore", "kestrelpoint", "--yes")
	w.run("undo", "kestrelpoint", "--yes")

	w.edit("revlet.yaml", "recipe: none", "recipe: none, skip: [cache]")
	w.run("backup")
	w.fails(1, []string{"cache, which belongs to www-data", "nothing was changed", "--clean"}, "restore", "kestrelpoint", "--yes")
	w.run("restore", "kestrelpoint", "--yes", "--clean")
	assert.NoDirExists(t, w.path("htdocs/cache"))
	w.run("undo", "kestrelpoint", "--yes")
	assert.FileExists(t, w.path("htdocs/cache/page"))
}
