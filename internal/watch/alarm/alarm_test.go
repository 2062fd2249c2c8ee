package alarm

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/changes"
	"revlet/internal/rules/schedule"
	"revlet/internal/watch/history"
)

var noon = time.Date(2026, 11, 15, 12, 0, 0, 0, time.UTC)

func duty(t *testing.T, phrase string) schedule.Duty {
	d, err := schedule.Parse(phrase)
	require.NoError(t, err)
	return d
}

// taken is a good full archive of some days ago that is in two stores.
func taken(days int) history.Archive {
	at := noon.AddDate(0, 0, -days)
	return history.Archive{Name: at.Format("20060102"), Scope: "full", Taken: at, Files: 1000, FileBytes: 50 << 20, DatabaseBytes: 4 << 20, StoredBytes: 30 << 20, NewBytes: 1 << 20,
		Copies: []history.Copy{{Store: "here", Since: at}, {Store: "harbour", Since: at}}}
}

// well is a site with nothing to complain about.
func well(t *testing.T) Facts {
	daily := duty(t, "full, every day at 03:20")
	f := Facts{Now: noon, Zone: time.UTC, Duties: []schedule.Duty{daily}, States: map[string]history.DutyState{daily.String(): {Seen: noon.AddDate(0, -6, 0), Started: noon.Add(-8 * time.Hour), Outcome: history.Done}},
		Stores: []Store{{Name: "here", Offsite: false, Free: 80 << 30}, {Name: "harbour", Offsite: true, Free: -1}}, Proofs: map[string][]history.Proof{}, Bad: map[string][]string{}, Rehearsed: &history.Rehearsal{At: noon, Passed: true}}
	for day := range 100 {
		f.Archives = append(f.Archives, taken(day))
	}
	f.Archives[0].Taken = noon.Add(-8 * time.Hour)
	f.Proofs[f.Archives[3].Name] = []history.Proof{{Level: "full", Sound: true, At: noon}}
	return f
}

func TestState(t *testing.T) {
	require.Empty(t, State(well(t)))
	for name, c := range map[string]struct {
		spoil        func(f *Facts)
		kind, detail string
	}{
		"a turn was missed": {func(f *Facts) { f.Archives = f.Archives[2:]; f.States = map[string]history.DutyState{} }, Overdue, "was due on 14 Nov 2026 03:20"},
		"a turn failed": {func(f *Facts) {
			d := f.Duties[0].String()
			f.States[d] = history.DutyState{Started: noon, Outcome: history.Failed, Detail: "no such host\nmore"}
		}, Failed, "no such host"},
		"damage":                 {func(f *Facts) { f.Bad[f.Archives[1].Name] = []string{"here"} }, Damaged, "20261114 in here"},
		"no store elsewhere":     {func(f *Facts) { f.Stores = f.Stores[:1] }, Onsite, "on its own machine"},
		"nothing came there":     {func(f *Facts) { f.Stores[1].Name = "shelf" }, Onsite, "has come"},
		"a store lags behind":    {func(f *Facts) { f.Pending = []history.Pending{{Store: "harbour", Since: noon.AddDate(0, 0, -2)}} }, Behind, "lacks 1"},
		"never read again":       {func(f *Facts) { f.Proofs = nil }, NeverVerified, "none was ever read"},
		"never put back":         {func(f *Facts) { f.Rehearsed = nil }, NeverTried, "none was ever put back"},
		"it does not restore":    {func(f *Facts) { f.Rehearsed = &history.Rehearsal{Archive: "20261110", At: noon, Detail: "part x"} }, NotRestorable, "20261110"},
		"no room":                {func(f *Facts) { f.Stores[0].Free = 20 << 20 }, DiskFilling, "less than one whole archive"},
		"soon no room":           {func(f *Facts) { f.Stores[0].Free = 12 << 20; f.Archives[0].StoredBytes = 1 }, DiskFilling, "will be full about 2"},
		"an archive of tomorrow": {func(f *Facts) { f.Archives[0].Taken = noon.AddDate(0, 0, 1) }, WrongClock, "future"},
		"another store is there": {func(f *Facts) { f.Stores[0].Lost = "its mark is missing" }, StoreLost, "its mark is missing"},
		"the key was not tried":  {func(f *Facts) { f.KeyUntried = true }, UntriedKey, "never tried"},
	} {
		t.Run(name, func(t *testing.T) {
			f := well(t)
			c.spoil(&f)
			found := State(f)
			require.Len(t, found, 1, "%v", found)
			assert.Equal(t, c.kind, found[0].Kind)
			assert.Contains(t, found[0].Detail, c.detail)
			_, known := Meant(found[0].Kind)
			assert.True(t, known)
		})
	}
	f := well(t)
	f.Archives = f.Archives[1:] // the turn of this morning is late, but not by much
	f.States = map[string]history.DutyState{}
	f.Now = time.Date(2026, 11, 15, 9, 0, 0, 0, time.UTC)
	assert.Empty(t, State(f))
}

