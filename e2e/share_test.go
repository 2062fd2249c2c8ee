package e2e

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
)

// Only what was asked for comes back; all else is as it was, to the last time
// and permission, and the whole can be taken back.
func TestRestoreAShare(t *testing.T) {
	t.Parallel()
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
		t := w.t
		t.Helper()
		w.run("undo", "kestrelpoint", "--yes")
		assert.Equal(t, broken, now())
		assert.Equal(t, content, rows(t, w))
	}

	w.step(t, "what is no share", func(t *testing.T) {
		w.fails(2, []string{`no component "themse"`, "themes"}, "restore", "kestrelpoint", "--only", "themse", "--yes")
		w.fails(2, []string{"replace or fill"}, "restore", "kestrelpoint", "--mode", "merge", "--yes")
		w.fails(1, []string{"holds nothing of that share", "nothing was changed"}, "restore", "kestrelpoint", "--path", "nothing/**", "--yes")
		assert.Equal(t, broken, now())
	})

	w.step(t, "a component", func(t *testing.T) {
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
	})

	w.step(t, "paths", func(t *testing.T) {
		w.run("restore", "kestrelpoint", "--path", "uploads/2027/boat.svg", "--path", "themes/lantern/theme.html", "--yes")
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
	})

	w.step(t, "what is missing is filled", func(t *testing.T) {
		out := w.run("restore", "kestrelpoint", "--mode", "fill", "--yes")
		assert.Contains(t, out, "what was added stays")
		for _, there := range []string{"uploads/2026/since.txt", "themes/lantern/.planted.php", "themes/lantern/theme.html", "uploads/2027/boat.svg"} {
			assert.FileExists(t, w.path("htdocs", there))
		}
		data, err := os.ReadFile(w.path("htdocs/index.html"))
		require.NoError(t, err)
		assert.NotEqual(t, "edited since", string(data), "what differs is put back")
		assert.Equal(t, content, rows(t, w))
		takeBack()
	})

	w.step(t, "uploads and database", func(t *testing.T) {
		w.fails(4, []string{"answers 500"}, "restore", "kestrelpoint", "--only", "uploads,database", "--yes") // the theme is still broken
		assert.NotEqual(t, content, rows(t, w))
		assert.NoFileExists(t, w.path("htdocs/uploads/2026/since.txt"))
		assert.NoFileExists(t, w.path("htdocs/themes/lantern/theme.html"))
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
		w.run("backup")
		w.run("rehearse")
	})
}

// What an intruder has left is set aside, outside the webroot, and given out as
// evidence.
func TestAsideIsEvidence(t *testing.T) {
	t.Parallel()
	need(t, "zstd", "tar")
	w, _ := museum(t)
	assert.Contains(t, w.run("aside", "list"), "Nothing is set aside.")
	w.fails(2, []string{"nothing is set aside"}, "aside", "show", "kestrelpoint")
	w.run("backup")
	name := w.newest()
	breakMuseum(t, w)
	w.run("restore", "kestrelpoint", "--yes")
	assert.NoFileExists(t, w.path("htdocs/uploads/planted.php"))
	var told struct {
		Asides []struct {
			Archive string
			Places  []string
			Files   int
		}
	}
	w.json(&told, "aside", "list")
	require.Len(t, told.Asides, 1)
	assert.Equal(t, name, told.Asides[0].Archive)
	assert.Greater(t, told.Asides[0].Files, 20)
	for _, place := range told.Asides[0].Places {
		assert.NotContains(t, place, w.path("htdocs"))
		info, err := os.Stat(filepath.Dir(place))
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077, "nobody else comes there")
	}
	out := w.run("aside", "show", "kestrelpoint")
	assert.Regexp(t, `added +uploads/planted.php\s+a file that can be run, among the uploads`, out)
	assert.Contains(t, out, "removed  themes/lantern/theme.html")

	w.run("aside", "export", "kestrelpoint", "evidence.tar.zst")
	info, err := os.Stat(w.path("evidence.tar.zst"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	listed := sh(t, "zstd -dc "+w.path("evidence.tar.zst")+" | tar -tf -")
	assert.Contains(t, listed, "webroot/uploads/planted.php")
	assert.Contains(t, sh(t, "zstd -dc "+w.path("evidence.tar.zst")+" | tar -xOf - webroot/uploads/planted.php"), "evil()")
	w.fails(2, []string{"is there already"}, "aside", "export", "kestrelpoint", "evidence.tar.zst")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	assert.Contains(t, w.run("aside", "list"), "Nothing is set aside.")
}
