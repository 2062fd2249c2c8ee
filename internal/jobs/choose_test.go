package jobs

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/database"
	"revlet/internal/platform/reason"
	"revlet/internal/store/marked"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
	"revlet/internal/work/restore"
)

// A site's name means the newest archive that serves, and what is newer is told.
func TestWhichArchiveASiteNameMeans(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	var names []string
	for _, scope := range []archive.Scope{archive.Full, archive.Full, archive.Files, archive.Full, archive.Database, archive.Database} {
		names = append(names, b.taken(Order{Scope: scope}).Record.Name)
	}
	ctx := t.Context()
	find := func(need Need) string {
		b.told = nil
		h, err := b.FindFor(ctx, museum, time.Time{}, need)
		require.NoError(t, err)
		return h.Name
	}
	both := Need{Files: true, Database: true}
	assert.Equal(t, names[3], find(both))
	assert.Equal(t, []PassedOver{{names[5], "it holds only the database"}}, events[PassedOver](b))
	assert.Equal(t, names[3], find(Need{Files: true}))
	assert.Equal(t, names[5], find(Need{Database: true}))
	assert.Equal(t, names[5], find(Need{}))
	assert.Empty(t, events[PassedOver](b))

	b.damagedEverywhere(names[3])
	assert.Equal(t, names[1], find(both), "a damaged one is none")
	assert.Contains(t, events[PassedOver](b)[1].Why, "damaged in store")
	require.NoError(t, b.History.Raise(ctx, museum, []history.Finding{{Kind: alarm.Planted, Detail: "uploads/x.php", Archive: names[1]}, {Kind: alarm.Shrunken, Detail: "x", Archive: names[0]}}, b.clock))
	assert.Equal(t, names[1], find(both), "only a restore needs a clean one")
	clean := both
	clean.Clean = true
	assert.Equal(t, names[0], find(clean))
	_, err := b.History.Accept(ctx, museum, alarm.Planted, "keeper", "mine", b.clock)
	require.NoError(t, err)
	assert.Equal(t, names[1], find(clean), "what was accepted is no sign")

	b.clock = b.clock.Add(-24 * time.Hour)
	_, err = b.FindFor(ctx, museum, time.Time{}, both)
	require.True(t, reason.Is(err, reason.NoneServes))
	assert.ErrorContains(t, err, names[5]+": its time is in the future")
	h, err := b.FindFor(ctx, names[2], time.Time{}, clean)
	require.NoError(t, err, "one that is named is taken")
	assert.Equal(t, names[2], h.Name)
}

// Of a copy that somebody has packed nobody knows of when it is: it does no duty, and is
// not taken by itself where there is an archive of the site.
func TestACopyThatWasPackedByHandIsNotTheSiteNow(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    schedule: [\"files, every day at 03:00\"]\n    keep: [newest 1]\n", "")
	out, err := exec.Command("tar", "-czf", b.path("old.tar.gz"), "-C", b.path("htdocs"), ".").CombinedOutput()
	require.NoError(t, err, string(out))
	var byHand []string
	packed := func() {
		require.NoError(t, os.Chtimes(b.path("old.tar.gz"), b.clock, b.clock)) // as after a download
		d, err := b.Import(t.Context(), ImportOrder{Files: []string{b.path("old.tar.gz")}, Site: museum})
		require.NoError(t, err)
		assert.Equal(t, archive.FilesByHand, d.Record.Scope)
		byHand = append(byHand, d.Record.Name)
		b.later(time.Minute)
	}
	newest := func() string {
		p, err := b.Page(t.Context(), []string{museum}, false)
		require.NoError(t, err)
		return p.Sites[0].Newest.Name
	}
	packed()
	h, err := b.FindFor(t.Context(), museum, time.Time{}, Need{Files: true, Clean: true})
	require.NoError(t, err, "better than none")
	assert.Equal(t, byHand[0], h.Name)
	assert.Equal(t, byHand[0], newest())

	taken := b.taken(Order{Scope: archive.Files}).Record.Name
	b.later(3 * 24 * time.Hour)
	packed()
	h, err = b.FindFor(t.Context(), museum, time.Time{}, Need{Files: true, Clean: true})
	require.NoError(t, err)
	assert.Equal(t, taken, h.Name)
	assert.Contains(t, events[PassedOver](b)[0].Why, "by hand")
	assert.Equal(t, taken, newest())
	assert.Contains(t, b.alarms(), alarm.Overdue)
	h, err = b.FindFor(t.Context(), byHand[1], time.Time{}, Need{})
	require.NoError(t, err)
	assert.Equal(t, byHand[1], h.Name)

	packed()
	_, err = b.Retain(t.Context(), museum, "", true)
	require.NoError(t, err)
	assert.Equal(t, []string{byHand[2], taken}, b.listed("here"), "they count on their own")
}

// A restore of all files ends what an alarm casts doubt on; one of a share, or one that
// was taken back, does not.
func TestAnArchiveAfterCleaningIsClean(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		clean func(b *bench, from *catalog.Held)
		want  int
	}{
		"not cleaned": {func(*bench, *catalog.Held) {}, 0},
		"cleaned":     {func(b *bench, from *catalog.Held) { b.restored(from.Name) }, 2},
		"a share": {func(b *bench, from *catalog.Held) {
			s, err := b.OpenForRestore(t.Context(), from)
			require.NoError(b.t, err)
			_, err = b.Restore(b.t.Context(), RestoreOrder{Archive: from, Site: s, Files: true, Selection: restore.Matching([]string{"themes/**"}, false)})
			require.NoError(b.t, err)
		}, 0},
		"taken back": {func(b *bench, from *catalog.Held) {
			b.restored(from.Name)
			journals, err := b.ToTakeBack(t.Context(), museum)
			require.NoError(b.t, err)
			_, err = b.Undo(b.t.Context(), journals[0])
			require.NoError(b.t, err)
		}, 0},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, "", "")
			var names []string
			take := func() { names = append(names, b.taken(Order{}).Record.Name) }
			take()
			b.write("uploads/2026/ornament.php", "<?php")
			take()
			from, err := b.Find(t.Context(), names[0], time.Time{})
			require.NoError(t, err)
			c.clean(b, from)
			b.later(time.Minute)
			take()
			h, err := b.FindFor(t.Context(), museum, time.Time{}, Need{Files: true, Database: true, Clean: true})
			require.NoError(t, err)
			assert.Equal(t, names[c.want], h.Name)
		})
	}
}

