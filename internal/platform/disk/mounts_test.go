//go:build linux

package disk_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

func TestMountsBelow(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	site := filepath.Join(dir, "my site")
	require.NoError(t, os.MkdirAll(filepath.Join(site, "uploads"), 0o755))
	require.NoError(t, os.Symlink("my site", filepath.Join(dir, "current")))
	line := func(at string) string { return "36 35 98:0 /mnt1 " + at + " rw,noatime master:1 - ext3 /dev/root rw\n" }
	escaped := dir + `/my\040site`
	table := filepath.Join(dir, "table")
	require.NoError(t, os.WriteFile(table, []byte(line("/")+line(escaped)+line(escaped+`/up\134loads`)+line(escaped+"/uploads")+line(escaped+"/uploads")+line(escaped+"2/x")+"\nshort\n"), 0o600))
	d := &disk.Disk{MountTable: table}
	for _, at := range []string{site, filepath.Join(dir, "current"), site + "/"} {
		below, err := d.MountsBelow(at)
		require.NoError(t, err)
		assert.Equal(t, []string{site + `/up\loads`, site + "/uploads"}, below)
	}
	below, err := d.MountsBelow(filepath.Join(site, "uploads"))
	require.NoError(t, err)
	assert.Empty(t, below, "not itself")
	below, err = d.MountsBelow(filepath.Join(dir, "gone"))
	require.NoError(t, err)
	assert.Empty(t, below)
	for at, want := range map[string]bool{site: true, dir: false} {
		is, err := d.IsMount(at)
		require.NoError(t, err)
		assert.Equal(t, want, is)
	}
	all, err := (*disk.Disk)(nil).Mounts()
	require.NoError(t, err)
	assert.Contains(t, all, "/proc", "the system's own")
}
