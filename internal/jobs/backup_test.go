package jobs

import (
	"context"
	"errors"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/reason"
	"revlet/internal/platform/state"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
)

func TestABackupIsRememberedWithWhatCameOfIt(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	d := b.taken(Order{Note: "before the redesign", Hold: true})
	assert.Equal(t, []string{"here", "far"}, d.Stores)
	assert.True(t, d.Onsite, "both stores are folders of this machine")
	assert.False(t, d.Incomplete())
	run := b.lastRun("backup")
	assert.Equal(t, d.Run, run.ID)
	assert.Equal(t, history.Done, run.Outcome)
	assert.Equal(t, d.Record.Name, run.Archive)
	assert.Equal(t, "keeper", run.Origin)
	assert.Equal(t, "*jobs.Delivered", run.Log)
	holds, err := b.History.Holds(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "before the redesign", holds[d.Record.Name].Why)
}

func TestABackupThatFailsIsRememberedToo(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	require.NoError(t, os.Rename(b.path("htdocs"), b.path("moved")))
	_, err := b.Backup(t.Context(), museum, Order{Scope: archive.Full})
	require.Error(t, err)
	assert.True(t, reason.Is(err, reason.WebrootMissing))
	run := b.lastRun("backup")
	assert.Equal(t, history.Failed, run.Outcome)
	assert.Contains(t, run.Detail, "the webroot is missing")
}

func TestASiteThatIsBusyIsNoFailedRun(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	unlock, err := b.State.Lock(museum)
	require.NoError(t, err)
	_, err = b.Backup(t.Context(), museum, Order{Scope: archive.Full})
	assert.ErrorIs(t, err, state.ErrBusy)
	unlock()
	assert.Zero(t, b.runs("backup"))
	_, err = b.Backup(t.Context(), "nowhere", Order{Scope: archive.Full})
	assert.True(t, reason.Is(err, reason.Usage), "%v", err)
}

func TestGapsAndPendingStoresAreToldApart(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	back := b.away("far")
	b.open()
	d := b.taken(Order{})
	require.Len(t, d.Pending, 1)
	assert.Equal(t, "far", d.Pending[0].Store)
	assert.True(t, d.Incomplete())
	assert.Equal(t, []string{"here"}, d.Stores)
	run := b.lastRun("backup")
	assert.Equal(t, history.Waiting, run.Outcome)
	assert.Contains(t, run.Detail, "store far:")

	pending, err := b.pending(t.Context(), museum)
	require.NoError(t, err)
	assert.Equal(t, map[string][]string{d.Record.Name: {"far"}}, pending)
	back()
	b.open()
	b.taken(Order{})
	pending, err = b.pending(t.Context(), museum)
	require.NoError(t, err)
	assert.Empty(t, pending, "the next backup brings what was pending")
	l, err := b.List(t.Context(), museum)
	require.NoError(t, err)
	for _, h := range l.Archives {
		assert.Equal(t, []string{"here", "far"}, StoreNames(h.Stores), h.Name)
	}
}

func TestAStoreThatStaysAwayIsAskedOnce(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	back := b.away("far")
	defer back()
	b.open()
	first := b.taken(Order{})
	second := b.taken(Order{})
	require.Len(t, second.Pending, 1)
	assert.Equal(t, first.Pending[0].Err.Error(), second.Pending[0].Err.Error(), "the reason is the store's, not that it was skipped")
	pending, err := b.History.Pending(t.Context(), museum)
	require.NoError(t, err)
	assert.Len(t, pending, 2)
}

func TestWhatFailsAfterwardsSpoilsNoArchiveAndIsRemembered(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    keep: [newest 1]\n", "")
	b.taken(Order{})
	// The removal of the first archive by the keep rule fails; so does every other
	// write into that store's folder for locks.
	b.Disk.Fault = func(op, name string) error {
		if op == "remove" && len(name) > 5 && name[len(name)-5:] == ".json" {
			return syscall.EIO
		}
		return nil
	}
	d := b.taken(Order{})
	b.Disk.Fault = nil
	require.NotNil(t, d)
	warned := events[Warning](b)
	require.NotEmpty(t, warned)
	assert.ErrorContains(t, warned[len(warned)-1].Err, "is sound, but")
	assert.Equal(t, d.Record.Name, b.lastRun("backup").Archive, "the run is remembered all the same")
}

