package store

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTemporaryNamesAreOneProgramsOwn(t *testing.T) {
	a, b := NewUploads(), NewUploads()
	assert.Equal(t, a.Temporary("x/y/part"), a.Temporary("x/y/part"), "the next try goes on with it")
	assert.NotEqual(t, a.Temporary("part"), b.Temporary("part"))
	assert.Regexp(t, `^\.incoming/[0-9a-f]{12}-part$`, a.Temporary("deep/down/part"))
	assert.NotEqual(t, a.Probe(), a.Probe())
}

func TestFoldersAreMadeOnce(t *testing.T) {
	u, made := NewUploads(), 0
	make := func() error { made++; return nil }
	fail := errors.New("full")
	assert.ErrorIs(t, u.Folder("a", func() error { return fail }), fail)
	require.NoError(t, u.Folder("a", make))
	require.NoError(t, u.Folder("a", make))
	require.NoError(t, u.Folder("b", make))
	assert.Equal(t, 2, made, "one that failed is made again, one that is there is not")
}

func TestOnlyWhatIsStaleIsCleared(t *testing.T) {
	u := NewUploads()
	old, young := time.Now().Add(-Stale-time.Hour), time.Now().Add(-time.Hour)
	var removed []string
	u.ClearStale([]Entry{
		{Info: Info{Name: "theirs-part", Changed: old}},
		{Info: Info{Name: "theirs-young", Changed: young}},
		{Info: Info{Name: u.token + "-mine", Changed: old}},
		{Info: Info{Name: "no-time"}},
		{Info: Info{Name: "folder", Changed: old}, Folder: true},
		{Info: Info{Name: "last", Changed: old}},
	}, func(name string) error { removed = append(removed, name); return errors.New("not now") })
	assert.Equal(t, []string{".incoming/theirs-part", ".incoming/last"}, removed)
}
