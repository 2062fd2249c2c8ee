package catalog

import (
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
	"revlet/internal/store"
)

// Records of a store elsewhere are read once, by whatever run of the program; but what has changed, was written a moment
// ago, or is to be read anew, is read.
func TestRecordsOfElsewhereAreReadOnce(t *testing.T) {
	shelf, dir := newShelf(t, "far", true)
	var opened atomic.Int64
	s := []store.Named{{Name: "far", Store: counting{shelf.Store, &opened}}}
	write := func(i int, note string, old time.Duration) string {
		r := record(t, i, "a")
		r.Note = note
		file := lay(t, dir, r)
		at := time.Now().Add(-old).Truncate(time.Second)
		require.NoError(t, os.Chtimes(file, at, at))
		return r.Name
	}
	var names []string
	for i := range 5 {
		names = append(names, write(i, "as it was", time.Duration(i)*time.Hour))
	}
	seen := filepath.Join(t.TempDir(), "seen")
	// list does so as another run of the program.
	list := func(c *Cache) (notes map[string]string, n int) {
		c.Dir, c.Disk = seen, &disk.Disk{}
		opened.Store(0)
		l, err := List(t.Context(), s, "kp", Options{Cache: c})
		require.NoError(t, err)
		require.Empty(t, l.Broken)
		notes = map[string]string{}
		for _, h := range l.Archives {
			notes[h.Name] = h.Note
		}
		return notes, int(opened.Load())
	}
	notes, n := list(&Cache{})
	assert.Len(t, notes, 5)
	assert.Equal(t, 5, n)
	notes, n = list(&Cache{})
	assert.Len(t, notes, 5)
	assert.Equal(t, 1, n, "the one that was written a moment ago")
	anew := &Cache{}
	anew.Forget()
	_, n = list(anew)
	assert.Equal(t, 5, n)

	write(3, "as it is!", time.Minute*30) // as long, and of another time
	notes, n = list(&Cache{})
	assert.Equal(t, 2, n)
	assert.Equal(t, "as it is!", notes[names[3]])

	// What was kept is not believed blindly: a file that a crash has left, one that is another's, one with other bytes.
	kept, err := filepath.Glob(filepath.Join(seen, "*", names[4]+".json"))
	require.NoError(t, err)
	require.Len(t, kept, 1)
	info, err := os.Stat(kept[0])
	require.NoError(t, err)
	data, err := os.ReadFile(kept[0])
	require.NoError(t, err)
	data[len(data)/2] ^= 1
	require.NoError(t, os.WriteFile(kept[0], data, 0o600))
	require.NoError(t, os.Chtimes(kept[0], info.ModTime(), info.ModTime()))
	notes, n = list(&Cache{})
	assert.Equal(t, 2, n)
	assert.Equal(t, "as it was", notes[names[4]])

	// Those of archives that are gone do not pile up.
	for i := range spare + 10 {
		require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(kept[0]), fmt.Sprintf("kp-20250101-%06d.json", i)), nil, 0o600))
	}
	list(&Cache{})
	left, err := os.ReadDir(filepath.Dir(kept[0]))
	require.NoError(t, err)
	assert.Len(t, left, 4)
}
