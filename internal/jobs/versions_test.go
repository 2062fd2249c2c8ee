package jobs

import (
	"crypto/rand"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/reason"
)

func TestVersionsOfAFile(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	const file = "uploads/notes.txt"
	var names []string
	for _, text := range []string{"", "one", "one", "three", "gone"} {
		if text == "gone" {
			require.NoError(t, os.Remove(b.path("htdocs/"+file)))
		} else if text != "" {
			b.write(file, text)
		}
		names = append(names, b.taken(Order{}).Record.Name)
	}
	b.taken(Order{Scope: archive.Database})
	v, err := b.Versions(t.Context(), museum, []string{"uploads/*.txt"})
	require.NoError(t, err)
	assert.Equal(t, 5, v.Looked, "one of the database alone says nothing of files")
	require.Len(t, v.Paths, 1)
	p := v.Paths[0]
	assert.True(t, p.Gone)
	require.Len(t, p.Versions, 2)
	assert.Equal(t, []any{names[3], names[3], int64(5), 1}, []any{p.Versions[0].First, p.Versions[0].Last, p.Versions[0].Size, p.Versions[0].Archives})
	assert.Equal(t, []any{names[1], names[2], int64(3), 2}, []any{p.Versions[1].First, p.Versions[1].Last, p.Versions[1].Size, p.Versions[1].Archives})

	v, err = b.Versions(t.Context(), museum, []string{"themes", "nothing/*"})
	require.NoError(t, err)
	assert.NotEmpty(t, v.Paths, "a folder stands for what is below it")
	assert.False(t, v.Paths[0].Gone)
	_, err = b.Versions(t.Context(), museum, []string{"[a"})
	assert.True(t, reason.Is(err, reason.Usage))

	require.NoError(t, os.RemoveAll(b.path("here/"+museum+"/lists")))
	require.NoError(t, os.RemoveAll(b.path("far/"+museum+"/lists")))
	v, err = b.Versions(t.Context(), museum, []string{file})
	require.NoError(t, err)
	assert.Empty(t, v.Paths)
	assert.Len(t, v.NotRead, 5, "what was not looked into is said")
}

func TestSpace(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	film := make([]byte, 200_000)
	_, _ = rand.Read(film)
	b.write("uploads/film.bin", string(film))
	second := b.taken(Order{}).Record.Name
	require.NoError(t, os.Remove(b.path("htdocs/uploads/film.bin")))
	b.taken(Order{})
	s, err := b.Space(t.Context(), museum)
	require.NoError(t, err)
	require.Len(t, s.Stores, 2)
	here := s.Stores[0]
	require.Len(t, here.Archives, 3)
	assert.Greater(t, here.Archives[1].Own, int64(200_000))
	assert.Less(t, here.Archives[0].Own, int64(100_000))
	sum := here.Shared
	for _, one := range here.Archives {
		assert.Greater(t, one.Bytes, one.Own)
		sum += one.Own
	}
	assert.Equal(t, here.Bytes, sum, "each byte is counted once")
	r, err := b.removes(RemoveOrder{Archive: second, Store: "here"})
	require.NoError(t, err)
	assert.Equal(t, here.Archives[1].Own, r.Freed, "what was said is given back")
	assert.NotEmpty(t, s.Tables)
	assert.Greater(t, s.Components[0].Bytes, s.Components[1].Bytes)

	defer b.away("far")()
	b.open()
	s, err = b.Space(t.Context(), museum)
	require.NoError(t, err)
	assert.Len(t, s.Stores, 1)
	assert.Contains(t, s.NotReached, "far")
}
