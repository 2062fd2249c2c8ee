package e2e

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
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
