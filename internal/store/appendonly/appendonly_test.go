package appendonly_test

import (
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
	"revlet/internal/store"
	"revlet/internal/store/appendonly"
	"revlet/internal/store/folder"
	"revlet/internal/work/backup"
)

func shelf(t *testing.T) (inner store.Store, s *appendonly.Store) {
	inner = folder.New(&disk.Disk{}, t.TempDir())
	return inner, appendonly.Wrap(inner)
}

func put(t *testing.T, s store.Store, name, text string) error {
	return s.Put(t.Context(), name, strings.NewReader(text), int64(len(text)))
}

func TestWhatIsThereStaysAsItIs(t *testing.T) {
	inner, s := shelf(t)
	require.NoError(t, put(t, s, "kp/parts/ab/x", "lamp"))
	require.NoError(t, put(t, s, "kp/parts/ab/x", "lamp"), "the same again counts as written")
	for _, other := range []string{"oil!", "longer", ""} {
		assert.ErrorIs(t, put(t, s, "kp/parts/ab/x", other), store.ErrKeeper, other)
	}
	assert.ErrorIs(t, s.Remove(t.Context(), "kp/parts/ab/x"), store.ErrKeeper)
	assert.ErrorIs(t, s.Remove(t.Context(), "kp/running/kp-20261123-032000.t"+appendonly.Over), store.ErrKeeper, "nor is it taken back that a lock is over")
	in, err := inner.Open(t.Context(), "kp/parts/ab/x", 0)
	require.NoError(t, err)
	defer in.Close()
	text, err := io.ReadAll(in)
	require.NoError(t, err)
	assert.Equal(t, "lamp", string(text))
}

// A locked key that replaces another, and a newer page on recovering, do not make every
// archive stay pending where nothing can be replaced.
func TestALockedKeyThatIsReplacedLiesBesideTheOld(t *testing.T) {
	inner, s := shelf(t)
	require.NoError(t, put(t, inner, "READ-ME-FIRST.txt", "of an older program"))
	require.NoError(t, backup.PutReadme(t.Context(), s))
	for _, key := range []string{"first", "second", "second", "third", "first"} {
		require.NoError(t, backup.PutKey(t.Context(), s, []byte(key)), key)
	}
	keys, err := backup.Keys(t.Context(), s)
	require.NoError(t, err)
	var all []string
	for _, k := range keys {
		all = append(all, string(k))
	}
	for _, key := range []string{"first", "second", "third"} {
		assert.Contains(t, all, key)
	}
	assert.LessOrEqual(t, len(all), 4, "each once, and the first twice at most")
}
