package jobs

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/catalog"
	"revlet/internal/config"
	"revlet/internal/platform/reason"
)

// take takes archives an hour apart, and returns their names, the oldest first.
func (b *bench) take(n int) (names []string) {
	b.t.Helper()
	for range n {
		b.clock = b.clock.Add(time.Hour)
		d, err := b.Backup(b.t.Context(), museum, Order{Scope: "full"})
		require.NoError(b.t, err)
		names = append(names, d.Record.Name)
	}
	return names
}

// sound tells that all that is left is whole.
func (b *bench) sound() {
	b.t.Helper()
	p, err := b.Verify(b.t.Context(), VerifyOrder{})
	require.NoError(b.t, err)
	assert.Equal(b.t, catalog.Sound, p.Verdict())
}

func (b *bench) removes(o RemoveOrder) (*Removed, error) {
	p, err := b.PlanRemoval(b.t.Context(), o)
	if err != nil {
		return nil, err
	}
	return b.Remove(b.t.Context(), p)
}

func TestRemoveByHand(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	all := b.take(3)
	for _, typed := range []string{museum, all[1][:len(all[1])-2], "nobody-20261102-120000", ""} {
		_, err := b.removes(RemoveOrder{Archive: typed})
		require.Error(t, err, "only a whole name will do: %s", typed)
	}
	r, err := b.removes(RemoveOrder{Archive: all[0], Store: "far", Why: "too much"})
	require.NoError(t, err)
	assert.Equal(t, []string{"far"}, r.Gone)
	assert.Len(t, r.Stays, 1)
	b.sound()

	h, err := b.Find(t.Context(), all[1], time.Time{})
	require.NoError(t, err)
	_, err = b.Hold(t.Context(), h, "evidence")
	require.NoError(t, err)
	_, err = b.removes(RemoveOrder{Archive: all[1]})
	assert.True(t, reason.Is(err, reason.ArchiveHeld), "%v", err)
	require.NoError(t, os.RemoveAll(b.path("state/history.db"))) // the store knows of the hold, too
	b.open()
	_, err = b.removes(RemoveOrder{Archive: all[1]})
	assert.True(t, reason.Is(err, reason.ArchiveHeld), "%v", err)
	_, err = b.Release(t.Context(), h)
	require.NoError(t, err)
	p, err := b.PlanRemoval(t.Context(), RemoveOrder{Archive: all[1]})
	require.NoError(t, err)
	_, err = b.Hold(t.Context(), h, "after all")
	require.NoError(t, err)
	_, err = b.Remove(t.Context(), p)
	assert.True(t, reason.Is(err, reason.ArchiveHeld), "it was held since it was planned: %v", err)
	_, err = b.Release(t.Context(), h)
	require.NoError(t, err)

	r, err = b.removes(RemoveOrder{Archive: all[1], Why: "a private letter"})
	require.NoError(t, err)
	assert.Equal(t, []string{"here", "far"}, r.Gone)
	b.sound()
	_, err = b.removes(RemoveOrder{Archive: all[1]})
	assert.True(t, reason.Is(err, reason.UnknownArchive))
	known, err := b.History.Archives(t.Context(), museum)
	require.NoError(t, err)
	for _, one := range known {
		if one.Name == all[1] {
			require.Len(t, one.Copies, 2, "its line stays")
			assert.Equal(t, "removed by hand by keeper: a private letter", one.Copies[0].Why)
		}
	}
	assert.Empty(t, b.alarms()["vanished"], "what was removed by hand has not vanished")

	_, err = b.removes(RemoveOrder{Archive: all[0]})
	require.NoError(t, err, "another good one is there")
	_, err = b.removes(RemoveOrder{Archive: all[2], Store: "here"})
	require.NoError(t, err, "it stays in the other store")
	_, err = b.removes(RemoveOrder{Archive: all[2]})
	assert.True(t, reason.Is(err, reason.LastArchive), "%v", err)
	_, err = b.removes(RemoveOrder{Archive: all[2], Anyway: true})
	require.NoError(t, err)
	for _, store := range []string{"here", "far"} {
		left, err := filepath.Glob(b.path(store + "/" + museum + "/parts/*/*"))
		require.NoError(t, err)
		assert.Empty(t, left, "the space is given back")
	}
}

