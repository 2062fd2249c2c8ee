//go:build linux

package disk

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWriteFileIsWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "journal")
	d := &Disk{}
	require.NoError(t, d.WriteFile(file, []byte("old"), 0o600))
	for at := 1; ; at++ {
		n := 0
		d.Fault = func(string, string) error {
			if n++; n == at {
				return syscall.ENOSPC
			}
			return nil
		}
		err := d.WriteFile(file, []byte("new"), 0o600)
		d.Fault = nil
		data, readErr := os.ReadFile(file)
		require.NoError(t, readErr)
		names, readErr := os.ReadDir(dir)
		require.NoError(t, readErr)
		assert.Len(t, names, 1, "nothing else is left")
		if n < at {
			require.NoError(t, err)
			assert.Equal(t, "new", string(data))
			return
		}
		assert.ErrorIs(t, err, syscall.ENOSPC)
		assert.Contains(t, []string{"old", "new"}, string(data))
		require.NoError(t, d.WriteFile(file, []byte("old"), 0o600))
	}
}

func TestExchange(t *testing.T) {
	dir := t.TempDir()
	a, b := filepath.Join(dir, "a"), filepath.Join(dir, "b")
	require.NoError(t, os.Mkdir(a, 0o755))
	require.NoError(t, os.WriteFile(b, []byte("b"), 0o600))
	d := &Disk{}
	if err := d.ExchangeNoLinks(a, b); ExchangeUnsupported(err) {
		t.Skip("this file system has no atomic exchange")
	}
	data, err := os.ReadFile(a)
	require.NoError(t, err)
	assert.Equal(t, "b", string(data))
	assert.DirExists(t, b)
	assert.ErrorIs(t, d.ExchangeNoLinks(a, filepath.Join(dir, "none")), os.ErrNotExist)
}

func TestARootConfines(t *testing.T) {
	dir := t.TempDir()
	inner := filepath.Join(dir, "inner")
	require.NoError(t, os.MkdirAll(inner, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "kept"), []byte("kept"), 0o600))
	root, err := (&Disk{}).OpenRoot(inner)
	require.NoError(t, err)
	defer root.Close()
	require.NoError(t, root.Symlink("../kept", "link"))
	_, err = root.Create("../new", 0o600)
	assert.Error(t, err)
	assert.Error(t, root.Chmod("link", 0o777))
	assert.Error(t, root.Link("../kept", "hard"))
	assert.Error(t, root.MkdirAll("link/../../x", 0o755))
	info, err := os.Stat(filepath.Join(dir, "kept"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// What is known of a folder's content at once is what lstat says of each path.
func TestReadFolder(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), []byte("content"), 0o640))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder"), 0o700))
	require.NoError(t, os.Chmod(filepath.Join(dir, "folder"), 0o755|fs.ModeSticky|fs.ModeSetgid|fs.ModeSetuid))
	require.NoError(t, os.Symlink("nowhere", filepath.Join(dir, "link")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	d := &Disk{}
	names, infos, err := d.ReadFolder(dir, 3)
	require.NoError(t, err)
	require.Equal(t, []string{"file", "folder", "link", "pipe"}, names)
	require.Len(t, infos, 3)
	for i, info := range append(infos, d.Lstats(dir, []string{"pipe"})...) {
		want, err := os.Lstat(filepath.Join(dir, names[i]))
		require.NoError(t, err)
		require.NoError(t, info.Err)
		require.Equal(t, []any{want.Name(), want.Size(), want.Mode(), want.ModTime(), want.IsDir(), want.Sys()}, []any{info.Name(), info.Size(), info.Mode(), info.ModTime(), info.IsDir(), info.Sys()})
	}
	require.ErrorIs(t, d.Lstats(dir, []string{"none"})[0].Err, fs.ErrNotExist)
	require.ErrorIs(t, d.Lstats(filepath.Join(dir, "none"), []string{"x"})[0].Err, fs.ErrNotExist)
	_, _, err = d.ReadFolder(filepath.Join(dir, "none"), 1)
	require.ErrorIs(t, err, fs.ErrNotExist)
}

// Where a file can have one name only, the other name is a copy like it.
func TestLinkOrCopy(t *testing.T) {
	for _, refused := range []error{syscall.EPERM, syscall.EMLINK, syscall.ENOTSUP, nil} {
		t.Run(fmt.Sprint(refused), func(t *testing.T) {
			dir := t.TempDir()
			d := &Disk{Fault: func(op, _ string) error {
				if op == "link" {
					return refused
				}
				return nil
			}}
			root, err := d.OpenRoot(dir)
			require.NoError(t, err)
			defer root.Close()
			old := filepath.Join(dir, "a")
			require.NoError(t, os.WriteFile(old, []byte("lamp"), 0o640))
			then := time.Date(2020, 1, 2, 3, 4, 5, 0, time.UTC)
			require.NoError(t, os.Chtimes(old, then, then))
			require.NoError(t, root.LinkOrCopy("a", "b"))
			info, err := os.Stat(filepath.Join(dir, "b"))
			require.NoError(t, err)
			require.Equal(t, fs.FileMode(0o640), info.Mode().Perm())
			require.True(t, info.ModTime().Equal(then))
			was, err := os.Stat(old)
			require.NoError(t, err)
			require.Equal(t, refused == nil, os.SameFile(was, info))
			text, err := os.ReadFile(filepath.Join(dir, "b"))
			require.NoError(t, err)
			require.Equal(t, "lamp", string(text))
			require.Error(t, root.LinkOrCopy("a", "../c"))
		})
	}
}

// A link in the place of the temporary file, as whoever owns the folder may put it there,
// is not written through.
func TestWriteFileFollowsNoPlantedLink(t *testing.T) {
	dir := t.TempDir()
	victim := filepath.Join(dir, "victim")
	require.NoError(t, os.WriteFile(victim, []byte("theirs"), 0o600))
	for _, plant := range []func(string) error{
		func(p string) error { return os.Symlink(victim, p) },
		func(p string) error { return os.Link(victim, p) },
		func(p string) error { return os.Symlink(filepath.Join(dir, "none"), p) },
		func(p string) error { return os.WriteFile(p, []byte("planted"), 0o666) },
	} {
		require.NoError(t, plant(filepath.Join(dir, ".new-settings.php")))
		require.NoError(t, (&Disk{}).WriteFile(filepath.Join(dir, "settings.php"), []byte("ours"), 0o600))
		data, err := os.ReadFile(victim)
		require.NoError(t, err)
		assert.Equal(t, "theirs", string(data))
		info, err := os.Lstat(filepath.Join(dir, "settings.php"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode())
		assert.NoFileExists(t, filepath.Join(dir, "none"))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, ".new-settings.php"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".new-settings.php/x"), nil, 0o600))
	require.Error(t, (&Disk{}).WriteFile(filepath.Join(dir, "settings.php"), nil, 0o600))
}