func TestAlarmsOfANewArchiveAreRaised(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	for range 3 {
		b.taken(Order{})
		b.later(24 * time.Hour)
	}
	b.write("uploads/2026/ornament.php", "<?php")
	d := b.taken(Order{})
	require.NotEmpty(t, d.Alarms)
	assert.Equal(t, alarm.Planted, d.Alarms[0].Kind)
	open, err := b.History.Alarms(t.Context(), museum)
	require.NoError(t, err)
	require.NotEmpty(t, open)
	require.NoError(t, b.Accept(t.Context(), museum, alarm.Planted, "it is ours"))
	assert.Equal(t, "accept", b.lastRun("accept").Command)
	for kind, site := range map[string]string{alarm.Planted: museum, "no-such": museum, alarm.Damaged: "nowhere"} {
		if kind == alarm.Planted {
			continue
		}
		assert.True(t, reason.Is(b.Accept(t.Context(), site, kind, "x"), reason.Usage), kind)
	}
	assert.True(t, reason.Is(b.Accept(t.Context(), museum, alarm.Damaged, "x"), reason.Usage), "one that is not open")
}

func TestAnInterruptIsNoReasonToForget(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.Disk.Fault = func(op, name string) error {
		if op == "rename" {
			return errors.New("the machine is going down")
		}
		return nil
	}
	_, err := b.Backup(t.Context(), museum, Order{Scope: archive.Full})
	b.Disk.Fault = nil
	require.Error(t, err)
	assert.Equal(t, history.Failed, b.lastRun("backup").Outcome)
	l, err := b.List(t.Context(), museum)
	require.NoError(t, err)
	assert.Empty(t, l.Archives, "nothing half-made counts")
}

func TestABackupByHandThatFailedShows(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	require.NoError(t, os.Rename(b.path("htdocs"), b.path("gone")))
	for range 2 {
		_, err := b.Backup(t.Context(), museum, Order{Scope: archive.Full})
		require.Error(t, err)
		b.later(time.Minute)
	}
	assert.Contains(t, b.alarms()[alarm.Failed], "a backup by keeper on 2 Nov 2026")
	require.NoError(t, os.Rename(b.path("gone"), b.path("htdocs")))
	stopped, stop := context.WithCancel(t.Context())
	stop()
	_, err := b.Backup(stopped, museum, Order{Scope: archive.Full})
	require.Error(t, err)
	assert.Equal(t, history.Interrupted, b.lastRun("backup").Outcome)
	assert.Contains(t, b.alarms(), alarm.Failed, "one that was stopped mends nothing")
	b.taken(Order{})
	assert.NotContains(t, b.alarms(), alarm.Failed)
}

// What an intruder has left is an alarm; that it is gone after a restore is none.
func TestCleaningIsNoNewAlarm(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	for range 3 {
		b.taken(Order{})
	}
	clean := b.taken(Order{})
	b.write("core/render.php", "<?php // and more")
	kinds := func(d *Delivered) (all []string) {
		for _, a := range d.Alarms {
			all = append(all, a.Kind)
		}
		return all
	}
	b.write("uploads/2026/ornament.php", "<?php")
	assert.Equal(t, []string{alarm.CoreChanged, alarm.Planted}, kinds(b.taken(Order{})))
	b.restored(clean.Record.Name)
	cleaned := b.taken(Order{})
	assert.Empty(t, kinds(cleaned))
	require.NotNil(t, cleaned.Changes)
	assert.Equal(t, clean.Record.Name, cleaned.Changes.Before)
	b.write("core/render.php", "<?php // again")
	assert.Equal(t, []string{alarm.CoreChanged}, kinds(b.taken(Order{})), "the next one is told again")
}

// Two archives of one second have names of their own and both their true time.
func TestTakenIsWhatTheClockSaid(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	for range 3 {
		d, err := b.Backup(t.Context(), museum, Order{Scope: archive.Full})
		require.NoError(t, err)
		assert.True(t, d.Record.Taken.Equal(b.clock))
		assert.False(t, d.Record.Finished.Before(d.Record.Taken))
	}
	l, err := b.List(t.Context(), museum)
	require.NoError(t, err)
	assert.Len(t, l.Archives, 3)
}

func TestAStoreThatDoesNotKnowOfAHoldIsNamed(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	back := b.away("far")
	b.told = nil
	d := b.taken(Order{Hold: true})
	var warned []string
	for _, w := range events[Warning](b) {
		warned = append(warned, w.Err.Error())
	}
	assert.Contains(t, strings.Join(warned, "\n"), "store far does not know of the hold on "+d.Record.Name)
	back()
	b.taken(Order{})
	holds, err := b.History.Holds(t.Context())
	require.NoError(t, err)
	assert.Contains(t, holds, d.Record.Name, "here it counts all the same")
}
