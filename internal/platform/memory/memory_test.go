package memory

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsLeft(t *testing.T) {
	const meminfo = "MemTotal:       24683652 kB\nMemAvailable:    1024000 kB\n"
	for name, c := range map[string]struct {
		files map[string]string
		free  int64
		known bool
	}{
		"unknown":               {nil, 0, false},
		"the machine":           {map[string]string{"proc/meminfo": meminfo}, 1024000 << 10, true},
		"no limit":              {map[string]string{"proc/meminfo": meminfo, "proc/self/cgroup": "0::/a/b\n", "sys/fs/cgroup/a/b/memory.max": "max\n", "sys/fs/cgroup/a/b/memory.current": "5"}, 1024000 << 10, true},
		"a group":               {map[string]string{"proc/meminfo": meminfo, "proc/self/cgroup": "0::/a/b\n", "sys/fs/cgroup/a/b/memory.max": "1000\n", "sys/fs/cgroup/a/b/memory.current": "400\n"}, 600, true},
		"the group around it":   {map[string]string{"proc/meminfo": meminfo, "proc/self/cgroup": "0::/a/b\n", "sys/fs/cgroup/a/memory.max": "500", "sys/fs/cgroup/a/memory.current": "450"}, 50, true},
		"a group that is full":  {map[string]string{"proc/self/cgroup": "0::/\n", "sys/fs/cgroup/memory.max": "500", "sys/fs/cgroup/memory.current": "600"}, 0, true},
		"the first kind groups": {map[string]string{"proc/meminfo": meminfo, "proc/self/cgroup": "5:memory:/a\n"}, 1024000 << 10, true},
	} {
		root := t.TempDir()
		for file, text := range c.files {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, file)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(root, file), []byte(text), 0o644))
		}
		free, known := left(root)
		assert.Equal(t, c.known, known, name)
		assert.Equal(t, c.free, free, name)
	}
	free, known := Left()
	assert.True(t, known && free > 1<<20, "of this machine")
}

func TestAListIsGatheredAsFarAsThereIsRoom(t *testing.T) {
	asked, free := 0, int64(300<<20)
	w := Watch{Left: func() (int64, bool) { asked++; return free, true }}
	for range 3 * step {
		require.NoError(t, w.One())
	}
	assert.Equal(t, 3, asked, "and is not asked for each")
	free = 200 << 20
	var err error
	for i := 0; i < step && err == nil; i++ {
		err = w.One()
	}
	require.ErrorIs(t, err, ErrShort)
	assert.ErrorContains(t, err, "200 MiB are left")
}
