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
	if err := d.Exchange(a, b); ExchangeUnsupported(err) {
		t.Skip("this file system has no atomic exchange")
	}
	data, err := os.ReadFile(a)
	require.NoError(t, err)
	assert.Equal(t, "b", string(data))
	assert.DirExists(t, b)
	assert.ErrorIs(t, d.Exchange(a, filepath.Join(dir, "none")), os.ErrNotExist)
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
