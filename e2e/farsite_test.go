package e2e

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
	"revlet/internal/practice/line"
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
	// A database that is read here has its logs beside it for a moment, a page that is looked
	// at comes into the cache, and the outermost folder is this one's own.
	for _, name := range []string{".", "data", "cache"} {
		delete(all, name)
	}
	for name, is := range all { // SFTP has whole seconds, and says nothing of files with several names
		all[name] = untold.ReplaceAllString(is, "")
	}
	return all, fmt.Sprint(shown.Tables)
}

// A site on another machine: recognised, saved, compared, checked and tried, with the same
// words as one on this machine.
func TestASiteElsewhere(t *testing.T) {
	t.Parallel()
	w, root := farMuseum(t)
	key := []string{"--ssh-key", w.path("ssh/id")}

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
		for i := range 400 { // enough of them come in one stream
			w.write(fmt.Sprintf("htdocs/uploads/many/%03d.txt", i), strings.Repeat("a page\n", i))
		}
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
		w.write("plain.yaml", "state: ./state-plain\n"+strings.NewReplacer("reach: {", "reach: {commands: no, ", w.path("archives"), w.path("archives-plain")).Replace(w.read("revlet.yaml")))
		require.NoError(t, os.MkdirAll(w.path("archives-plain"), 0o755))
		w.run("--config", w.path("plain.yaml"), "preflight", "--trust")
		w.run("--config", w.path("plain.yaml"), "backup")
		fromPlain, _ := takenOut(t, w, w.path("plain.yaml"))
		assert.Equal(t, fromHere, fromPlain, "file by file, without commands")
	})
	w.step(t, "what differs", func(t *testing.T) {
		require.NoError(t, os.Remove(w.path("htdocs/themes/lantern/style.css")))
		require.NoError(t, os.WriteFile(w.path("htdocs/uploads/planted.php"), []byte("<?php system($_GET['c']);"), 0o644))
		r := w.try("compare", "kestrelpoint")
		assert.Equal(t, 4, r.code, r.err)
		assert.Contains(t, r.out, "uploads/planted.php")
		assert.Contains(t, r.out, "style.css")
		noise := make([]byte, 5000)
		_, _ = rand.Read(noise)
		require.NoError(t, os.WriteFile(w.path("htdocs/index.html"), noise, 0o644))
		out := w.run("backup")
		assert.Contains(t, out, "scrambled", "what somebody has encrypted is seen without fetching it again")
		assert.Contains(t, out, "planted")
	})
	w.step(t, "an archive of it comes up here, and one from here there", func(t *testing.T) {
		before := snapshot(t, filepath.Join(w.dir, "htdocs"))
		w.try("move", "kestrelpoint", "--to", "copy", "--root", w.path("copy"), "--address", "http://127.0.0.1:9/", "--yes")
		assert.FileExists(t, w.path("copy/index.html"))
		assert.FileExists(t, w.path("copy/data/museum.db"))
		w.try("backup", "copy")
		there := func(to string, more ...string) []string {
			return append(append([]string{"move", "copy", "--to", "other", "--root", to, "--address", "http://127.0.0.1:9/other", "--yes"}, key...), more...)
		}
		w.fails(1, []string{"belongs to site kestrelpoint"}, there(root+"/below")...)
		w.fails(4, []string{"Came up", root + "2"}, there(root+"2")...)
		assert.FileExists(t, w.path("htdocs2/data/museum.db"))
		assert.Contains(t, w.read("revlet.yaml"), root+"2")
		w.run("backup", "other")
		text, err := lampblack.Dump(context.Background(), w.path("htdocs2/data/museum.db"))
		require.NoError(t, err)
		assert.Contains(t, text, "http://127.0.0.1:9/other")
		w.run("undo", "other", "--yes")
		assert.NoDirExists(t, w.path("htdocs2"))
		assert.NoDirExists(t, w.path("sftp:"))
		assert.Equal(t, before, snapshot(t, filepath.Join(w.dir, "htdocs")))
	})
	w.step(t, "copies made by hand, and a store that is found", func(t *testing.T) {
		sh(t, fmt.Sprintf("cd %s/htdocs && tar -cf ../byhand.tar --exclude=data/museum.db . ", w.dir))
		r := w.try("import", w.path("byhand.tar"), "--site", "kestrelpoint")
		assert.Equal(t, 0, r.code, r.err)
		w.write("found.yaml", "state: ./state-found\n")
		out := w.run("--config", w.path("found.yaml"), "stores", "discover", w.path("archives"), "--name", "here")
		assert.Contains(t, out, root)
		assert.Contains(t, w.read("found.yaml"), root)
		w.fails(1, []string{"`key_file:`"}, "--config", w.path("found.yaml"), "backup", "kestrelpoint")
	})
	w.step(t, "guarded", func(t *testing.T) {
		w.run("accounts", "kestrelpoint", "--all")
		w.run("restore", "kestrelpoint", "--yes")
		w.run("settle", "kestrelpoint", "--yes", "--unsaved")
		before := liveTree(t, w)
		w.run("guard", "kestrelpoint", "--patience", "1 second", "--", "touch", w.path("htdocs/uploads/fresh"))
		assert.FileExists(t, w.path("htdocs/uploads/fresh"))
		require.NoError(t, os.Remove(w.path("htdocs/uploads/fresh")))
		r := w.try("guard", "kestrelpoint", "--patience", "1 second", "--", "sh", "-c", "rm -r "+w.path("htdocs/core"))
		assert.Contains(t, r.out+r.err, "Put back")
		delete(before, "uploads")
		now := liveTree(t, w)
		assert.NotContains(t, now, "uploads/fresh")
		delete(now, "uploads")
		assert.Equal(t, before, now)
	})
}

