package jobs

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/watch/history"
	"revlet/internal/work/verify"
)

// A verification reads records anew, in a program that runs on as well: a disk that rots changes neither length nor time.
func TestARecordThatRotsIsFound(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	d := b.taken(Order{})
	_, err := b.List(t.Context(), museum)
	require.NoError(t, err)
	file := filepath.Join(b.dir, "here", archive.RecordPath(museum, d.Record.Name))
	info, err := os.Stat(file)
	require.NoError(t, err)
	b.harmFile(file)
	require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
	_, err = b.List(t.Context(), museum) // as any other work does meanwhile
	require.NoError(t, err)
	p, err := b.Verify(t.Context(), VerifyOrder{Level: verify.Digests})
	require.NoError(t, err)
	assert.Equal(t, catalog.Damaged, p.Verdict())

	// A duty, too: it is carried out by a program that runs for months.
	b.configure("    schedule: [\"verify, every day at 04:00\"]\n", "")
	require.NoError(t, b.Reload())
	assert.Empty(t, b.due())
	b.harmFile(file) // as it was
	require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
	_, err = b.List(t.Context(), museum)
	require.NoError(t, err)
	b.harmFile(file)
	require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
	b.later(24 * time.Hour)
	assert.Equal(t, []string{history.Damage}, b.due())
}

// A state folder that was lost made "not backed up" of sites whose archives were all there, and of those whose stores were just away.
func TestWhatIsNotKnownIsNotAbsent(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	health := func() (string, []string) {
		p, err := b.Page(t.Context(), []string{museum}, false)
		require.NoError(t, err)
		return p.Sites[0].Health(), p.Sites[0].Unseen
	}
	was, _ := health()
	assert.NotEqual(t, "none", was)
	b.openWith("second")
	is, unseen := health()
	assert.Equal(t, was, is, "the stores are asked")
	assert.Empty(t, unseen)

	for _, store := range []string{"here", "far"} {
		require.NoError(t, os.Rename(b.path(store), b.path(store+"-away")))
	}
	b.openWith("third")
	is, unseen = health()
	assert.Equal(t, "unknown", is)
	assert.Equal(t, []string{"here", "far"}, unseen)
	require.NoError(t, os.Mkdir(b.path("far"), 0o700))
	b.openWith("fourth")
	is, unseen = health()
	assert.Equal(t, "unknown", is, "one has said that it has none, the other nothing")
	assert.Equal(t, []string{"here"}, unseen)
	require.NoError(t, os.Mkdir(b.path("here"), 0o700))
	is, _ = health()
	assert.Equal(t, "none", is, "both have said so")
}
