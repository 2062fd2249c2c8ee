//go:build linux

package restore_test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

func (b *bench) folder(rel string) {
	require.NoError(b.t, os.MkdirAll(filepath.Join(b.dir, rel), 0o755))
}

// uncovered maps what the last restore found to why.
func (b *bench) uncovered() map[string]string {
	all := map[string]string{}
	for _, u := range b.last.Uncovered {
		all[u.Path] = u.Why
	}
	return all
}

// is what a file of the webroot says; empty if there is none.
func (b *bench) is(rel string) string {
	data, err := os.ReadFile(filepath.Join(b.dir, "htdocs", rel))
	if os.IsNotExist(err) {
		return ""
	}
	require.NoError(b.t, err)
	return string(data)
}

func TestWhatAnArchiveNeverHeldIsCarriedOver(t *testing.T) {
	b := newBench(t)
	b.skip = []string{"videos", "**/*.mbox"}
	b.folder("htdocs/videos/2026")
	b.write("htdocs/videos/2026/lamp.mp4", "the only copy")
	b.write("htdocs/sub/mail.mbox", "From: keeper")
	require.NoError(t, b.backup())

	// Since then: a folder that no archive knows, with something left out in it.
	b.folder("htdocs/new/deep")
	require.NoError(t, os.Chmod(filepath.Join(b.dir, "htdocs/new"), 0o750))
	require.NoError(t, os.Chmod(filepath.Join(b.dir, "htdocs/sub"), 0o700))
	b.write("htdocs/new/deep/in.mbox", "From: visitor")
	b.write("htdocs/new/added.html", "added")
	b.write("htdocs/videos/shell.php", "<?php evil();")
	old := time.Date(2020, 2, 3, 4, 5, 6, 0, time.UTC)
	require.NoError(t, os.Chtimes(filepath.Join(b.dir, "htdocs/new/deep"), old, old))

	require.NoError(t, b.restore())
	assert.Equal(t, map[string]string{
		"videos": "left out by the rule videos", "sub/mail.mbox": "left out by the rule **/*.mbox", "new/deep/in.mbox": "left out by the rule **/*.mbox",
	}, b.uncovered())
	assert.Equal(t, "the only copy", b.is("videos/2026/lamp.mp4"))
	assert.Equal(t, "From: keeper", b.is("sub/mail.mbox"))
	assert.Equal(t, "From: visitor", b.is("new/deep/in.mbox"))
	assert.Empty(t, b.is("new/added.html"), "an archive could have held it: it goes")
	for _, u := range b.last.Uncovered {
		if u.Path == "videos" {
			assert.Equal(t, int64(2), u.Files)
			assert.Equal(t, int64(len("the only copy")+len("<?php evil();")), u.Bytes)
			assert.Equal(t, []string{"videos/shell.php"}, u.Scripts, "what a server may run is named")
		}
	}
	info, err := os.Stat(filepath.Join(b.dir, "htdocs/new"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o750), info.Mode().Perm(), "a folder that no archive describes stays what it is")
	info, err = os.Stat(filepath.Join(b.dir, "htdocs/sub"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o755), info.Mode().Perm(), "one that it describes becomes so")
	info, err = os.Stat(filepath.Join(b.dir, "htdocs/new/deep"))
	require.NoError(t, err)
	assert.True(t, info.ModTime().Equal(old), "nobody has changed it")

	b.write("htdocs/sub/mail.mbox", "From: keeper; From: later")
	require.NoError(t, b.undo())
	assert.Equal(t, "From: keeper; From: later", b.is("sub/mail.mbox"), "what came since is not lost by taking back")
	assert.Equal(t, "added", b.is("new/added.html"))
	assert.Equal(t, "the only copy", b.is("videos/2026/lamp.mp4"))
	assert.Empty(t, b.leftovers())
}

func TestACleanRestoreLeavesNothingBehind(t *testing.T) {
	b := newBench(t)
	b.skip, b.clean = []string{"videos", "shop"}, true
	b.folder("htdocs/videos")
	b.folder("htdocs/shop")
	b.write("htdocs/shop/index.php", "the shop")
	b.others = map[string]string{filepath.Join(b.dir, "htdocs/shop"): "shop"}
	b.write("htdocs/videos/lamp.mp4", "the only copy")
	require.NoError(t, b.backup())
	require.NoError(t, b.restore())
	assert.Contains(t, b.uncovered(), "videos", "it is named all the same")
	assert.Empty(t, b.is("videos/lamp.mp4"))
	assert.Equal(t, "the shop", b.is("shop/index.php"), "another site is not ours to set aside")
	require.NoError(t, b.undo())
	assert.Equal(t, "the only copy", b.is("videos/lamp.mp4"))
}

func TestTheFolderOfAnotherSiteInsideStays(t *testing.T) {
	b := newBench(t)
	b.skip = []string{"shop"}
	b.folder("htdocs/shop")
	b.write("htdocs/shop/index.php", "the shop")
	b.others = map[string]string{filepath.Join(b.dir, "htdocs/shop"): "shop", filepath.Join(b.dir, "nowhere"): "gone"}
	require.NoError(t, b.backup())

	// Even one that came into being after the archive, and that no rule names.
	b.skip = nil
	b.folder("htdocs/blog")
	b.write("htdocs/blog/index.php", "the blog")
	b.others[filepath.Join(b.dir, "htdocs/blog")] = "blog"
	require.NoError(t, b.restore())
	assert.Equal(t, map[string]string{"shop": "it belongs to site shop", "blog": "it belongs to site blog"}, b.uncovered())
	assert.Equal(t, "the shop", b.is("shop/index.php"))
	assert.Equal(t, "the blog", b.is("blog/index.php"))
	require.NoError(t, b.undo())
	assert.Equal(t, "the shop", b.is("shop/index.php"))
}

