package e2e

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
	"revlet/internal/practice/place"
)

// liveTree is the museum's webroot, without its database and its cache.
func liveTree(t *testing.T, w *world) map[string]string {
	all := snapshot(t, w.path("htdocs"))
	for name := range all {
		if name == "." || strings.HasPrefix(name, "data") || strings.HasPrefix(name, "cache") {
			delete(all, name)
		}
	}
	return withoutLinkTimes(all)
}

var linkTime, fraction = regexp.MustCompile(`\S+Z$`), regexp.MustCompile(`\.\d+Z$|Z$`)

// leftBeside are the folders that Revlet has left beside a webroot, or in it.
func leftBeside(t *testing.T, w *world) (all []string) {
	for _, pattern := range []string{".revlet-*", "htdocs/.revlet-*"} {
		found, err := filepath.Glob(w.path(pattern))
		require.NoError(t, err)
		all = append(all, found...)
	}
	return all
}

// A site on another machine comes back: files and a database that is a file.
func TestRestoringElsewhere(t *testing.T) {
	t.Parallel()
	w, root := farMuseum(t)
	w.run("adopt", root, "--name", "kestrelpoint", "--store", w.path("archives"), "--trust", "--ssh-key", w.path("ssh/id"))
	w.run("backup")
	good, content := liveTree(t, w), rows(t, w)
	breakMuseum(t, w)
	bad := liveTree(t, w)
	whole := func(t *testing.T) {
		out := w.run("restore", "kestrelpoint", "--yes")
		assert.Contains(t, out, "uploads/planted.php", "what was taken out is named")
		assert.Equal(t, good, liveTree(t, w))
		assert.Equal(t, content, rows(t, w))
		assert.Len(t, leftBeside(t, w), 1)
	}
	w.step(t, "whole", whole)
	w.step(t, "what is set aside", func(t *testing.T) {
		assert.Regexp(t, `kestrelpoint.*\s2[0-9]\s+.*sftp://`, w.run("aside", "list"))
		assert.Contains(t, w.run("aside", "show", "kestrelpoint"), "uploads/planted.php")
		w.run("aside", "export", "kestrelpoint", w.path("aside.tar.zst"))
		assert.Contains(t, sh(t, "zstd -dc "+w.path("aside.tar.zst")+" | tar -tv"), "webroot/uploads/planted.php")
		r := w.fails(1, []string{"planted.php"}, "settle", "kestrelpoint", "--yes")
		assert.Contains(t, r.err, "no archive")
	})
	w.step(t, "undone", func(t *testing.T) {
		out := w.run("undo", "kestrelpoint", "--yes")
		assert.NotContains(t, out, "Written since")
		assert.Equal(t, bad, liveTree(t, w))
		assert.Empty(t, leftBeside(t, w))
	})
	w.step(t, "from another computer", func(t *testing.T) {
		whole(t)
		w.write("other.yaml", strings.Replace(w.read("revlet.yaml"), "stores:", "state: "+w.path("state-other")+"\nstores:", 1))
		other := func(args ...string) []string { return append([]string{"--config", w.path("other.yaml")}, args...) }
		w.fails(1, []string{"--trust"}, other("undo", "kestrelpoint", "--yes")...)
		w.run(other("preflight", "kestrelpoint", "--trust")...)
		assert.Contains(t, w.run(other("aside", "list")...), "sftp://")
		w.run(other("undo", "kestrelpoint", "--yes")...)
		assert.Equal(t, bad, liveTree(t, w))
		w.fails(1, []string{"not there any more", "revlet settle kestrelpoint"}, "undo", "kestrelpoint", "--yes")
		w.run("settle", "kestrelpoint", "--yes", "--unsaved")
		assert.Equal(t, bad, liveTree(t, w))
		assert.Empty(t, leftBeside(t, w))
	})
	w.step(t, "settled", func(t *testing.T) {
		whole(t)
		w.run("settle", "kestrelpoint", "--yes", "--unsaved")
		assert.Equal(t, good, liveTree(t, w))
		assert.Empty(t, leftBeside(t, w))
	})
	w.step(t, "the database alone", func(t *testing.T) {
		w.write("htdocs/themes/lantern/style.css", "newer")
		require.NoError(t, lampblack.Execute(t.Context(), w.path("htdocs", lampblack.DatabaseFile), "DELETE FROM exhibits"))
		broken, lost := liveTree(t, w), rows(t, w)
		assert.NotEqual(t, content, lost)
		w.run("restore", "kestrelpoint", "--only", "database", "--yes")
		assert.Equal(t, content, rows(t, w))
		assert.Equal(t, broken, liveTree(t, w), "no file has changed")
		w.run("undo", "kestrelpoint", "--yes")
		assert.Equal(t, lost, rows(t, w))
		assert.Equal(t, broken, liveTree(t, w))
		assert.Empty(t, leftBeside(t, w))
		w.run("restore", "kestrelpoint", "--only", "database", "--yes")
		w.run("settle", "kestrelpoint", "--yes", "--unsaved")
		assert.Equal(t, content, rows(t, w))
		assert.Empty(t, leftBeside(t, w))
	})
	w.step(t, "a share", func(t *testing.T) {
		breakMuseum(t, w)
		out := w.try("restore", "kestrelpoint", "--path", "themes/**", "--path", "uploads/2026/**", "--yes").out
		assert.Contains(t, out, "20 paths put back")
		now, expected := liveTree(t, w), maps.Clone(good)
		assert.Contains(t, now, "uploads/planted.php")
		delete(now, "uploads/planted.php")
		for _, name := range []string{"uploads", "uploads/2026/boat.svg"} { // its other name is not of the share
			delete(now, name)
			delete(expected, name)
		}
		assert.Equal(t, expected, now)
		w.write("htdocs/themes/lantern/made-since.css", "since")
		w.write("htdocs/uploads/2027/beside.txt", "since")
		out = w.run("undo", "kestrelpoint", "--yes")
		assert.Contains(t, out, "left so: 1")
		assert.FileExists(t, w.path("htdocs/themes/lantern/made-since.css"))
		assert.NoFileExists(t, w.path("htdocs/themes/lantern/style.css"))
		assert.FileExists(t, w.path("htdocs/uploads/2027/beside.txt"))
		assert.Empty(t, leftBeside(t, w))
	})
}

// A server of SFTP that makes no links keeps nothing else from coming back: what is missing is named.
func TestAServerThatMakesNoLinks(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("far/site/index.html", "a page")
	w.write("far/site/uploads/2026/lens.jpg", "a picture")
	require.NoError(t, os.Symlink("2026", w.path("far/site/uploads/current")))
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("far.pw", "practice")
	host, err := place.Start(place.SFTP, place.Options{Dir: w.path("far"), Keys: w.path("hostkeys"), User: "keeper", Password: "practice", Faults: &place.Faults{}})
	require.NoError(t, err)
	t.Cleanup(host.Close)
	w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: %q, reach: {password_file: ./far.pw, host_key: %q}, recipe: none, stores: [here]}\n", host.Address+"site", host.Fingerprint))
	w.run("backup", "kestrelpoint")
	require.NoError(t, os.RemoveAll(w.path("far/site")))
	require.NoError(t, os.Mkdir(w.path("far/site"), 0o755))
	w.fails(4, []string{"Restored without some links", "uploads/current → 2026"}, "restore", "kestrelpoint", "--yes")
	assert.Equal(t, "a picture", w.read("far/site/uploads/2026/lens.jpg"))
}
