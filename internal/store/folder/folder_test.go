package folder

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

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
