package jobs

import (
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/reason"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
)

// month takes an archive a day for a number of days.
func (b *bench) month(days int) (names []string) {
	for range days {
		names = append(names, b.taken(Order{}).Record.Name)
		b.later(24 * time.Hour)
	}
	return names
}

// listed names what a store holds, newest first.
func (b *bench) listed(store string) (names []string) {
	b.t.Helper()
	l, err := b.List(b.t.Context(), museum)
	require.NoError(b.t, err)
	for _, h := range l.Archives {
		for _, s := range h.Stores {
			if s.Name == store {
				names = append(names, h.Name)
			}
		}
	}
	return names
}

func TestKeepRulesAreAppliedAfterEachBackup(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    keep: [newest 3]\n", "")
	names := b.month(5)
	assert.Equal(t, []string{names[4], names[3], names[2]}, b.listed("here"))
	assert.Equal(t, b.listed("here"), b.listed("far"))
	known, _, err := b.Remembered(t.Context(), museum)
	require.NoError(t, err)
	require.Len(t, known, 5, "the history keeps the lines of those that are gone")
	assert.False(t, known[4].Exists())
}

func TestAStoreMayHaveRulesOfItsOwn(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    keep: [newest 2]\n", "")
	text, err := os.ReadFile(b.path("revlet.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(b.path("revlet.yaml"), []byte(strings.Replace(string(text), "{folder: ./far}", "{folder: ./far, keep: [newest 4]}", 1)), 0o600))
	b.open()
	b.month(5)
	assert.Len(t, b.listed("here"), 2)
	assert.Len(t, b.listed("far"), 4)
	shown, err := b.Retain(t.Context(), museum, "far", false)
	require.NoError(t, err)
	require.Len(t, shown, 1)
	assert.Equal(t, "far", shown[0].Store)
	assert.Zero(t, b.runs("retention"), "to look is no run")
}

func TestWhatProtectsAnArchive(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	names := b.month(4)
	h, err := b.Find(t.Context(), names[0], time.Time{})
	require.NoError(t, err)
	left, err := b.Hold(t.Context(), h, "the opening day")
	require.NoError(t, err)
	assert.Empty(t, left)
	require.NoError(t, b.History.AddPending(t.Context(), history.Pending{Site: museum, Archive: names[1], Store: "far", Since: b.clock, Why: "it was away"}))
	b.configure("    keep: [newest 1]\n", "")
	b.open()
	all, err := b.Retain(t.Context(), museum, "here", true)
	require.NoError(t, err)
	why := map[string]Decision{}
	for _, d := range all[0].Archives {
		why[d.Name] = d
	}
	assert.Contains(t, why[names[0]].Why[0], "it is held: the opening day")
	assert.Contains(t, why[names[1]].Why[0], "it has yet to come to far")
	assert.False(t, why[names[2]].Keep)
	assert.Equal(t, []string{names[2]}, all[0].Removed)
	assert.Positive(t, all[0].Freed)
	assert.Equal(t, history.Done, b.lastRun("retention").Outcome)

	// The report judges from what the history knows, by the same rules.
	_, archives, err := b.Remembered(t.Context(), museum)
	require.NoError(t, err)
	for _, a := range archives {
		if a.Name == names[0] {
			assert.Contains(t, a.Kept["here"][0], "it is held: the opening day")
			assert.True(t, a.Held)
		}
	}
	left, err = b.Release(t.Context(), h)
	require.NoError(t, err)
	assert.Empty(t, left)
	all, err = b.Retain(t.Context(), museum, "here", true)
	require.NoError(t, err)
	assert.Equal(t, []string{names[0]}, all[0].Removed)
}

func TestAnOpenAlarmStopsRemovalUntilItIsAccepted(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    keep: [newest 1]\n", "")
	b.taken(Order{})
	b.later(24 * time.Hour)
	b.write("uploads/2026/ornament.php", "<?php")
	d := b.taken(Order{})
	assert.NotEmpty(t, d.Alarms)
	assert.Len(t, b.listed("here"), 2, "the one from before is still there")
	require.NotEmpty(t, d.Removed)
	assert.Contains(t, d.Removed[0].Stopped[0], "alarm "+alarm.Planted)
	require.NoError(t, b.Accept(t.Context(), museum, alarm.Planted, "removed"))
	_, err := b.Retain(t.Context(), museum, "", true)
	require.NoError(t, err)
	assert.Len(t, b.listed("here"), 1)
}

func TestDamageStopsRemoval(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	names := b.month(3)
	require.NoError(t, b.History.AddProof(t.Context(), history.Proof{Archive: names[2], Store: "here", At: b.clock, Level: "full"}))
	b.configure("    keep: [newest 1]\n", "")
	b.open()
	all, err := b.Retain(t.Context(), museum, "", true)
	require.NoError(t, err)
	for _, one := range all {
		assert.Empty(t, one.Removed, one.Store)
		require.NotEmpty(t, one.Stopped, one.Store)
		assert.Contains(t, one.Stopped[0], "is damaged in here")
	}
}

func TestOneStoreThatFailsDoesNotKeepTheOtherFromBeingCleared(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.month(3)
	b.configure("    keep: [newest 1]\n", "")
	b.open()
	b.Disk.Fault = func(op, name string) error {
		if op == "remove" && len(name) > len(b.path("here")) && name[:len(b.path("here"))] == b.path("here") {
			return syscall.EIO
		}
		return nil
	}
	all, err := b.Retain(t.Context(), museum, "", true)
	b.Disk.Fault = nil
	require.Error(t, err)
	require.Len(t, all, 2)
	assert.Len(t, all[1].Removed, 2)
	assert.Equal(t, history.Failed, b.lastRun("retention").Outcome)
	assert.Len(t, b.listed("far"), 1)
}

func TestAHoldThatAStoreWasNotToldOfIsToldLater(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	names := b.month(3)
	back := b.away("far")
	b.open()
	h, err := b.Find(t.Context(), names[0], time.Time{})
	require.NoError(t, err)
	left, err := b.Hold(t.Context(), h, "")
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, "far", left[0].Store)
	back()
	b.configure("    keep: [newest 1]\n", "")
	b.open()
	_, err = b.Retain(t.Context(), museum, "", true)
	require.NoError(t, err)
	assert.Contains(t, b.listed("far"), names[0])
	// Another machine, which knows nothing, sees the hold in the store.
	require.NoError(t, os.RemoveAll(b.path("state")))
	b.open()
	all, err := b.Retain(t.Context(), museum, "far", false)
	require.NoError(t, err)
	last := all[0].Archives[len(all[0].Archives)-1]
	assert.Equal(t, names[0], last.Name)
	assert.True(t, last.Keep)
	assert.Contains(t, last.Why[0], "it is held")
}

func TestTimeWithoutAnyRunDoesNotAgeArchives(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    schedule: [\"full, every day at 03:00\"]\n    keep: [one per day for 1 week]\n", "")
	b.due()
	b.days(5)
	before := b.listed("here")
	b.clock = b.clock.AddDate(1, 0, 0) // the clock jumps
	b.open()
	b.due()
	assert.Subset(t, b.listed("here"), before, "nothing is removed for a jump of the clock")
}

func TestRetainRefusesWhatIsUnknown(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	assert.True(t, reason.Is(b.KnownStore("nowhere"), reason.Usage))
	assert.NoError(t, b.KnownStore("here"))
	_, err := b.SitesNamed([]string{"nowhere"})
	assert.True(t, reason.Is(err, reason.Usage))
	names, err := b.SitesNamed(nil)
	require.NoError(t, err)
	assert.Equal(t, []string{museum}, names)
	names, err = b.SitesNamed([]string{museum, "kestrel*", "*"})
	require.NoError(t, err)
	assert.Equal(t, []string{museum}, names, "each once")
	for _, pattern := range []string{"client-*", "[a"} {
		_, err = b.SitesNamed([]string{pattern})
		assert.True(t, reason.Is(err, reason.Usage), pattern)
	}
}