// damagedEverywhere remembers that a proof found an archive damaged in both stores.
func (b *bench) damagedEverywhere(name string) {
	b.t.Helper()
	for _, s := range []string{"here", "far"} {
		require.NoError(b.t, b.History.AddProof(b.t.Context(), history.Proof{Archive: name, Store: s, Level: "full", At: b.clock}))
	}
}

// The sole archive is damaged: that is said, not that there is none.
func TestASoleDamagedArchiveIsNotNone(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	d := b.taken(Order{})
	b.damagedEverywhere(d.Record.Name)
	_, err := b.Find(t.Context(), museum, time.Time{})
	require.ErrorContains(t, err, d.Record.Name+": it is damaged in store")
	assert.NotContains(t, err.Error(), "none yet")
}

// Stores that are away, or are others than they were, hide nothing and get nothing.
func TestStoresThatAreAwayHideNothing(t *testing.T) {
	t.Parallel()
	for name, take := range map[string]func(b *bench, store string){
		"gone": func(b *bench, s string) { require.NoError(b.t, os.Rename(b.path(s), b.path(s+".away"))) },
		"an empty mount point": func(b *bench, s string) {
			require.NoError(b.t, os.Rename(b.path(s), b.path(s+".away")))
			require.NoError(b.t, os.Mkdir(b.path(s), 0o700))
		},
		"not a folder": func(b *bench, s string) { b.away(s) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, "", "")
			first := b.taken(Order{}).Record.Name
			take(b, "far")
			b.open()
			l, err := b.Archives(t.Context(), []string{museum})
			require.NoError(t, err)
			require.Len(t, l.Archives, 1)
			assert.Equal(t, []string{"here"}, l.Archives[0].Stores)
			assert.Equal(t, []string{"far"}, l.Archives[0].NotReached)
			assert.Equal(t, catalog.NotReached, l.Verdict())
			second := b.taken(Order{})
			require.Len(t, second.Pending, 1, "the next archive does not go there")

			take(b, "here")
			b.open()
			l, err = b.Archives(t.Context(), []string{museum})
			require.NoError(t, err)
			require.Len(t, l.Archives, 2, "the history knows of them")
			assert.Equal(t, first, l.Archives[1].Name)
			assert.Equal(t, []string{"far", "here"}, slices.Sorted(slices.Values(l.Archives[1].NotReached)))
			assert.Empty(t, l.Archives[0].Stores)
			_, err = b.Find(t.Context(), museum, time.Time{})
			require.Error(t, err)
			assert.NotContains(t, err.Error(), "none yet")
			_, err = b.Backup(t.Context(), museum, Order{Scope: archive.Full})
			require.Error(t, err)
			s, err := b.assess(t.Context(), museum)
			require.NoError(t, err)
			if name != "not a folder" {
				assert.NoFileExists(t, filepath.Join(b.path("far"), marked.Name))
				assert.Equal(t, alarm.StoreLost, s.Alarms[len(s.Alarms)-1].Kind)
			}

			for _, store := range []string{"here", "far"} {
				_ = os.RemoveAll(b.path(store))
				require.NoError(t, os.Rename(b.path(store+".away"), b.path(store)))
			}
			b.open()
			pending, err := b.History.Pending(t.Context(), museum)
			require.NoError(t, err)
			require.Len(t, pending, 1, "what was pending is not forgotten")
			third := b.taken(Order{})
			assert.Empty(t, third.Pending)
			l, err = b.Archives(t.Context(), []string{museum})
			require.NoError(t, err)
			require.Len(t, l.Archives, 3)
			for _, one := range l.Archives {
				assert.Equal(t, []string{"here", "far"}, one.Stores, "all are in both in the end")
			}
		})
	}
}

// What nobody has is not "newer than every archive".
func TestSinceWhenNeedsATableAndAColumn(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	first := b.taken(Order{}).Record.Name
	c, err := b.Comparison(t.Context(), museum, "", time.Time{})
	require.NoError(t, err)
	for _, bad := range []database.RowPick{{Table: "pagse", Column: "id", Value: "1"}, {Table: "pages", Column: "ident", Value: "1"}} {
		_, err = b.Since(t.Context(), c, "", &bad)
		assert.True(t, reason.Is(err, reason.Usage), "%v: %v", bad, err)
	}
	seen, err := b.Since(t.Context(), c, "", &database.RowPick{Table: "pages", Column: "id", Value: "1"})
	require.NoError(t, err)
	assert.Equal(t, first, seen.FirstSeen)
	b.sql("INSERT INTO pages (id, slug, title, body, position) VALUES (4711, 'new', 'New', 'new', 9)")
	seen, err = b.Since(t.Context(), c, "", &database.RowPick{Table: "pages", Column: "id", Value: "4711"})
	require.NoError(t, err)
	assert.Empty(t, seen.FirstSeen, "a row may be newer than every archive")
}
