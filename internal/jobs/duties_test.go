package jobs

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
)

// due carries out what is due now.
func (b *bench) due() []string {
	b.t.Helper()
	all, err := b.Due(b.t.Context(), "due")
	require.NoError(b.t, err)
	var outcomes []string
	for _, d := range all {
		outcomes = append(outcomes, d.Outcome)
	}
	return outcomes
}

func TestDutiesHaveTheirTurns(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    schedule: [\"full, every day at 03:00\", \"database, every day at 15:00\", \"verify, every sunday at 05:00\"]\n", "")
	assert.Empty(t, b.due(), "what is new begins with its next time")
	b.later(4 * time.Hour) // Monday, 16:00
	assert.Equal(t, []string{history.Done}, b.due(), "the database's turn")
	assert.Empty(t, b.due(), "once")
	b.later(12 * time.Hour) // Tuesday, 04:00
	assert.Equal(t, []string{history.Done}, b.due())
	b.later(8 * 24 * time.Hour) // the machine was off
	assert.Len(t, b.due(), 2, "what was missed is made up for once; the full archive has done the database's work")
	lines, err := b.Duties(t.Context(), museum, 2)
	require.NoError(t, err)
	require.Len(t, lines, 3)
	for _, l := range lines {
		assert.False(t, l.Due, l.Duty)
		assert.Len(t, l.Next, 2)
		assert.NotNil(t, l.Last, l.Duty)
	}
	assert.Contains(t, lines[1].Detail, "done by "+museum+"-")
	taken := events[ArchiveTaken](b)
	assert.Len(t, taken, 3)
	assert.Equal(t, archive.Database, taken[0].Record.Scope)
	assert.Len(t, events[CopiesVerified](b), 1)
	assert.Equal(t, "due", b.lastRun("backup").Origin)
	assert.Equal(t, "full, every day at 03:00", b.lastRun("backup").Duty)
}

func TestAFailedTurnIsTriedAgainAfterAnHour(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    schedule: [\"full, every day at 03:00\", \"rehearse, every day at 04:00\"]\n", "")
	b.due()
	require.NoError(t, os.Rename(b.path("htdocs"), b.path("gone")))
	b.later(24 * time.Hour)
	assert.Equal(t, []string{history.Failed, history.Failed}, b.due())
	assert.Len(t, events[DutyFailed](b), 2)
	b.later(30 * time.Minute)
	assert.Empty(t, b.due())
	require.NoError(t, os.Rename(b.path("gone"), b.path("htdocs")))
	b.later(31 * time.Minute)
	assert.Equal(t, []string{history.Done}, b.due(), "the backup again; a rehearsal waits for its next time")
	b.later(24 * time.Hour)
	assert.Equal(t, []string{history.Done, history.Done}, b.due())
	assert.Len(t, events[Rehearsed](b), 1)
}

func TestATurnThatIsInTheWayStaysDue(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    schedule: [\"full, every day at 03:00\"]\n", "")
	b.due()
	b.later(24 * time.Hour)
	unlock, err := b.State.Lock(museum)
	require.NoError(t, err)
	assert.Empty(t, b.due())
	unlock()
	assert.Empty(t, events[DutyFailed](b), "that somebody else is at work is no failure")
	unlock, err = b.State.Lock(dueLock)
	require.NoError(t, err)
	assert.Empty(t, b.due(), "another run carries out the duties")
	unlock()
	assert.Equal(t, []string{history.Done}, b.due())
}

func TestAClockThatWasSetBackDoesNotStopDuties(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    schedule: [\"full, every day at 03:00\"]\n", "")
	b.due()
	b.later(24 * time.Hour)
	b.due()
	b.clock = b.clock.AddDate(-1, 0, 0)
	assert.Empty(t, b.due())
	b.later(25 * time.Hour)
	assert.Equal(t, []string{history.Done}, b.due())
	// A turn that failed before the clock went back is tried again at once, and dated well.
	require.NoError(t, os.Rename(b.path("htdocs"), b.path("gone")))
	b.later(24 * time.Hour)
	assert.Equal(t, []string{history.Failed}, b.due())
	b.clock = b.clock.AddDate(-1, 0, 0)
	assert.Equal(t, []string{history.Failed}, b.due())
	b.later(-300 * 24 * time.Hour)
	open := b.alarms()
	require.Contains(t, open, alarm.Failed)
	assert.NotContains(t, open[alarm.Failed], "0001")
}

