//go:build linux

package disk

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// within runs a call that must not wait for anything.
func within(t *testing.T, call func()) {
	t.Helper()
	done := make(chan struct{})
	go func() { defer close(done); call() }()
	select {
	case <-done:
	case <-time.After(5 * time.Second):
		t.Fatal("it waits")
	}
}

// Whatever a hostile site puts into its folder, nothing outside is read, and nothing is
// waited for.
func TestAConfinedFolderLeadsNowhere(t *testing.T) {
	base := t.TempDir()
	root, outside := filepath.Join(base, "htdocs"), filepath.Join(base, "outside")
	for _, dir := range []string{root + "/a/b", outside} {
		require.NoError(t, os.MkdirAll(dir, 0o755))
	}
	for _, file := range []string{root + "/a/b/page.html", root + "/top.html", outside + "/secret"} {
		require.NoError(t, os.WriteFile(file, []byte(filepath.Base(file)), 0o644))
	}
	require.NoError(t, os.Symlink(root, filepath.Join(base, "link")))
	for link, target := range map[string]string{"/out": outside, "/secret": outside + "/secret", "/up": "..", "/inside": "a", "/a/page": "b/page.html", "/proc": "/proc/self/root", "/dangling": "nowhere"} {
		require.NoError(t, os.Symlink(target, root+link))
	}
	require.NoError(t, unix.Mkfifo(root+"/pipe", 0o644))
	l, err := unix.Socket(unix.AF_UNIX, unix.SOCK_STREAM, 0)
	require.NoError(t, err)
	defer unix.Close(l)
	require.NoError(t, unix.Bind(l, &unix.SockaddrUnix{Name: root + "/socket"}))

	for name, way := range map[string]string{"as it is": root, "through a link": filepath.Join(base, "link")} {
		t.Run(name, func(t *testing.T) {
			d, done, err := (&Disk{}).Confined(way, filepath.Join(base, "gone"))
			require.NoError(t, err)
			defer done()
			for file, want := range map[string]string{"/top.html": "top.html", "/a/b/page.html": "page.html"} {
				f, err := d.Open(way + file)
				require.NoError(t, err)
				data, err := io.ReadAll(f)
				require.NoError(t, errors.Join(err, f.Close()))
				assert.Equal(t, want, string(data))
			}
			for _, path := range []string{"/out/secret", "/secret", "/up/outside/secret", "/inside/b/page.html", "/a/page", "/proc/etc/hostname", "/dangling", "/a/../../outside/secret", "/../outside/secret", "/pipe", "/socket", "/none"} {
				within(t, func() {
					f, err := d.Open(way + path)
					assert.Error(t, err, path)
					if err == nil {
						_ = f.Close()
					}
				})
			}
			for _, dir := range []string{"/out", "/up", "/inside", "/pipe"} {
				_, err := d.ReadNames(way + dir)
				assert.Error(t, err, dir)
				_, _, err = d.ReadFolder(way+dir, 9)
				assert.Error(t, err, dir)
				assert.Error(t, d.Lstats(way+dir, []string{"x"})[0].Err, dir)
			}
			for _, path := range []string{"/out/secret", "/up/outside", "/inside/b"} {
				_, err := d.Lstat(way + path)
				assert.Error(t, err, path)
				_, err = d.Readlink(way + path)
				assert.Error(t, err, path)
				assert.Error(t, d.Handle(way+path, func(string) error { return nil }), path)
			}
			info, err := d.Lstat(way + "/secret")
			require.NoError(t, err)
			assert.NotZero(t, info.Mode()&os.ModeSymlink, "a link is a link")
			target, err := d.Readlink(way + "/secret")
			require.NoError(t, err)
			assert.Equal(t, outside+"/secret", target)
			names, err := d.ReadNames(way)
			require.NoError(t, err)
			assert.Len(t, names, 10)
			info, err = d.Lstat(way)
			require.NoError(t, err)
			assert.True(t, info.IsDir())
			require.NoError(t, d.Handle(way+"/top.html", func(path string) error {
				data, err := os.ReadFile(path)
				assert.Equal(t, "top.html", string(data))
				return err
			}))
			f, err := d.Open(outside + "/secret")
			require.NoError(t, err, "other paths are as ever")
			require.NoError(t, f.Close())
		})
	}
}

// The same on a kernel without openat2.
func TestPathsAreLookedUpPartByPart(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(root+"/a/b", 0o755))
	require.NoError(t, os.WriteFile(root+"/a/b/x", []byte("x"), 0o644))
	require.NoError(t, os.Symlink("b", root+"/a/link"))
	require.NoError(t, os.Symlink("x", root+"/a/b/y"))
	dir, err := os.Open(root)
	require.NoError(t, err)
	defer dir.Close()
	tr := &tree{path: root, dir: dir}
	for rel, want := range map[string]error{"a/b/x": nil, "a/b": nil, ".": nil, "a/link/x": syscall.ENOTDIR, "a/b/y": syscall.ELOOP, "a/../a/b/x": syscall.EXDEV, "../x": syscall.EXDEV, "none": syscall.ENOENT} {
		fd, err := tr.openByParts(rel, unix.O_RDONLY)
		if want == nil {
			require.NoError(t, err, rel)
			require.NoError(t, unix.Close(fd))
			continue
		}
		assert.ErrorIs(t, err, want, rel)
	}
}

// A folder and a link to outside change places all the while: what is read is never
// from outside.
func TestAConfinedFolderUnderChange(t *testing.T) {
	base := t.TempDir()
	root, outside := filepath.Join(base, "htdocs"), filepath.Join(base, "outside")
	for dir, text := range map[string]string{root + "/dir": "mine", outside: "secret"} {
		require.NoError(t, os.MkdirAll(dir, 0o755))
		require.NoError(t, os.WriteFile(dir+"/file", []byte(text), 0o644))
	}
	require.NoError(t, os.Symlink(outside, root+"/other"))
	stop, swaps := make(chan struct{}), sync.WaitGroup{}
	swaps.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				_ = unix.Renameat2(unix.AT_FDCWD, root+"/dir", unix.AT_FDCWD, root+"/other", unix.RENAME_EXCHANGE)
			}
		}
	})
	defer swaps.Wait()
	defer close(stop)
	d, done, err := (&Disk{}).Confined(root)
	require.NoError(t, err)
	defer done()
	read := 0
	for range 20_000 {
		f, err := d.Open(root + "/dir/file")
		if err != nil {
			continue
		}
		data, err := io.ReadAll(f)
		require.NoError(t, errors.Join(err, f.Close()))
		require.Equal(t, "mine", string(data))
		read++
	}
	assert.Positive(t, read)
}

func TestReadRegularWaitsForNothing(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, unix.Mkfifo(dir+"/pipe", 0o644))
	require.NoError(t, os.WriteFile(dir+"/file", []byte("12345"), 0o644))
	within(t, func() {
		_, err := ReadRegular(dir+"/pipe", 9)
		assert.ErrorIs(t, err, ErrSpecial)
	})
	data, err := ReadRegular(dir+"/file", 5)
	require.NoError(t, err)
	assert.Equal(t, "12345", string(data))
	_, err = ReadRegular(dir+"/file", 4)
	assert.ErrorContains(t, err, "larger than 4 bytes")
}