// Whoever owns a folder on the way to a name does not lead a rename elsewhere.
func TestRenamesFollowNoLinksOfOthers(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	for _, p := range []string{"box/new", "site/htdocs", "victim/htdocs", "real/htdocs"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, p), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, p, "of"), []byte(p), 0o600))
	}
	of := func(p string) string { data, _ := os.ReadFile(filepath.Join(dir, p, "of")); return string(data) }
	d := &Disk{}
	// A link of root's, or of this account, is the administrator's way.
	require.NoError(t, os.Symlink("real", filepath.Join(dir, "moved")))
	require.NoError(t, d.ExchangeNoLinks(filepath.Join(dir, "box/new"), filepath.Join(dir, "moved/htdocs")))
	assert.Equal(t, "box/new", of("real/htdocs"))
	require.NoError(t, d.ExchangeNoLinks(filepath.Join(dir, "box/new"), filepath.Join(dir, "moved/htdocs")))
	require.Error(t, d.RenameNoLinks("relative", filepath.Join(dir, "x")))
	require.NoError(t, os.Symlink("turn", filepath.Join(dir, "turn")))
	require.Error(t, d.RenameNoLinks(filepath.Join(dir, "box/new"), filepath.Join(dir, "turn/x")))
	if os.Geteuid() != 0 {
		t.Skip("only root can make links of others")
	}
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "site")))
	for _, target := range []string{"victim", filepath.Join(dir, "victim"), "../" + filepath.Base(dir) + "/victim"} {
		link := filepath.Join(dir, "site")
		require.NoError(t, os.Symlink(target, link))
		require.NoError(t, os.Lchown(link, 61871, 61871))
		for name, do := range map[string]func() error{
			"exchange": func() error { return d.ExchangeNoLinks(filepath.Join(dir, "box/new"), filepath.Join(link, "htdocs")) },
			"into":     func() error { return d.RenameNoLinks(filepath.Join(dir, "box/new"), filepath.Join(link, "new")) },
			"out":      func() error { return d.RenameNoLinks(filepath.Join(link, "htdocs"), filepath.Join(dir, "box/old")) },
		} {
			require.ErrorIs(t, do(), ErrLinkOnTheWay, name)
			assert.Equal(t, "victim/htdocs", of("victim/htdocs"))
			assert.Equal(t, "box/new", of("box/new"))
		}
		require.NoError(t, os.Remove(link))
	}
	// The name itself may be a link: it is what is moved.
	require.NoError(t, os.Symlink("victim", filepath.Join(dir, "last")))
	require.NoError(t, d.RenameNoLinks(filepath.Join(dir, "last"), filepath.Join(dir, "box/last")))
}
