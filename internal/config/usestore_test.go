package config

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

// However the list of a site's stores is written, one more gets into it, and nothing else changes.
func TestUseStore(t *testing.T) {
	const head, tail = "# ours\nstores:\n  here: {folder: /a}\n  harbour: {folder: /b}\n", "  other: {root: /o, stores: [here]} # mind\n"
	for name, c := range map[string]struct{ entry, want string }{
		"in brackets":       {"  kp:\n    stores: [here] # near\n    root: /r\n", "  kp:\n    stores: [here, harbour] # near\n    root: /r\n"},
		"over several":      {"  kp:\n    root: /r\n    stores: [\n      here\n    ]\n", "  kp:\n    root: /r\n    stores: [\n      here\n    , harbour]\n"},
		"line by line":      {"  kp:\n    root: /r\n    stores:\n      - here # near\n    address: https://kp.example/\n", "  kp:\n    root: /r\n    stores:\n      - here # near\n      - harbour\n    address: https://kp.example/\n"},
		"without a margin":  {"  kp:\n    stores:\n    - here\n    root: /r\n", "  kp:\n    stores:\n    - here\n    - harbour\n    root: /r\n"},
		"all on one line":   {"  kp: {root: /ä, stores: [here], skip: [x]}\n", "  kp: {root: /ä, stores: [here, harbour], skip: [x]}\n"},
		"from the defaults": {"  kp:\n    root: /r\n", "  kp:\n    stores: [here, harbour]\n    root: /r\n"},
		"has it":            {"  kp:\n    root: /r\n    stores: [harbour]\n", "  kp:\n    root: /r\n    stores: [harbour]\n"},
	} {
		t.Run(name, func(t *testing.T) {
			before := head
			if name == "from the defaults" {
				before += "defaults: {stores: [here]}\n"
			}
			path := filepath.Join(t.TempDir(), "revlet.yaml")
			require.NoError(t, os.WriteFile(path, []byte(before+"sites:\n"+c.entry+tail), 0o600))
			require.NoError(t, UseStore(&disk.Disk{}, path, "harbour", []string{"kp"}))
			got, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.Equal(t, before+"sites:\n"+c.want+tail, string(got))
		})
	}
}

// What cannot be written safely is left to its owner, and nothing is changed.
func TestUseStoreThatCannotBeWritten(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "more.yaml"), []byte("sites:\n  far: {root: /f, stores: [here]}\n"), 0o600))
	for name, c := range map[string]struct{ sites, site, want string }{
		"in another file": {"  kp: {root: /r, stores: [here]}\ninclude: more.yaml\n", "far", "another file"},
		"shared by alias": {"  kp: {root: /r, stores: &s [here]}\n  two: {root: /t, stores: *s}\n", "two", "is no list"},
		"on one line":     {"  kp: {root: /r}\ndefaults: {stores: [here]}\n", "kp", "on one line"},
	} {
		t.Run(name, func(t *testing.T) {
			path, text := filepath.Join(dir, strings.ReplaceAll(name, " ", "-")+".yaml"), "stores:\n  here: {folder: /a}\n  harbour: {folder: /b}\nsites:\n"+c.sites
			require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
			assert.ErrorContains(t, UseStore(&disk.Disk{}, path, "harbour", []string{c.site}), c.want)
			got, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.Equal(t, text, string(got))
		})
	}
}
