package site

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/config"
	"revlet/internal/platform/reason"
)

// Whoever could write to a site had root save another customer's database, and then put
// one in its place.
func TestASiteDoesNotChooseAnybodysDatabaseFile(t *testing.T) {
	dir := t.TempDir()
	for _, p := range []string{"htdocs/data", "media", "other"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, p), 0o755))
	}
	for _, p := range []string{"htdocs/data/museum.sqlite", "media/museum.sqlite", "other/museum.sqlite"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, p), nil, 0o600))
	}
	require.NoError(t, os.Symlink("../../other/museum.sqlite", filepath.Join(dir, "htdocs/data/link.sqlite")))
	require.NoError(t, os.Symlink("../other", filepath.Join(dir, "htdocs/away")))
	c := config.Site{Root: filepath.Join(dir, "htdocs"), Recipe: "mediawiki", Roots: map[string]string{"media": filepath.Join(dir, "media")}}
	open := func(folder, name string) (*Site, error) {
		text := "<?php\n$wgDBtype = 'sqlite';\n$wgSQLiteDataDir = '" + folder + "';\n$wgDBname = '" + name + "';\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, "htdocs/LocalSettings.php"), []byte(text), 0o600))
		return Open("kestrelpoint", c)
	}
	for folder, name := range map[string]string{"htdocs/data": "museum", "media": "museum", "htdocs/new": "fresh"} {
		s, err := open(filepath.Join(dir, folder), name)
		require.NoError(t, err, folder)
		require.Len(t, s.Databases, 1)
	}
	for folder, name := range map[string]string{"other": "museum", "htdocs/data": "link", "htdocs/away": "museum", "htdocs/../other": "museum", "": "museum", "htdocs/data/../../other": "museum"} {
		_, err := open(filepath.Join(dir, folder), name)
		assert.True(t, reason.Is(err, reason.DatabaseElsewhere), "%s/%s: %v", folder, name, err)
	}
	c.Databases = map[string]config.Database{"main": {SQLite: filepath.Join(dir, "other/museum.sqlite")}}
	s, err := open(filepath.Join(dir, "other"), "museum")
	require.NoError(t, err, "the configuration may name any")
	assert.Equal(t, filepath.Join(dir, "other/museum.sqlite"), s.Databases[0].Path)
}
