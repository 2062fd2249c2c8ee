package changes

import (
	"crypto/rand"
	"io"
	"iter"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
)

// lines are a list of files with the digests given.
func lines(t *testing.T, files map[string]string) iter.Seq2[archive.Line, error] {
	var all []archive.Line
	for name, sum := range files {
		l, err := archive.Entry{Type: archive.TypeFile, Path: name, Size: 1000, SHA256: sum}.Line()
		require.NoError(t, err)
		all = append(all, l)
	}
	slices.SortFunc(all, func(a, b archive.Line) int { return archive.ComparePaths(a.Path, b.Path) })
	return func(yield func(archive.Line, error) bool) {
		for _, l := range all {
			if !yield(l, nil) {
				return
			}
		}
	}
}

func TestBetween(t *testing.T) {
	noise := make([]byte, 4000)
	_, _ = rand.Read(noise)
	judge := Judge{
		ComponentOf: func(name string) string { first, _, _ := strings.Cut(name, "/"); return first },
		Open: func(name string) (io.ReadCloser, error) {
			if strings.Contains(name, "locked") {
				return io.NopCloser(strings.NewReader(string(noise))), nil
			}
			return io.NopCloser(strings.NewReader(strings.Repeat("<p>Opening hours</p>\n", 100))), nil
		},
	}
	c, err := judge.Between(
		lines(t, map[string]string{"core/a.php": "1", "core/gone.php": "1", "pages/locked.html": "1", "pages/new words.html": "1", "uploads/lens.jpg": "1", "uploads/a/b.jpg": "1", "uploads/a-c.jpg": "1"}),
		lines(t, map[string]string{"core/a.php": "2", "pages/locked.html": "2", "pages/new words.html": "2", "uploads/lens.jpg": "2", "uploads/a/b.jpg": "1", "uploads/a-c.jpg": "1",
			"uploads/x.php": "1", "uploads/picture.PHP.jpg": "1", "uploads/new.jpg": "1", "core/odd.php": "1"}))
	require.NoError(t, err)
	assert.Equal(t, [4]int64{7, 4, 4, 1}, [4]int64{c.Files, c.Added, c.Changed, c.Removed})
	assert.Equal(t, []string{"core/a.php", "core/gone.php", "core/odd.php"}, c.Core.Names)
	assert.Equal(t, []string{"uploads/picture.PHP.jpg", "uploads/x.php"}, c.Planted.Names)
	assert.Equal(t, []string{"pages/locked.html"}, c.Scrambled.Names)
}
