package e2e

import (
	"context"
	"maps"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/standin/lampblack"
)

// Only what was asked for comes back; all else is as it was, to the last time
// and permission, and the whole can be taken back.
func TestRestoreAShare(t *testing.T) {
	w, address := museum(t)
	w.run("backup")
	archived := snapshot(t, w.path("htdocs"), "data", "cache")
	w.write("htdocs/themes/lantern/.planted.php", "<?php")
	require.NoError(t, os.Remove(w.path("htdocs/themes/lantern/theme.html")))
	w.write("htdocs/uploads/2026/since.txt", "added since")
	w.write("htdocs/index.html", "edited since")
	require.NoError(t, os.RemoveAll(w.path("htdocs/uploads/2027")))
	require.NoError(t, os.Symlink("nowhere", w.path("htdocs/uploads/dangling")))
	past := time.Date(2020, 1, 2, 3, 4, 5, 0, time.UTC)
	require.NoError(t, os.Chmod(w.path("htdocs/uploads"), 0o2770))
	require.NoError(t, os.Chtimes(w.path("htdocs/uploads"), past, past))
	require.NoError(t, lampblack.Execute(context.Background(), w.path("htdocs", lampblack.DatabaseFile), "UPDATE pages SET title = 'edited' WHERE id = 1"))
	broken, content := snapshot(t, w.path("htdocs"), "data", "cache"), rows(t, w)
	// expect is the broken site with what is below a prefix as it was archived.
	expect := func(prefixes ...string) map[string]string {
		want := maps.Clone(broken)
		for _, prefix := range prefixes {
			under := func(p string) bool { return p == prefix || strings.HasPrefix(p, prefix+"/") }
			maps.DeleteFunc(want, func(p, _ string) bool { return under(p) })
			for p, text := range archived {
				if under(p) {
					want[p] = text
				}
			}
		}
		return want
	}
	now := func() map[string]string { return snapshot(t, w.path("htdocs"), "data", "cache") }
	takeBack := func() {
		t.Helper()
		w.run("undo", "kestrelpoint", "--yes")
		assert.Equal(t, broken, now())
		assert.Equal(t, content, rows(t, w))
	}

	w.fails(2, []string{`no component "themse"`, "themes"}, "restore", "kestrelpoint", "--only", "themse", "--yes")
	w.fails(2, []string{"replace or fill"}, "restore", "kestrelpoint", "--mode", "merge", "--yes")
	w.fails(1, []string{"holds nothing of that share", "nothing was changed"}, "restore", "kestrelpoint", "--path", "nothing/**", "--yes")
	assert.Equal(t, broken, now())

	out := w.run("restore", "kestrelpoint", "--only", "themes", "--yes")
	assert.Contains(t, out, "themes becomes exactly the archive's")
	assert.Contains(t, out, "everything else stays as it is")
	want := expect("themes/lantern")
	delete(want, "themes")
	got := now()
	delete(got, "themes") // its time is that of the exchange of what is in it
	unlinked := func(m map[string]string) map[string]string {
		for p, text := range m {
			m[p] = strings.Replace(text, "links=2", "links=1", 1) // also aside
			m[p] = strings.Replace(m[p], "links=3", "links=2", 1)
		}
		return m
	}
	assert.Equal(t, unlinked(maps.Clone(want)), unlinked(got))
	assert.Equal(t, content, rows(t, w))
	status, _ := get(t, address+"/")
	assert.Equal(t, 200, status)
	takeBack()

	out = w.run("restore", "kestrelpoint", "--path", "uploads/2027/boat.svg", "--path", "themes/lantern/theme.html", "--yes")
	assert.FileExists(t, w.path("htdocs/uploads/2027/boat.svg"))
	assert.FileExists(t, w.path("htdocs/themes/lantern/theme.html"))
	assert.FileExists(t, w.path("htdocs/themes/lantern/.planted.php"), "it was not asked for")
	info, err := os.Stat(w.path("htdocs/uploads/2027"))
	require.NoError(t, err)
	assert.Contains(t, archived["uploads/2027"], info.Mode().String(), "the folder above comes back as it was")
	info, err = os.Stat(w.path("htdocs/uploads"))
	require.NoError(t, err)
	assert.True(t, info.ModTime().Equal(past))
	takeBack()

	out = w.run("restore", "kestrelpoint", "--mode", "fill", "--yes")
	assert.Contains(t, out, "what was added stays")
	for _, there := range []string{"uploads/2026/since.txt", "themes/lantern/.planted.php", "themes/lantern/theme.html", "uploads/2027/boat.svg"} {
		assert.FileExists(t, w.path("htdocs", there))
	}
	data, err := os.ReadFile(w.path("htdocs/index.html"))
	require.NoError(t, err)
	assert.NotEqual(t, "edited since", string(data), "what differs is put back")
	assert.Equal(t, content, rows(t, w))
	takeBack()

	w.fails(4, []string{"answers 500"}, "restore", "kestrelpoint", "--only", "uploads,database", "--yes") // the theme is still broken
	assert.NotEqual(t, content, rows(t, w))
	assert.NoFileExists(t, w.path("htdocs/uploads/2026/since.txt"))
	assert.NoFileExists(t, w.path("htdocs/themes/lantern/theme.html"))
	w.run("settle", "kestrelpoint", "--yes")
	w.run("backup")
	w.run("rehearse")
}
