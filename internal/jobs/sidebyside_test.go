package jobs

import (
	"context"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/watch/history"
)

// Sites of this machine had their turns one after the other: one that its owner, or an intruder, had made endless kept all others
// from being saved, and the alarms about them from being told.
func TestASiteThatNeverEndsHoldsUpNoOther(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	go1 := dir + "/go"
	const zoo = "zoo"
	daily := "    schedule: [\"full, every day at 03:00\"]\n"
	b := newBenchIn(t, dir, daily+"    commands: {before: 'while [ ! -e "+go1+" ]; do sleep 0.02; done'}\n",
		"  zoo:\n    root: ./zoo\n    recipe: none\n    stores: [here]\n"+daily)
	require.NoError(t, os.Mkdir(b.path("zoo"), 0o755))
	require.NoError(t, os.WriteFile(b.path("zoo/index.html"), []byte("lions"), 0o644))
	var mu sync.Mutex
	var told []Event
	b.Tell = func(e Event) { mu.Lock(); defer mu.Unlock(); told = append(told, e) }
	b.SitePatience = 50 * time.Millisecond
	due := func() (sites []string) {
		all, err := b.Due(t.Context(), "due")
		require.NoError(t, err)
		for _, d := range all {
			assert.Equal(t, history.Done, d.Outcome, d.Detail)
			sites = append(sites, d.Site)
		}
		return sites
	}
	assert.Empty(t, due(), "what is new begins with its next time")
	for range 2 {
		b.later(24 * time.Hour)
		var done []string
		for len(done) == 0 { // on a busy machine it takes longer than the patience, too, and comes with the next look
			done = due()
		}
		assert.Equal(t, []string{zoo}, done, "the other is waited for a while only, and once")
	}
	mu.Lock()
	require.IsType(t, Warning{}, told[0])
	assert.ErrorContains(t, told[0].(Warning).Err, "site "+museum+" has been worked on for")
	mu.Unlock()

	b.EndTurns()
	rest, err := b.Rest()
	require.NoError(t, err)
	assert.Empty(t, rest, "what was interrupted stays due")
	require.NoError(t, os.WriteFile(go1, nil, 0o600))
	b.SitePatience = 0
	assert.Equal(t, []string{museum}, due())
	assert.Zero(t, b.late.Load())
}

// So many may be late; the others wait then.
func TestLateSitesAreBounded(t *testing.T) {
	t.Parallel()
	a := New()
	a.late.Store(mostLate)
	a.SitePatience = time.Millisecond
	hangs := make(chan struct{})
	var all sync.WaitGroup
	passed := make(chan struct{})
	go func() {
		defer close(passed)
		a.waitedFor(t.Context(), museum, func(context.Context, string) { <-hangs }, &all)
	}()
	select {
	case <-passed:
		t.Fatal("it is waited for")
	case <-time.After(30 * time.Millisecond):
	}
	a.late.Add(-1)
	<-passed
	assert.EqualValues(t, mostLate, a.late.Load())
	close(hangs)
	all.Wait()
	assert.EqualValues(t, mostLate-1, a.late.Load())
}
