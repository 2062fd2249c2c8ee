package e2e

import (
	"bytes"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/practice/place"
)

// What a site still has as it was saved is not fetched from elsewhere; what only looks so is.
func TestWhatIsStillThereIsNotFetched(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	var mu sync.Mutex
	read := map[string]bool{}
	faults := &place.Faults{Fail: func(op, name string) error {
		mu.Lock()
		defer mu.Unlock()
		if op == "open" && strings.Contains(name, "/parts/") {
			read[filepath.Base(name)] = true
		}
		return nil
	}}
	_, f := standin(w, place.SFTP, faults, "")
	offsiteOnly(w, address, f, "")
	w.run("stores", "test", "harbour", "--trust")
	w.run("backup")
	before := snapshot(t, w.path("htdocs"), "data", "cache/home.html")
	files := map[string]bool{}
	var shown struct{ Record archive.Record }
	w.json(&shown, "show", "kestrelpoint")
	for _, p := range shown.Record.Parts {
		if p.Kind == "files" {
			files[p.Name] = true
		}
	}
	require.NotEmpty(t, files)
	fetched := func() (n int) {
		mu.Lock()
		defer mu.Unlock()
		for name := range read {
			if files[name] {
				n++
			}
		}
		clear(read)
		return n
	}
	type restored struct {
		Paths      int64
		StillThere struct{ Paths, Bytes int64 } `json:"still_there"`
	}
	put := func() (r restored) {
		fetched()
		w.json(&r, "restore", "kestrelpoint", "--only", "files", "--yes")
		assert.Equal(t, before, snapshot(t, w.path("htdocs"), "data", "cache/home.html"))
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
		return r
	}
	all := put()
	assert.Zero(t, fetched(), "nothing differs, so nothing comes over the line")
	assert.Greater(t, all.StillThere.Paths, int64(20))

	pictures, err := filepath.Glob(w.path("htdocs/uploads/2026/gallery/*.png"))
	require.NoError(t, err)
	require.Greater(t, len(pictures), 4)
	// Other permissions and another time: the content is there.
	require.NoError(t, os.Chmod(pictures[0], 0o600))
	require.NoError(t, os.Chtimes(pictures[0], time.Now(), time.Now()))
	assert.Equal(t, all.StillThere.Paths, put().StillThere.Paths)
	assert.Zero(t, fetched())

	// As long and as old, and another content; a link to the right content, a pipe, a folder; and one that is gone.
	info, err := os.Stat(pictures[0])
	require.NoError(t, err)
	data, err := os.ReadFile(pictures[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(pictures[0], bytes.Repeat([]byte{'x'}, len(data)), 0o644))
	require.NoError(t, os.Chtimes(pictures[0], info.ModTime(), info.ModTime()))
	require.NoError(t, os.Rename(pictures[1], w.path("elsewhere.png")))
	require.NoError(t, os.Symlink(w.path("elsewhere.png"), pictures[1]))
	require.NoError(t, os.Remove(pictures[2]))
	require.NoError(t, exec.Command("mkfifo", pictures[2]).Run())
	require.NoError(t, os.Remove(pictures[3]))
	require.NoError(t, os.Mkdir(pictures[3], 0o755))
	require.NoError(t, os.Remove(pictures[4]))
	w.write("htdocs/planted.php", "<?php evil();")
	assert.Equal(t, all.StillThere.Paths-5, put().StillThere.Paths)
	assert.Positive(t, fetched())
	assert.NoFileExists(t, w.path("htdocs/planted.php"))
}

// On a file system that lets files share blocks, what a site still has takes no room a second time.
func TestWhatIsStillThereSharesItsBlocks(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting a file system takes root")
	}
	t.Parallel()
	need(t, "mkfs.xfs")
	w, _ := museum(t)
	image := w.path("image")
	w.write("image", "")
	require.NoError(t, os.Truncate(image, 320<<20))
	out, err := exec.Command("mkfs.xfs", "-q", image).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, os.Mkdir(w.path("srv"), 0o755))
	if out, err := exec.Command("mount", "-o", "loop", image, w.path("srv")).CombinedOutput(); err != nil {
		t.Skipf("no XFS can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", w.path("srv")).Run() })
	require.NoError(t, exec.Command("cp", "-a", w.path("htdocs"), w.path("srv")).Run())
	require.NoError(t, os.RemoveAll(w.path("htdocs")))
	require.NoError(t, os.Symlink("srv/htdocs", w.path("htdocs"))) // where it is served from
	w.edit("revlet.yaml", w.path("htdocs"), w.path("srv/htdocs"))
	film, longer := make([]byte, 40<<20), make([]byte, 1<<20)
	random := rand.NewChaCha8([32]byte{1})
	_, _ = random.Read(film)
	_, _ = random.Read(longer)
	w.write("srv/htdocs/uploads/film.mp4", string(film))
	w.write("srv/htdocs/uploads/short.mp4", string(longer))
	w.run("backup")
	tree := func() map[string]string { return snapshot(t, w.path("srv/htdocs"), "data", "cache/home.html") }
	whole := tree()
	copy(longer[1<<19:], "broken")
	w.write("srv/htdocs/uploads/short.mp4", string(longer))
	broken := tree()
	taken := func() int64 {
		require.NoError(t, exec.Command("sync", "-f", w.path("srv")).Run())
		var s syscall.Statfs_t
		require.NoError(t, syscall.Statfs(w.path("srv"), &s))
		return int64(s.Blocks-s.Bfree) * s.Bsize
	}
	before := taken()
	w.run("restore", "kestrelpoint", "--only", "files", "--yes")
	assert.Equal(t, whole, tree())
	assert.Less(t, taken()-before, int64(len(film)/2), "the site and what was set aside have the film in common")
	w.write("srv/htdocs/uploads/film.mp4", "written over, and not in what was set aside")
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, tree())
}
