package state

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
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

func TestInsideFollowsLinks(t *testing.T) {
	dir := t.TempDir()
	root := filepath.Join(dir, "htdocs")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "sub"), 0o755))
	require.NoError(t, os.Symlink(filepath.Join(root, "sub"), filepath.Join(dir, "link")))
	for p, want := range map[string]bool{root: true, root + "/new/store": true, dir + "/link/store": true, dir: false, dir + "/htdocs-backups": false, dir + "/elsewhere": false} {
		assert.Equal(t, want, Inside(p, root), p)
	}
}
