package folder

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
	"revlet/internal/store"
)

func TestObjectsAppearWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	f := New(&disk.Disk{}, dir)
	require.NoError(t, f.Check(t.Context()))
	require.NoError(t, f.Put(t.Context(), "site/parts/ab/abc", strings.NewReader("content"), 7))
	info, err := f.Stat(t.Context(), "site/parts/ab/abc")
	require.NoError(t, err)
	assert.EqualValues(t, 7, info.Bytes)
	in, err := f.Open(t.Context(), "site/parts/ab/abc", 0)
	require.NoError(t, err)
	data, err := io.ReadAll(in)
	require.NoError(t, err)
	require.NoError(t, in.Close())
	assert.Equal(t, "content", string(data))
	file, err := os.Stat(filepath.Join(dir, "site/parts/ab/abc"))
	require.NoError(t, err)
	assert.Zero(t, file.Mode().Perm()&0o077, "nobody else may read an archive")

	assert.Error(t, f.Put(t.Context(), "site/short", strings.NewReader("cut"), 7))
	_, err = f.Stat(t.Context(), "site/short")
	assert.ErrorIs(t, err, store.ErrNotFound)
	left, err := os.ReadDir(f.Incoming())
	require.NoError(t, err)
	assert.Empty(t, left)

	all, err := f.List(t.Context(), "site")
	require.NoError(t, err)
	assert.Len(t, all, 1)
	none, err := f.List(t.Context(), "elsewhere")
	require.NoError(t, err)
	assert.Empty(t, none)
	require.NoError(t, f.Remove(t.Context(), "site/parts/ab/abc"))
	require.NoError(t, f.Remove(t.Context(), "site/parts/ab/abc"), "again is no error")
}

func TestNamesCannotLeaveTheStore(t *testing.T) {
	base := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(base, "secret"), []byte("x"), 0o600))
	f := New(&disk.Disk{}, filepath.Join(base, "store"))
	for _, name := range []string{"../secret", "/etc/passwd", "a/../../secret", ""} {
		assert.Error(t, f.Put(t.Context(), name, strings.NewReader("y"), 1), name)
		_, err := f.Open(t.Context(), name, 0)
		assert.Error(t, err, name)
		assert.Error(t, f.Remove(t.Context(), name), name)
	}
	data, err := os.ReadFile(filepath.Join(base, "secret"))
	require.NoError(t, err)
	assert.Equal(t, "x", string(data))
	assert.ErrorContains(t, New(&disk.Disk{}, filepath.Join(base, "unmounted")).Check(t.Context()), "mounted?")
}

// A power cut after an object was put loses neither it nor the folders above it.
func TestNewFoldersAreMadeDurable(t *testing.T) {
	dir := t.TempDir()
	synced := map[string]bool{}
	d := &disk.Disk{Fault: func(op, path string) error {
		if op == "sync" {
			synced[path] = true
		}
		return nil
	}}
	f := New(d, dir)
	require.NoError(t, f.Put(t.Context(), "site/parts/ab/abc", strings.NewReader("x"), 1))
	for _, folder := range []string{"", "site", "site/parts", "site/parts/ab"} {
		assert.True(t, synced[filepath.Join(dir, folder)], "the names in %q", folder)
	}
}

// A folder that is gone is not an empty one.
func TestAFolderThatIsGoneIsNotEmpty(t *testing.T) {
	f := New(&disk.Disk{}, filepath.Join(t.TempDir(), "gone"))
	_, err := f.List(t.Context(), "site")
	assert.ErrorContains(t, err, "mounted?")
	_, err = f.Folders(t.Context(), "")
	assert.ErrorContains(t, err, "mounted?")
}

// Whoever owns the folder, or once did, may have put links in it: root deleted what was old in any folder of the machine, and
// wrote there.
func TestLinksInAStoreLeadNowhere(t *testing.T) {
	for _, link := range []string{store.Incoming, "site", "site/parts", "site/archives/record.json"} {
		t.Run(link, func(t *testing.T) {
			dir, victim := t.TempDir(), t.TempDir()
			old := filepath.Join(victim, "old.conf")
			require.NoError(t, os.WriteFile(old, []byte("precious"), 0o600))
			long := time.Now().AddDate(0, -1, 0)
			require.NoError(t, os.Chtimes(old, long, long))
			require.NoError(t, os.MkdirAll(filepath.Join(victim, "ab"), 0o700))
			require.NoError(t, os.WriteFile(filepath.Join(victim, "ab/part"), []byte("precious"), 0o600))
			require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(link)), 0o700))
			to := victim
			if strings.HasSuffix(link, ".json") {
				to = old
			}
			require.NoError(t, os.Symlink(to, filepath.Join(dir, link)))
			f := New(&disk.Disk{}, dir)
			_ = f.Check(t.Context())
			for _, name := range []string{"site/parts/ab/part", "site/archives/record.json", "site/ab/part"} {
				_ = f.Put(t.Context(), name, strings.NewReader("planted"), 7)
				_ = f.PutFirst(t.Context(), name+".first", []byte("planted"))
				if in, err := f.Open(t.Context(), name, 0); err == nil {
					data, err := io.ReadAll(in)
					require.NoError(t, err)
					assert.Equal(t, "planted", string(data), name)
					require.NoError(t, in.Close())
				}
				_ = f.Remove(t.Context(), name)
			}
			all, _ := f.List(t.Context(), "site")
			for _, one := range all {
				assert.NotContains(t, one.Name, "old.conf")
			}
			var left []string
			require.NoError(t, filepath.WalkDir(victim, func(p string, _ os.DirEntry, err error) error {
				left = append(left, strings.TrimPrefix(p, victim))
				return err
			}))
			assert.Equal(t, []string{"", "/ab", "/ab/part", "/old.conf"}, left)
		})
	}
}
