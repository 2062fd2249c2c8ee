package move

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
)

// Links to the old webroot lead to the same place in the new one, those out of it are told, and all others stay.
func TestLinksOfTheOldWebroot(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "deep/er"), 0o755))
	links := map[string][2]string{ // where they lead, and are to lead
		"a":           {"/srv/old/uploads/2026", "uploads/2026"},
		"deep/er/b":   {"/srv/old/uploads", "../../uploads"},
		"deep/c":      {"/srv/old/deep/x", "x"},
		"whole":       {"/srv/old", "."},
		"relative":    {"uploads", "uploads"},
		"deep/up":     {"../uploads", "../uploads"},
		"out":         {"/srv/old2/uploads", "/srv/old2/uploads"},
		"climbs":      {"../old/uploads", "uploads"},
		"deep/climbs": {"../../other", "../../other"},
		"dots":        {"/srv/old/../other", "/srv/old/../other"},
		"share":       {"/srv/shared/uploads", "/new/shared/uploads"},
		"deep/share":  {"../../shared/uploads", "/new/shared/uploads"},
		"logs":        {"/srv/logs/x", "/srv/logs/x"},
	}
	for name, l := range links {
		require.NoError(t, os.Symlink(l[0], filepath.Join(dir, name)))
	}
	root, err := (&disk.Disk{}).OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	was, err := root.Stat("deep")
	require.NoError(t, err)
	p := &Plan{archive: &catalog.Held{Record: &archive.Record{Origin: archive.Origin{Roots: map[string]string{site.RootLabel: "/srv/old", "shared": "/srv/shared", "logs": "/srv/logs"}}}},
		to: &site.Site{Root: "/new/root", Roots: map[string]string{"shared": "/new/shared"}}}
	require.NoError(t, p.links(map[string]*disk.Root{site.RootLabel: root}))
	for name, l := range links {
		to, err := os.Readlink(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, l[1], to, name)
	}
	is, err := root.Stat("deep")
	require.NoError(t, err)
	assert.Equal(t, was.ModTime(), is.ModTime())
	require.Len(t, p.notes, 1)
	assert.Equal(t, "links that lead out of the webroot; what is behind them is shared with whatever else uses it, or is not there: "+
		"deep/climbs → ../../other, dots → /srv/old/../other, logs → /srv/logs/x, out → /srv/old2/uploads", p.notes[0].Text)
	assert.Len(t, p.files, 7)
}
