package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"testing"

	"revlet/internal/practice/place"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A further folder that is a mount point is exchanged from inside, too: what restores have set aside in it is no part of the
// site, and stays where the undo of an older one looks for it.
func TestAFurtherFolderThatIsAMountPoint(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting a small file system takes root")
	}
	w, _ := museum(t)
	require.NoError(t, os.Mkdir(w.path("media"), 0o755))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=30m", "none", w.path("media")).CombinedOutput(); err != nil {
		t.Skipf("no tmpfs can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", w.path("media")).Run() })
	w.write("media/a.txt", "a")
	w.write("media/deep/b.txt", "b")
	w.write("revlet.yaml", w.read("revlet.yaml")+"\n    roots: {media: ./media}\n")
	w.run("backup")
	require.NoError(t, os.Remove(w.path("media/a.txt")))
	w.write("media/planted.php", "<?php evil();")
	broken := snapshot(t, w.path("media"))
	for range 2 {
		w.run("restore", "kestrelpoint", "--yes")
		assert.FileExists(t, w.path("media/a.txt"))
		assert.Contains(t, w.run("compare", "kestrelpoint"), "Nothing differs")
		w.run("backup")
		assert.NotContains(t, w.run("show", "kestrelpoint", "--files"), ".revlet-")
	}
	w.run("undo", "kestrelpoint", "--yes")
	assert.FileExists(t, w.path("media/a.txt"), "the first restore stands")
	w.run("undo", "kestrelpoint", "--yes")
	is := snapshot(t, w.path("media"))
	delete(broken, ".") // its time tells of exchanges
	delete(is, ".")
	assert.Equal(t, broken, is)
}

// Rules of what to leave out are of the webroot: what a further folder has under such a name is in the archive, and a restore
// makes it what it was.
func TestRulesAreNotOfFurtherFolders(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.write("htdocs/private/notes.txt", "of the webroot")
	w.write("media/private/a.txt", "a")
	w.write("media/cache/b.txt", "b")
	w.write("revlet.yaml", w.read("revlet.yaml")+"\n    roots: {media: ./media}\n    skip: [private/**]\n")
	w.run("backup")
	good := snapshot(t, w.path("media"))
	w.write("media/private/door.php", "<?php evil();")
	w.write("media/cache/door.php", "<?php evil();")
	require.NoError(t, os.Remove(w.path("media/private/a.txt")))
	out := w.run("restore", "kestrelpoint", "--yes")
	assert.Contains(t, out, "private/notes.txt")
	assert.NotContains(t, out, "media/private")
	assert.Equal(t, good, snapshot(t, w.path("media")))
	assert.FileExists(t, w.path("htdocs/private/notes.txt"), "what the archive never held stays")
}

// A folder that two sites have is put back for both, which is said.
func TestAFolderOfTwoSites(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for name, text := range map[string]string{"a/index.html": "a", "b/index.html": "b", "shared/x.txt": "x"} {
		w.write(name, text)
	}
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	require.NoError(t, os.Symlink("shared", w.path("linked")))
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  one: {root: ./a, roots: {shared: ./shared}, recipe: none, stores: [here]}\n  two: {root: ./b, roots: {common: ./linked}, recipe: none, stores: [here]}\n")
	w.run("backup")
	assert.Contains(t, w.run("preflight", "one"), w.path("shared")+" is a folder of site two, too")
	assert.Contains(t, w.run("preflight", "two"), w.path("linked")+" is a folder of site one, too")
	const both = "what becomes of it becomes of both sites"
	assert.Contains(t, w.run("restore", "one", "--dry-run"), both)
	assert.Contains(t, w.run("restore", "one", "--path", "shared/x.txt", "--dry-run"), both)
	assert.NotContains(t, w.run("restore", "one", "--path", "index.html", "--dry-run"), both)
	assert.NotContains(t, w.run("restore", "one", "--only", "files", "--path", "index.html", "--dry-run"), both)
	assert.Contains(t, w.run("restore", "two", "--dry-run"), w.path("linked")+" is a folder of site one, too")
}

// A folder of the system is not replaced by a restore, and the dry run and preflight say so before. (Nothing but a dry run is
// tried here.)
func TestAFolderOfTheSystemIsNotReplaced(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	w.write("revlet.yaml", w.read("revlet.yaml")+"\n    roots: {system: /boot}\n")
	w.fails(1, []string{"/boot is a folder of the system"}, "restore", "kestrelpoint", "--dry-run")
	w.fails(1, []string{"/boot is a folder of the system"}, "restore", "kestrelpoint", "--path", "uploads", "--dry-run")
	assert.Contains(t, w.try("preflight").out, "/boot is a folder of the system")

	// Nor of another machine's, whose system is a folder of this one here.
	host, err := place.Start(place.SFTP, place.Options{Dir: w.dir, Keys: w.path("hostkeys"), User: "keeper", Password: "practice", Faults: &place.Faults{}})
	require.NoError(t, err)
	t.Cleanup(host.Close)
	w.write("host.pw", "practice\n")
	w.write("etc/passwd", "theirs")
	w.write("far/index.html", "a page")
	w.write("revlet.yaml", fmt.Sprintf("state: ./farstate\nstores: {here: {folder: ./fararchives}}\nsites:\n  far: {root: %q, roots: {system: /etc}, recipe: none, stores: [here], reach: {password_file: %s, host_key: %q}}\n", host.Address+"far", w.path("host.pw"), host.Fingerprint))
	require.NoError(t, os.MkdirAll(w.path("fararchives"), 0o755))
	w.run("backup", "far")
	for _, how := range []string{"--dry-run", "--yes"} {
		w.fails(1, []string{"/etc is a folder of the system"}, "restore", "far", how)
	}
	assert.Equal(t, "theirs", w.read("etc/passwd"))
}

// What an entry names and an archive does not hold stays, and that is said; what an archive holds and the entry does not name
// is refused before anything is asked.
func TestFoldersThatTheArchiveAndTheEntryDoNotShare(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.write("media/a.txt", "a")
	w.write("films/a.txt", "a")
	entry := w.read("revlet.yaml")
	with := func(roots string) { w.write("revlet.yaml", entry+"\n    roots: {"+roots+"}\n") }
	with("media: ./media")
	w.run("backup")
	require.NoError(t, os.Remove(w.path("media/a.txt")))
	for _, roots := range []string{"", "films: ./media"} {
		with(roots)
		for _, args := range [][]string{{"--dry-run"}, {"--yes"}, {"--path", "**/a.txt", "--dry-run"}} {
			w.fails(1, []string{`holds a folder "media" that the site's entry does not name now`, "`roots: {media: " + w.path("media") + "}`"}, append([]string{"restore", "kestrelpoint"}, args...)...)
		}
		w.run("restore", "kestrelpoint", "--path", "uploads", "--dry-run")
		w.fails(4, []string{"DOES NOT RESTORE"}, "rehearse", "kestrelpoint")
	}
	with("films: ./films, media: ./media")
	for _, how := range []string{"--dry-run", "--yes"} {
		out := w.run("restore", "kestrelpoint", how)
		assert.Contains(t, out, w.path("htdocs")+" and "+w.path("media")+" become exactly the archive's")
		assert.Contains(t, out, "as it is, for the archive does not hold it, stays "+w.path("films"))
	}
	assert.FileExists(t, w.path("media/a.txt"))
	assert.FileExists(t, w.path("films/a.txt"))
	assert.Contains(t, w.run("rehearse", "kestrelpoint"), "every byte and every row is as it was saved")
	w.run("undo", "kestrelpoint", "--yes")
	assert.FileExists(t, w.path("films/a.txt"))
}
