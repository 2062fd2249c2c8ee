package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The program for Windows, under Wine (`make test-windows`): a site on another machine is
// adopted, saved, proved, compared, put back, and put back as it was. Permissions, links and
// names that Windows does not have are those of the site again.
func TestWindows(t *testing.T) {
	exe := os.Getenv("REVLET_WINDOWS")
	if exe == "" {
		t.Skip("only with `make test-windows`")
	}
	w, root := farMuseum(t)
	w.program = []string{"wine", exe}
	require.NoError(t, os.Remove(w.path("htdocs/uploads/2026/a name with\nnewline")))
	require.NoError(t, os.Symlink("../themes/lantern", w.path("htdocs/uploads/look")))
	require.NoError(t, os.Chmod(w.path("htdocs/index.html"), 0o604))
	key := []string{"--ssh-key", "ssh/id"}

	w.step(t, "sites on this computer are refused", func(t *testing.T) {
		w.fails(1, []string{"needs Linux"}, "adopt", "htdocs", "--store", "./archives")
	})
	w.step(t, "adopt, save, prove", func(t *testing.T) {
		out := w.run(append([]string{"adopt", root, "--name", "kestrelpoint", "--store", "./archives", "--trust"}, key...)...)
		assert.Contains(t, out, "Lampblack")
		w.run("preflight")
		w.run("backup")
		w.run("verify", "--full")
		w.run("rehearse")
		assert.Contains(t, w.run("archives"), "kestrelpoint-")
		assert.Contains(t, w.run("show", "kestrelpoint"), "database")
		w.run("compare", "kestrelpoint")
		w.run("backup")
	})
	before := snapshot(t, w.path("htdocs"))
	w.step(t, "put back", func(t *testing.T) {
		require.NoError(t, os.RemoveAll(w.path("htdocs/themes")))
		require.NoError(t, os.Remove(w.path("htdocs/uploads/look")))
		require.NoError(t, os.Chmod(w.path("htdocs/index.html"), 0o644))
		w.write("htdocs/uploads/planted.php", "<?php evil();")
		broken := snapshot(t, w.path("htdocs"))
		r := w.try("compare", "kestrelpoint")
		assert.Equal(t, 4, r.code, r.err)
		assert.Contains(t, r.out, "uploads/planted.php")
		w.run("restore", "kestrelpoint", "--yes")
		assert.Equal(t, atRest(before), atRest(snapshot(t, w.path("htdocs"))))
		w.run("undo", "kestrelpoint", "--yes")
		assert.Equal(t, atRest(broken), atRest(snapshot(t, w.path("htdocs"))))
		w.run("restore", "kestrelpoint", "--yes")
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
		assert.Equal(t, atRest(before), atRest(snapshot(t, w.path("htdocs"))))
	})
	w.step(t, "names that it cannot have", func(t *testing.T) {
		for _, name := range []string{"10:30.txt", "README", "readme", "con.txt", "end."} {
			w.write("htdocs/uploads/"+name, name)
		}
		w.run("backup")
		w.fails(1, []string{"cannot have some names", "Linux"}, "restore", "kestrelpoint", "--yes")
		w.fails(3, []string{"10%3A30.txt", "~2", "themes/lantern"}, "extract", "kestrelpoint", "uploads", "--to", "out")
		for _, name := range []string{"10%3A30.txt", "%63on.txt", "end%2E"} {
			assert.FileExists(t, w.path("out/uploads", name))
		}
		found, err := filepath.Glob(w.path("out/uploads/[Rr][Ee][Aa][Dd][Mm][Ee]*"))
		require.NoError(t, err)
		assert.Len(t, found, 2, "neither has taken the other's place")
	})
	w.step(t, "what it says of itself", func(t *testing.T) {
		w.run("report", "--to", "report.html")
		assert.FileExists(t, w.path("report.html"))
		w.run("duties")
		assert.Contains(t, w.run("schedule", "install", "--task-scheduler"), "schtasks")
	})
}

// atRest is a tree without what looking at it changes.
func atRest(all map[string]string) map[string]string {
	some := map[string]string{}
	for name, is := range all {
		if name != "." && name != "data" && name != "data/museum.db" && name != "cache" && !strings.HasPrefix(name, "cache/") {
			some[name] = untold.ReplaceAllString(is, "")
			if strings.HasPrefix(is, "L") { // SFTP sets no times of links
				some[name], _, _ = strings.Cut(is, " 20")
			}
		}
	}
	return some
}
