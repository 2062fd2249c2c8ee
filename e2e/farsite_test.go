package e2e

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// farMuseum is the museum behind a real sshd, with no entry in the configuration yet; root
// is its address over SFTP.
func farMuseum(t *testing.T) (w *world, root string) {
	w, _ = museum(t)
	port := sshd(t, w)
	who, err := user.Current()
	require.NoError(t, err)
	require.NoError(t, os.Remove(w.path("revlet.yaml")))
	return w, fmt.Sprintf("sftp://%s@127.0.0.1:%d%s", who.Username, port, w.path("htdocs"))
}

// untold is what SFTP does not tell.
var untold = regexp.MustCompile(`\.\d+Z$|links=\d+ |Z$`)

// takenOut takes all files that the newest archive of a configuration holds out of it,
// and tells of its tables.
func takenOut(t *testing.T, w *world, config string) (map[string]string, string) {
	to := filepath.Join(t.TempDir(), "out")
	w.run("--config", config, "extract", "kestrelpoint", "**", "--to", to)
	var shown struct {
		Tables []struct {
			Name string
			Rows int64
		}
	}
	w.json(&shown, "--config", config, "show", "kestrelpoint")
	all := snapshot(t, to)
	delete(all, "data")         // a database that is read here has its logs beside it for a moment
	for name, is := range all { // SFTP has whole seconds, and says nothing of files with several names
		all[name] = untold.ReplaceAllString(is, "")
	}
	return all, fmt.Sprint(shown.Tables)
}

// A site on another machine: recognised, saved, compared, checked and tried, with the same
// words as one on this machine.
func TestASiteElsewhere(t *testing.T) {
	w, root := farMuseum(t)
	key := []string{"--key-file", w.path("ssh/id")}

	w.step(t, "an unknown machine gets nothing", func(t *testing.T) {
		w.fails(1, []string{"is not known yet", "SHA256:", "--trust"}, append([]string{"adopt", root, "--store", w.path("archives")}, key...)...)
	})
	w.step(t, "adopt", func(t *testing.T) {
		out := w.run(append([]string{"adopt", root, "--name", "kestrelpoint", "--store", w.path("archives"), "--trust"}, key...)...)
		assert.Contains(t, out, "Lampblack")
		assert.Contains(t, w.read("revlet.yaml"), "reach: {key_file: ")
		out = w.run("preflight")
		assert.Contains(t, out, "is reached")
		assert.NotContains(t, out, "stop")
	})
	w.step(t, "the same archive as from here", func(t *testing.T) {
		w.run("backup")
		there := w.newest()
		w.run("verify", there, "--full")
		w.run("rehearse", there)
		w.run("compare", there)
		w.run("compare", there, "--read")
		require.NoError(t, os.MkdirAll(w.path("archives-here"), 0o755))
		w.write("here.yaml", fmt.Sprintf("state: ./state-here\nstores: {here: {folder: ./archives-here}}\nsites:\n  kestrelpoint: {root: %s, stores: [here]}\n", w.path("htdocs")))
		w.run("--config", w.path("here.yaml"), "backup")
		fromHere, tablesHere := takenOut(t, w, w.path("here.yaml"))
		fromThere, tablesThere := takenOut(t, w, w.path("revlet.yaml"))
		assert.Equal(t, fromHere, fromThere)
		assert.Equal(t, tablesHere, tablesThere)
		assert.Greater(t, len(fromHere), 25)
	})
	w.step(t, "what differs", func(t *testing.T) {
		require.NoError(t, os.Remove(w.path("htdocs/themes/lantern/style.css")))
		require.NoError(t, os.WriteFile(w.path("htdocs/uploads/planted.php"), []byte("<?php system($_GET['c']);"), 0o644))
		r := w.try("compare", "kestrelpoint")
		assert.Equal(t, 4, r.code, r.err)
		assert.Contains(t, r.out, "uploads/planted.php")
		assert.Contains(t, r.out, "style.css")
		w.run("backup")
	})
	w.step(t, "what is not possible yet is refused", func(t *testing.T) {
		w.run("accounts", "kestrelpoint", "--all")
		before := snapshot(t, filepath.Join(w.dir, "htdocs"))
		for _, args := range [][]string{{"restore", "kestrelpoint", "--yes"}, {"guard", "kestrelpoint", "--", "true"}} {
			w.fails(2, []string{"another machine"}, args...)
		}
		assert.Equal(t, before, snapshot(t, filepath.Join(w.dir, "htdocs")))
	})
}
