//go:build linux

package restore_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/work/restore"
)

// inodeOf is the inode of a file in the webroot.
func (b *bench) inodeOf(name string) uint64 {
	b.t.Helper()
	info, err := os.Stat(filepath.Join(b.dir, "htdocs", name))
	require.NoError(b.t, err)
	return info.Sys().(*syscall.Stat_t).Ino
}

func (b *bench) link(first, further string) {
	b.t.Helper()
	require.NoError(b.t, os.Link(filepath.Join(b.dir, "htdocs", first), filepath.Join(b.dir, "htdocs", further)))
}

// A file with several names is saved under the first that can be read: what the others were links to need not be there.
// Such archives were called sound, and could not be restored.
func TestAFileOfSeveralNamesWhoseFirstIsNotSaved(t *testing.T) {
	for name, why := range map[string]error{"gone meanwhile": fs.ErrNotExist, "unreadable": fs.ErrPermission} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			b.folder("htdocs/m")
			b.write("htdocs/m/a.txt", "the lamp is lit")
			b.link("m/a.txt", "m/b.txt")
			b.link("m/a.txt", "z.txt")
			b.write("htdocs/p.txt", "a pair")
			b.link("p.txt", "q.txt")
			hit := false
			b.disk.Fault = func(op, path string) error {
				if op != "lstat" && strings.HasSuffix(path, "m/a.txt") {
					hit = true
					return why
				}
				return nil
			}
			require.NoError(t, b.backup())
			b.disk.Fault = nil
			require.True(t, hit)
			require.NoError(t, os.RemoveAll(filepath.Join(b.dir, "htdocs/m")))
			require.NoError(t, os.Remove(filepath.Join(b.dir, "htdocs/z.txt")))
			b.write("htdocs/p.txt", "changed")
			require.NoError(t, b.restore())
			assert.Equal(t, "the lamp is lit", b.is("m/b.txt"))
			assert.Equal(t, b.inodeOf("m/b.txt"), b.inodeOf("z.txt"))
			assert.Equal(t, "a pair", b.is("q.txt"))
			assert.Equal(t, b.inodeOf("p.txt"), b.inodeOf("q.txt"))
		})
	}
}

// A further name of a file can be put back alone: with the archive's content, whatever the first name holds by now.
func TestAFurtherNameIsPutBackAlone(t *testing.T) {
	b := newBench(t)
	b.folder("htdocs/m")
	b.write("htdocs/m/a.txt", "the lamp is lit")
	b.link("m/a.txt", "y.txt")
	b.link("m/a.txt", "z.txt")
	require.NoError(t, b.backup())
	b.write("htdocs/m/a.txt", "defaced") // all three
	b.share = restore.Matching([]string{"y.txt", "z.txt"}, false)
	require.NoError(t, b.restore())
	assert.Equal(t, "defaced", b.is("m/a.txt"), "it is not of the share")
	assert.Equal(t, "the lamp is lit", b.is("y.txt"))
	assert.Equal(t, b.inodeOf("y.txt"), b.inodeOf("z.txt"))
}