func TestOfArchive(t *testing.T) {
	before := well(t).Archives[1:]
	growing := make([]history.Archive, 8)
	for i := range growing {
		growing[i] = taken(i + 1)
		growing[i].FileBytes = int64(100-12*i) << 20
	}
	for name, c := range map[string]struct {
		change func(a *history.Archive)
		before []history.Archive
		kinds  []string
	}{
		"as ever":                   {func(*history.Archive) {}, before, nil},
		"a little less":             {func(a *history.Archive) { a.Files = 800; a.FileBytes = 40 << 20 }, before, nil},
		"half the files":            {func(a *history.Archive) { a.Files = 500 }, before, []string{Shrunken}},
		"half the database":         {func(a *history.Archive) { a.DatabaseBytes = 2 << 20 }, before, []string{Shrunken}},
		"three times the size":      {func(a *history.Archive) { a.FileBytes = 150 << 20 }, before, []string{Grown}},
		"it always grew like this":  {func(a *history.Archive) { a.FileBytes = 112 << 20 }, growing, nil},
		"the first of its kind":     {func(a *history.Archive) { a.Files = 1 }, nil, nil},
		"another scope is no guide": {func(a *history.Archive) { a.Scope, a.Files = "database", 0 }, before, nil},
		"an update": {func(a *history.Archive) {
			a.Changes = &changes.Changes{Files: 1000, Changed: 700, Core: changes.Named{Count: 700}}
		}, before, nil},
		"many replaced": {func(a *history.Archive) {
			a.Changes = &changes.Changes{Files: 1000, Changed: 300, Removed: 100, SameVersion: true}
		}, before, []string{MassChange}},
		"an intruder": {func(a *history.Archive) {
			a.Changes = &changes.Changes{Files: 1000, SameVersion: true, Core: changes.Named{Count: 1, Names: []string{"index.php"}}, Planted: changes.Named{Count: 1, Names: []string{"x.php"}}, Scrambled: changes.Named{Count: 2, Names: []string{"a", "b"}}}
		}, before, []string{Scrambled, CoreChanged, Planted}},
	} {
		t.Run(name, func(t *testing.T) {
			a := taken(0)
			c.change(&a)
			var kinds []string
			for _, f := range OfArchive(a, c.before) {
				kinds = append(kinds, f.Kind)
				assert.Equal(t, a.Name, f.Archive)
			}
			assert.Equal(t, c.kinds, kinds)
		})
	}
}

// A machine that was taken over signs what it likes: its keeper looks at what comes to light.
func TestWhatAnotherMachineBringsIsLookedAt(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 11, n, 3, 20, 0, 0, time.UTC) }
	archive := func(n int, files int64) history.Archive {
		return history.Archive{Name: fmt.Sprint("kp-", n), Taken: day(n), Scope: "full", Files: files, FileBytes: files << 20}
	}
	var seen []history.Archive
	for n := 20; n > 10; n-- {
		seen = append(seen, archive(n, 1000))
	}
	for name, c := range map[string]struct {
		come  history.Archive
		seen  []history.Archive
		kinds []string
	}{
		"as always":                       {archive(21, 1001), seen, nil},
		"nearly empty":                    {archive(21, 3), seen, []string{Shrunken}},
		"of a day long past":              {archive(12, 1000), seen, []string{Backdated}},
		"late, as after an outage":        {archive(15, 1000), seen, nil},
		"the first that is seen at all":   {archive(2, 3), nil, nil},
		"of a day long past, and emptied": {archive(13, 3), seen, []string{Shrunken, Backdated}},
	} {
		var kinds []string
		for _, f := range OfArrival(c.come, c.seen, day(21).Add(time.Hour)) {
			kinds = append(kinds, f.Kind)
			assert.Equal(t, c.come.Name, f.Archive)
		}
		assert.Equal(t, c.kinds, kinds, name)
	}
}
