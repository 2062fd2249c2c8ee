package jobs

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/site/check"
)

// A page that answers and has lost its content is no page that works.
func TestAShrunkenPageIsTrouble(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    checks: [{path: /uploads/page.html}]\n", "")
	page := func(title string, n int) {
		b.write("uploads/page.html", "<html><title>"+title+"</title><body>"+strings.Repeat("x", n)+"</body></html>")
	}
	ask := func() check.Result {
		answers, err := b.Check(t.Context(), museum, false)
		require.NoError(t, err)
		require.Len(t, answers, 2)
		return answers[1]
	}
	page("Hours", 20_000)
	assert.True(t, ask().OK(), "nothing is known yet")
	b.taken(Order{})
	page("Hours", 15_000)
	assert.True(t, ask().OK())
	assert.Empty(t, ask().Note)
	page("Something else", 15_000)
	assert.Contains(t, ask().Note, "Something else")
	page("Hours", 100)
	assert.Contains(t, ask().Trouble, "has shrunk")
	b.later(2 * time.Hour)
	b.taken(Order{})
	assert.False(t, ask().OK(), "one more backup does not make it well")
	r := b.restored(museum)
	require.Len(t, r.Answers, 2)
	assert.True(t, r.Answers[1].OK(), "an older page may be shorter")
	assert.Contains(t, r.Answers[1].Note, "has shrunk")
	b.later(8 * 24 * time.Hour)
	b.taken(Order{})
	assert.True(t, ask().OK(), "after a week it is what it is")
	page("Hours", 20_000)
	b.later(2 * time.Hour)
	b.taken(Order{})
	page("Hours", 100)
	assert.False(t, ask().OK())
	_, err := b.Check(t.Context(), museum, true)
	require.NoError(t, err)
	assert.True(t, ask().OK(), "a person has said so")
}