// A store that does not answer, or where another machine removes, keeps the archive, and that is said.
func TestRemoveWhereItCannot(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	all := b.take(2)
	far := b.Config.Stores["far"]
	far.Keeper = config.KeeperElsewhere
	b.Config.Stores["far"] = far
	r, err := b.removes(RemoveOrder{Archive: all[0]})
	require.NoError(t, err)
	assert.Equal(t, []string{"here"}, r.Gone)
	require.Len(t, r.Stays, 1)
	_, err = b.removes(RemoveOrder{Archive: all[0]})
	assert.True(t, reason.Is(err, reason.NotThere), "%v", err)
	b.open()
	back := b.away("far")
	_, err = b.removes(RemoveOrder{Archive: all[1]})
	assert.True(t, reason.Is(err, reason.LastArchive), "a store that does not answer keeps nothing, as far as is known: %v", err)
	r, err = b.removes(RemoveOrder{Archive: all[1], Anyway: true})
	require.NoError(t, err)
	assert.Equal(t, []string{"here"}, r.Gone)
	assert.Len(t, r.Stays, 1)
	back()
	b.open()
	b.sound()
	r, err = b.removes(RemoveOrder{Archive: all[1]})
	require.NoError(t, err, "the older one is there still")
	assert.Equal(t, []string{"far"}, r.Gone)
}

// The last good copy is the last one, whatever damaged ones stay.
func TestRemoveTheLastSoundCopy(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	only := b.take(1)[0]
	parts, err := filepath.Glob(b.path("far/" + museum + "/parts/*/*"))
	require.NoError(t, err)
	for _, part := range parts {
		require.NoError(t, os.WriteFile(part, []byte("damaged"), 0o600))
	}
	p, err := b.Verify(t.Context(), VerifyOrder{})
	require.NoError(t, err)
	require.Equal(t, catalog.Damaged, p.Verdict())
	_, err = b.removes(RemoveOrder{Archive: only, Store: "here"})
	assert.True(t, reason.Is(err, reason.LastArchive), "%v", err)
	r, err := b.removes(RemoveOrder{Archive: only, Store: "far"})
	require.NoError(t, err, "the damaged one may go")
	assert.Equal(t, []string{"far"}, r.Gone)
}

// A machine that stops between a deletion and its note has deleted the archive all the same; one that stops before
// the deletion has not, and whoever deletes the archive later is somebody else.
func TestARemovalThatWasKilled(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	all := b.take(3)
	vanish := func(name string) {
		t.Helper()
		require.NoError(t, os.Remove(b.path("here/"+museum+"/archives/"+name+".json")))
		_, err := b.List(t.Context(), museum)
		require.NoError(t, err)
	}
	require.NoError(t, b.History.WillGo(t.Context(), all[0], "here", "no keep rule kept it"))
	vanish(all[0])
	assert.Empty(t, b.alarms()["vanished"])
	known, err := b.History.Archives(t.Context(), museum)
	require.NoError(t, err)
	for _, one := range known {
		for _, c := range one.Copies {
			if one.Name == all[0] && c.Store == "here" {
				assert.False(t, c.Gone.IsZero())
				assert.Equal(t, "no keep rule kept it", c.Why)
			}
		}
	}
	require.NoError(t, b.History.WillGo(t.Context(), all[1], "here", "no keep rule kept it"))
	_, err = b.List(t.Context(), museum)
	require.NoError(t, err)
	vanish(all[1])
	assert.NotEmpty(t, b.alarms()["vanished"])
}