func TestAGapOfAnArchiveIsNoReasonToTakeTheFileAway(t *testing.T) {
	b := newBench(t)
	require.NoError(t, syscall.Mkfifo(filepath.Join(b.dir, "htdocs/sub/queue"), 0o600))
	require.NoError(t, b.backup())
	b.write("htdocs/index.html", "defaced")
	require.NoError(t, b.restore())
	require.Len(t, b.last.Uncovered, 1)
	assert.Equal(t, "sub/queue", b.last.Uncovered[0].Path)
	assert.Contains(t, b.last.Uncovered[0].Why, "could not be saved")
	info, err := os.Lstat(filepath.Join(b.dir, "htdocs/sub/queue"))
	require.NoError(t, err)
	assert.Equal(t, os.ModeNamedPipe, info.Mode().Type())
	assert.Equal(t, "old front page", b.is("index.html"))
}

func TestNothingCanStayBelowWhatIsNoFolderInTheArchive(t *testing.T) {
	b := newBench(t)
	b.skip = []string{"media/*.mp4"}
	b.folder("shared")
	require.NoError(t, os.Symlink("../shared", filepath.Join(b.dir, "htdocs/media")))
	require.NoError(t, b.backup())
	require.NoError(t, os.Remove(filepath.Join(b.dir, "htdocs/media")))
	b.folder("htdocs/media")
	b.write("htdocs/media/lamp.mp4", "the only copy")
	err := b.restore()
	require.ErrorContains(t, err, "media is a folder with something in it that the archive never held")
	assert.Equal(t, "the only copy", b.is("media/lamp.mp4"))
	assert.Empty(t, b.leftovers())
	b.clean = true
	require.NoError(t, b.restore())
	info, err := os.Lstat(filepath.Join(b.dir, "htdocs/media"))
	require.NoError(t, err)
	assert.Equal(t, os.ModeSymlink, info.Mode().Type())
}

func TestARuleOverADatabaseFileKeepsWhatLiesBesideIt(t *testing.T) {
	b := newBench(t)
	b.skip = []string{"site.*"}
	b.write("htdocs/site.notes", "by hand")
	require.NoError(t, b.backup())
	b.sql("UPDATE pages SET body = 'defaced'")
	require.NoError(t, b.restore())
	assert.Equal(t, map[string]string{"site.notes": "left out by the rule site.*"}, b.uncovered(), "the database is told of as a database")
	assert.True(t, strings.HasSuffix(b.tree(), "\nold"), "and comes back as one")
	assert.Equal(t, "by hand", b.is("site.notes"))
}

func TestNothingIsCarriedOverALinkOutOfTheTree(t *testing.T) {
	dir := t.TempDir()
	for _, d := range []string{"was", "is/sub", "outside"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, d), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "outside/shadow"), []byte("secret"), 0o600))
	require.NoError(t, os.Symlink("../outside", filepath.Join(dir, "was/sub")))
	d := &disk.Disk{}
	was, err := d.OpenRoot(filepath.Join(dir, "was"))
	require.NoError(t, err)
	defer was.Close()
	is, err := d.OpenRoot(filepath.Join(dir, "is"))
	require.NoError(t, err)
	defer is.Close()
	require.Error(t, was.MoveTo("sub/shadow", is, "sub/shadow"))
	require.NoError(t, was.MoveTo("sub", is, "sub/link"), "a link itself may go")
	require.Error(t, is.MoveTo("sub/link/shadow", was, "shadow"))
	require.FileExists(t, filepath.Join(dir, "outside/shadow"))
}

func TestWhatLiesOnAnotherFileSystemIsRefusedBeforeAnythingIsTouched(t *testing.T) {
	b := newBench(t)
	b.skip = []string{"videos"}
	b.folder("htdocs/videos")
	videos := filepath.Join(b.dir, "htdocs/videos")
	if err := syscall.Mount("none", videos, "tmpfs", 0, ""); err != nil {
		t.Skip("no mount can be made here")
	}
	t.Cleanup(func() { _ = syscall.Unmount(videos, syscall.MNT_DETACH) })
	b.write("htdocs/videos/lamp.mp4", "on its own disk")
	require.NoError(t, b.backup())
	b.write("htdocs/index.html", "defaced")
	untold := filepath.Join(b.dir, "mounts")
	require.NoError(t, os.WriteFile(untold, nil, 0o600))
	for table, says := range map[string]string{"": "something else is mounted inside", untold: "lies on another file system"} {
		b.disk.MountTable = table
		require.ErrorContains(t, b.restore(), says)
		assert.Equal(t, "defaced", b.is("index.html"))
		assert.Equal(t, "on its own disk", b.is("videos/lamp.mp4"))
		assert.Empty(t, b.leftovers())
	}
}
