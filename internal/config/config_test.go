package config

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

func TestAddKeepsWhatThePersonWrote(t *testing.T) {
	path := filepath.Join(t.TempDir(), "sub/revlet.yaml")
	site := func(root string) map[string]Site {
		return map[string]Site{"kestrelpoint": {Root: root, Address: "https://kestrelpoint.example/", Recipe: "auto", Stores: []string{"here"}, Skip: []string{"tmp/**"}, Check: &Check{Path: "/", Status: 200, Contains: "Opening: hours"}}}
	}
	require.NoError(t, Add(&disk.Disk{}, path, map[string]Store{"here": {Folder: "/var/backups/revlet"}}, site("/srv/a b/#1")))
	c, err := Load(path)
	require.NoError(t, err)
	want := site("/srv/a b/#1")["kestrelpoint"]
	assert.Equal(t, want, c.Sites["kestrelpoint"])

	text := "# my notes\nsites:\n  first:   # the old one\n    root: /srv/first\n    stores: [here]\n    skip:\n      - a/**\n      - b/**\n\n# after the sites\nstores:\n  here: {folder: /x}   # on the big disk\n"
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	require.NoError(t, Add(&disk.Disk{}, path, map[string]Store{"there": {Folder: "/y"}}, site("/srv/b")))
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, words := range []string{"# my notes", "# the old one", "# after the sites", "# on the big disk"} {
		assert.Contains(t, string(data), words)
	}
	c, err = Load(path)
	require.NoError(t, err)
	assert.Equal(t, []string{"first", "kestrelpoint"}, c.SiteNames())
	assert.Equal(t, []string{"a/**", "b/**"}, c.Sites["first"].Skip)
	assert.Len(t, c.Stores, 2)
}

func TestFaultsNameThePlace(t *testing.T) {
	for text, want := range map[string]string{
		"sites:\n  a:\n    rooot: /x\n":                                        `f.yaml:3:5: unknown key "rooot"; did you mean "root"?`,
		"stores: {here: {folder: /x}}\nsites:\n  a: {root: /y, stores: [her]}": `f.yaml:3:26: site "a": there is no store "her"; did you mean "here"?`,
		"sites:\n  a: {root: /y}\n":                                            `f.yaml:2:6: site "a" names no store`,
		"stores:\n  here: {}\n":                                                `store "here": it needs an address`,
		"stores: {here: {folder: /x}}\nsites:\n  a: {root: /y, stores: [here], databases: {main: {mysql: a@b/c, sqlite: /z}}}": "it has 2",
		"sites: [a, b]\n": "f.yaml:1:",
	} {
		_, err := Parse("f.yaml", []byte(text))
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want)
	}
	dir := t.TempDir()
	secret := filepath.Join(dir, "pw")
	require.NoError(t, os.WriteFile(secret, []byte("x"), 0o644))
	c, err := Parse(filepath.Join(dir, "f.yaml"), []byte("stores: {here: {folder: /x}}\nsites:\n  a: {root: /y, stores: [here], databases: {main: {mysql: a@b/c, password_file: pw}}}"))
	require.NoError(t, err)
	require.Len(t, c.Warnings, 1)
	assert.Contains(t, c.Warnings[0], "chmod 600 "+secret)
}