// alarms are those of the site that are open now, with what they say.
func (b *bench) alarms() map[string]string {
	b.t.Helper()
	p, err := b.Page(b.t.Context(), []string{museum}, false)
	require.NoError(b.t, err)
	all := map[string]string{}
	for _, o := range p.Sites[0].Open() {
		all[o.Kind] = o.Detail
	}
	return all
}

func TestAVerifyDutyReadsWhatWasNotReadForWeeks(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    schedule: [\"verify, every sunday at 05:00\"]\n", "")
	b.taken(Order{})
	b.write("robots.txt", "one")
	b.taken(Order{})
	b.due()
	copies := func() int {
		b.later(7 * 24 * time.Hour)
		b.told = nil
		assert.Equal(t, []string{history.Done}, b.due())
		return events[CopiesVerified](b)[0].Copies
	}
	assert.Equal(t, 4, copies(), "two archives in two stores, for the first time")
	assert.Equal(t, 2, copies(), "only the newest")
	assert.Equal(t, 2, copies())
	assert.Equal(t, 2, copies())
	assert.Equal(t, 4, copies(), "the older one was not read for four weeks")
}

func TestAVerifyDutyTellsDamageFromSilence(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    schedule: [\"verify, every day at 05:00\"]\n", "")
	b.taken(Order{})
	b.due()
	back := b.away("far")
	b.open()
	b.later(24 * time.Hour)
	assert.Equal(t, []string{history.Waiting}, b.due(), "a store that does not answer is not damaged")
	back()
	b.open()
	b.damage("here")
	b.later(24 * time.Hour)
	assert.Equal(t, []string{history.Damage}, b.due())
	assert.Contains(t, b.lastRun("verify").Detail, " in here")
	assert.NotContains(t, b.lastRun("verify").Detail, " in far")
}

// A service that runs on leaves the duties of a site alone whose cutover another process has finished, and
// goes on with them when that was taken back.
func TestDutiesOfASiteThatIsElsewhere(t *testing.T) {
	b := newBench(t, "    schedule: [\"full, every day at 03:00\"]\n", "")
	b.due()
	b.clock = b.clock.AddDate(0, 0, 1)
	note := b.State.Finish(museum)
	require.NoError(t, b.State.WriteNote(note, Finish{To: "lighthouse", Step: FinishDone, Ended: b.clock}, "it"))
	assert.Empty(t, b.due())
	require.NoError(t, b.State.WriteNote(note, Finish{To: "lighthouse", Step: FinishTaking}, "it"))
	assert.Len(t, b.due(), 1, "one that is not done is no reason to stop")
	b.clock = b.clock.AddDate(0, 0, 1)
	require.NoError(t, b.forgetFinish(museum))
	assert.Len(t, b.due(), 1)
	b.clock = b.clock.AddDate(0, 0, 1)
	require.NoError(t, os.WriteFile(note, []byte("{"), 0o600))
	assert.Len(t, b.due(), 1, "nor is a note that cannot be read")
	assert.Contains(t, fmt.Sprint(b.told), "how far the cutover has come")
}

// When a duty was last done without trouble is known, whatever came after it.
func TestWhenADutyWasLastDone(t *testing.T) {
	b := newBench(t, "    schedule: [\"full, every day at 03:00\"]\n", "")
	b.due()
	b.clock = b.clock.AddDate(0, 0, 1)
	require.Equal(t, []string{history.Done}, b.due())
	good := b.clock
	b.clock = b.clock.AddDate(0, 0, 1)
	back := b.away("here")
	again := b.away("far")
	require.Equal(t, []string{history.Failed}, b.due())
	back()
	again()
	p, err := b.Page(t.Context(), []string{museum}, false)
	require.NoError(t, err)
	d := p.Sites[0].Duties[0]
	assert.Equal(t, history.Failed, d.Outcome)
	require.NotNil(t, d.LastDone)
	assert.WithinDuration(t, good, *d.LastDone, time.Minute)
	var text strings.Builder
	require.NoError(t, p.Metrics(&text))
	assert.Contains(t, text.String(), fmt.Sprintf("revlet_duty_last_done_seconds{site=\"kestrelpoint\",duty=\"full, every day at 03:00\"} %d", d.LastDone.Unix()))
	assert.Contains(t, text.String(), "revlet_build{program=")
}