// Forty sites on another machine: one of its lines hangs, and one key is not let in. The
// others are saved, in time, and what came of each stands in one table.
func TestManySitesElsewhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	port := sshd(t, w)
	who, err := user.Current()
	require.NoError(t, err)
	dead, err := line.New(fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	t.Cleanup(func() { _ = dead.Close() })
	dead.FallSilent()
	dead.Start()
	sh(t, fmt.Sprintf("mkdir -p %[1]s/archives %[1]s/sites && ssh-keygen -q -t ed25519 -N '' -f %[1]s/stranger", w.dir))
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\ninclude: sites/*.yaml\nat_once: 6\n"+
		"defaults: {stores: [here], recipe: none, reach: {key_file: ./ssh/id}}\nsites:\n  here: {root: ./far/site-00}\n")
	for i := range 40 {
		name, reach, at := fmt.Sprintf("site-%02d", i), "", port
		w.write(fmt.Sprintf("far/%s/index.html", name), "the lamp of "+name)
		switch i {
		case 7:
			at, reach = dead.Port(), ", reach: {key_file: ../ssh/id, silence: 1 second}"
		case 23:
			reach = ", reach: {key_file: ../stranger}"
		}
		w.write("sites/"+name+".yaml", fmt.Sprintf("sites:\n  %s: {root: \"sftp://%s@127.0.0.1:%d%s\"%s}\n", name, who.Username, at, w.path("far", name), reach))
	}
	w.run("preflight", "site-00", "--trust")
	began := time.Now()
	r := w.try("backup")
	assert.Equal(t, 3, r.code, r.out+r.err)
	assert.Less(t, time.Since(began), 2*time.Minute)
	assert.Contains(t, r.out, "39 sites saved, 2 sites NOT saved.")
	assert.Regexp(t, `(?m)^site-07 +- +- +- .*FAILED: not reached`, r.out)
	assert.Regexp(t, `(?m)^site-23 +- +- +- .*FAILED: .*does not let`, r.out)
	assert.Regexp(t, `(?m)^site-22 +\d{8}-\d{6} .* saved`, r.out)
	assert.Contains(t, r.err, "revlet: site site-07: ")
	var listed struct{ Archives []struct{ Site string } }
	w.json(&listed, "archives")
	assert.Len(t, listed.Archives, 39)
	r = w.try("backup", "site-07", "site-23")
	assert.Equal(t, 1, r.code, "none was saved")
	var answer struct {
		Archives []struct{ Name string }
		Failed   map[string]string
	}
	r = w.try("backup", "site-01", "site-23", "--json")
	assert.Equal(t, 3, r.code)
	decodeJSON(t, r.out, &answer)
	assert.Len(t, answer.Archives, 1)
	assert.Contains(t, answer.Failed["site-23"], "does not let")
	w.run("verify", "--full")
}
