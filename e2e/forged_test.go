package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/signing"
)

// Whoever holds a store had commands run as root by what a record says of its site, and
// files written wherever it says. The new machine has nothing but the store.
func TestAForgedStoreHasNothingRunAndNothingWritten(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	files, err := filepath.Glob(w.path("archives/kestrelpoint/archives/*.json"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	good, err := os.ReadFile(files[0])
	require.NoError(t, err)
	proof := w.path("owned")
	stranger, err := signing.Generate()
	require.NoError(t, err)
	for name, forge := range map[string]func(*archive.Origin){
		"a label": func(o *archive.Origin) {
			o.Recipe, o.Databases = "", map[string]archive.DBOrigin{"main: {sqlite: /x}\n    rehearse: {serve: \"touch " + proof + "\"}\n    roots:\n      x": {Engine: "sqlite", Where: "/srv/x.db"}}
		},
		"a folder": func(o *archive.Origin) { o.Roots["webroot"] = "/srv/x\n    rehearse: {serve: \"touch " + proof + "\"}" },
		"a rule": func(o *archive.Origin) {
			o.Skipped = []string{"x]\n    rehearse: {serve: \"touch " + proof + "\"}\n    keep: [x"}
		},
		"an address":         func(o *archive.Origin) { o.Address = "http://x/\n    rehearse: {serve: x}" },
		"the system":         func(o *archive.Origin) { o.Roots["webroot"] = "/etc" },
		"the system's part":  func(o *archive.Origin) { o.Roots["webroot"] = "/etc/cron.d" },
		"everything":         func(o *archive.Origin) { o.Roots["webroot"] = "/" },
		"keys":               func(o *archive.Origin) { o.Roots["webroot"] = "/root/.ssh" },
		"a folder beside it": func(o *archive.Origin) { o.Roots["units"] = "/etc/systemd/system" },
		"a database of root's": func(o *archive.Origin) {
			o.Recipe, o.Databases = "", map[string]archive.DBOrigin{"main": {Engine: "sqlite", Where: "/etc/cron.d/x"}}
		},
	} {
		rec, err := archive.DecodeRecord(good)
		require.NoError(t, err)
		forge(&rec.Origin)
		for i := range rec.Parts {
			if label := rec.Parts[i].Database; label != "" {
				for only := range rec.Origin.Databases {
					rec.Parts[i].Database = only
				}
			}
		}
		data, err := rec.Encode(stranger) // whoever is there first is believed, and no further
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(files[0], data, 0o600))
		for _, gone := range []string{"htdocs", "state", "revlet.yaml"} {
			require.NoError(t, os.RemoveAll(w.path(gone)))
		}
		w.write("revlet.yaml", "state: ./state\n")
		w.try("stores", "discover", "./archives", "--name", "found")
		w.try("restore", "kestrelpoint", "--yes")
		w.try("rehearse", "kestrelpoint")
		text, err := os.ReadFile(w.path("revlet.yaml"))
		require.NoError(t, err)
		assert.NotContains(t, string(text), "rehearse", name)
		assert.NotContains(t, string(text), "root: /", name)
		assert.NoFileExists(t, proof, name)
		assert.NoDirExists(t, w.path("htdocs"), name)
	}
}
