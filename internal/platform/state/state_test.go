package state

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
)

func TestOneRunASite(t *testing.T) {
	s, err := Open(&disk.Disk{}, t.TempDir())
	require.NoError(t, err)
	unlock, err := s.Lock("kestrelpoint")
	require.NoError(t, err)
	_, err = s.Lock("kestrelpoint")
	assert.ErrorIs(t, err, ErrBusy)
	other, err := s.Lock("other")
	require.NoError(t, err, "sites do not wait for each other")
	other()
	unlock()
	again, err := s.Lock("kestrelpoint")
	require.NoError(t, err)
	again()
}

// What lies in the state folder is believed: nobody else may have a hand in it.
func TestAStateFolderOfOthers(t *testing.T) {
	dir := t.TempDir()
	at := func(name string, mode os.FileMode, owner, group int) string {
		p := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(p, 0o700))
		require.NoError(t, os.Chown(p, owner, group))
		require.NoError(t, os.Chmod(p, mode))
		return p
	}
	me, mine := os.Geteuid(), os.Getegid()
	refused := func(folder string, accounts ...int) bool {
		_, err := Open(&disk.Disk{}, folder, accounts...)
		return reason.Is(err, reason.StateOfOthers)
	}
	assert.False(t, refused(filepath.Join(dir, "new/folder")))
	assert.False(t, refused(at("own", 0o755, me, mine)))
	assert.True(t, refused(at("everybody", 0o777, me, mine)))
	if me != 0 {
		t.Skip("only root can give folders away")
	}
	assert.True(t, refused(at("theirs", 0o700, 61871, 61871)))
	assert.False(t, refused(filepath.Join(dir, "theirs"), 61871), "who has become root could do so anyway")
	assert.True(t, refused(at("group", 0o770, 0, 33)))
	assert.True(t, refused(filepath.Join(at("above", 0o755, 61871, 0), "state")), "its owner could put another one in its place")
	require.NoError(t, os.Symlink(filepath.Join(dir, "own"), filepath.Join(dir, "link")))
	assert.False(t, refused(filepath.Join(dir, "link")))
	require.NoError(t, os.Lchown(filepath.Join(dir, "link"), 61871, 0))
	assert.True(t, refused(filepath.Join(dir, "link")))
}

func TestInsideFollowsLinks(t *testing.T) {
	dir := t.TempDir()
	root := filepath.Join(dir, "htdocs")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "sub"), 0o755))
	require.NoError(t, os.Symlink(filepath.Join(root, "sub"), filepath.Join(dir, "link")))
	for p, want := range map[string]bool{root: true, root + "/new/store": true, dir + "/link/store": true, dir: false, dir + "/htdocs-backups": false, dir + "/elsewhere": false} {
		assert.Equal(t, want, Inside(p, root), p)
	}
}
