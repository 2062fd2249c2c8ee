package jobs

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/catalog"
	"revlet/internal/platform/reason"
	"revlet/internal/practice/lampblack"
	"revlet/internal/site"
	"revlet/internal/watch/history"
	"revlet/internal/work/compare"
	"revlet/internal/work/rehearse"
)

// held is the newest archive.
func (b *bench) held() *catalog.Held {
	b.t.Helper()
	h, err := b.Find(b.t.Context(), museum, time.Time{})
	require.NoError(b.t, err)
	return h
}

func TestARehearsalTriesTheArchiveAndLeavesTheSiteAlone(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	d := b.taken(Order{})
	want := b.count("SELECT count(*) FROM keepers_log")
	b.sql("DELETE FROM keepers_log") // what is live says nothing about the archive
	require.NoError(t, os.Remove(b.path("htdocs/"+theme)))

	r, err := b.Rehearse(t.Context(), b.held(), nil)
	require.NoError(t, err)
	assert.True(t, r.Passed(), "%v", r.Trouble)
	assert.Equal(t, d.Record.Totals.Rows, r.Rows)
	assert.EqualValues(t, d.Record.Totals.Tables, r.Tables)
	assert.Equal(t, d.Record.Totals.Files+d.Record.Totals.Folders+d.Record.Totals.Links, r.Paths)
	assert.Empty(t, r.Tried, "nothing says how to serve it")
	assert.Zero(t, b.count("SELECT count(*) FROM keepers_log"), "the live rows stay gone")
	assert.Less(t, 0, want)
	assert.NoFileExists(t, b.path("htdocs/"+theme))
	left, err := filepath.Glob(b.path("state/rehearsal/*"))
	require.NoError(t, err)
	assert.Empty(t, left, "the copy is thrown away")

	run := b.lastRun("rehearse")
	assert.Equal(t, history.Done, run.Outcome)
	assert.Equal(t, d.Record.Name, run.Archive)
}

func TestARehearsalOfWhatDoesNotRestoreFails(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	h := b.held()
	b.damage("here")
	r, err := b.Rehearse(t.Context(), h, nil)
	require.NoError(t, err)
	assert.True(t, r.Passed(), "the other store has it sound: %v", r.Trouble)

	b.later(time.Minute)
	b.damage("far")
	r, err = b.Rehearse(t.Context(), h, nil)
	require.NoError(t, err)
	assert.False(t, r.Passed())
	run := b.lastRun("rehearse")
	assert.Equal(t, history.Damage, run.Outcome)
	assert.NotEmpty(t, run.Detail)
	left, err := filepath.Glob(b.path("state/rehearsal/*"))
	require.NoError(t, err)
	assert.Empty(t, left, "a failed one leaves no copy either")
}

func TestAStoreOutOfReachIsNoVerdictOfARehearsal(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	h := b.held()
	here, far := b.away("here"), b.away("far")
	_, err := b.Rehearse(t.Context(), h, nil)
	require.Error(t, err)
	assert.Equal(t, history.Failed, b.lastRun("rehearse").Outcome, "it is not called damaged")
	last, err := b.History.LastRehearsal(t.Context(), museum)
	require.NoError(t, err)
	assert.Nil(t, last, "nothing is known of it")

	// One of two that is away leaves it open whether its copy is sound.
	here()
	b.damage("here")
	b.later(time.Minute)
	_, err = b.Rehearse(t.Context(), h, nil)
	require.ErrorContains(t, err, "store far cannot be asked")
	b.damage("here") // it flips the same bit back
	far()
	b.later(time.Minute)
	r, err := b.Rehearse(t.Context(), h, nil)
	require.NoError(t, err)
	assert.True(t, r.Passed())
}

// What the configuration says about rehearsals is checked before anything is copied.
func TestFaultsInRehearsalsAreUsage(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	for entry, says := range map[string]string{
		"    rehearse: {serve: \"python3 -m http.server\"}\n":                                      "needs {port} and {root}",
		"    rehearse: {serve: \"serve {root}\"}\n":                                                "needs {port} and {root}",
		"    rehearse: {databases: {shop: {sqlite: /tmp/shop.db}}}\n":                              `no database "shop"`,
		"    databases: {main: {sqlite: /tmp/o.db}}\n    rehearse: {serve: \"x {port} {root}\"}\n": "would use the live database",
	} {
		b.configure(entry, "")
		b.Close()
		b.open()
		_, err := b.Rehearse(t.Context(), b.held(), nil)
		require.ErrorContains(t, err, says, entry)
		assert.True(t, reason.Is(err, reason.Usage), "%v", err)
	}
	assert.FileExists(t, b.path("htdocs/"+lampblack.DatabaseFile))
}

// What a restore would make of rows and definitions is looked at, not only how many there are; where another version of
// the server writes them otherwise, it is said that they were counted.
func TestARehearsalComparesRowsAndDefinitions(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	spoiled := func(statement, version string) *rehearse.Result {
		t.Helper()
		h := b.held()
		require.NoError(t, h.Unseal(h.Keys))
		job, err := b.rehearsal(t.Context(), h, nil)
		require.NoError(t, err)
		job.Live = func(s *site.Site) *compare.Live {
			require.NoError(t, lampblack.Execute(t.Context(), s.Databases[0].Path, statement))
			return b.databases().Live(s)
		}
		if version != "" {
			job.Version = func(context.Context, site.Database) (string, error) { return version, nil }
		}
		r, err := rehearse.Run(t.Context(), job)
		require.NoError(t, err)
		return r
	}
	const rows = "UPDATE pages SET body = replace(body, 'e', 'é')"
	assert.True(t, spoiled("SELECT 1", "").Passed())
	assert.Equal(t, []string{"table pages of database main has as many rows in the copy, and not the same"}, spoiled(rows, "").Trouble)
	r := spoiled(rows, "4.0")
	assert.True(t, r.Passed(), "%v", r.Trouble)
	require.Len(t, r.Counted, 1)
	assert.Contains(t, r.Counted[0], "the copy is in 4.0")
	assert.Equal(t, []string{"the view latest_log of database main is removed in the copy"}, spoiled("DROP VIEW latest_log", "4.0").Trouble)
	assert.Equal(t, []string{"the trigger tidy_title of database main is changed in the copy"}, spoiled("DROP TRIGGER tidy_title; CREATE TRIGGER tidy_title AFTER INSERT ON pages BEGIN SELECT 1; END", "").Trouble)
	assert.True(t, spoiled("CREATE VIEW of_the_server AS SELECT 1", "").Passed())
}
