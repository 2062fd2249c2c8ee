package history

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var noon = time.Date(2026, 11, 15, 12, 0, 0, 0, time.UTC)

func opened(t *testing.T, file string) *History {
	h, err := Open(t.Context(), file)
	require.NoError(t, err)
	t.Cleanup(func() { _ = h.Close() })
	return h
}

// A file of the form before this one keeps what it knows.
func TestAnOlderFileIsBroughtUpToDate(t *testing.T) {
	file := filepath.Join(t.TempDir(), "history ?%20.db")
	db, err := sql.Open("sqlite", "file:"+filepath.Dir(file)+"/history%20%3F%2520.db")
	require.NoError(t, err)
	_, err = db.Exec(steps[0] + steps[1] + "INSERT INTO runs VALUES (1, 'museum', 'backup', 'x', '2026-01-01T00:00:00Z', '2026-01-01T00:01:00Z', 'done', ''); PRAGMA user_version = 2")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	for range 2 {
		h := opened(t, file)
		assert.Empty(t, h.SetAside)
		runs, err := h.Runs(t.Context(), RunFilter{Site: "museum"})
		require.NoError(t, err)
		require.Len(t, runs, 1)
		assert.Equal(t, time.Minute, runs[0].Finished.Sub(runs[0].Started))
	}
}

func TestSilences(t *testing.T) {
	h := opened(t, filepath.Join(t.TempDir(), "h.db"))
	see := func(at time.Time) { t.Helper(); require.NoError(t, h.SeeClock(t.Context(), at)) }
	silent := func() []Silence { s, err := h.Silences(t.Context()); require.NoError(t, err); return s }
	require.NoError(t, h.SetArchive(t.Context(), Archive{Name: "a", Taken: noon.AddDate(0, 0, -10)}))
	see(noon)
	require.Equal(t, []Silence{{noon.AddDate(0, 0, -10), noon}}, silent(), "a new history goes by the newest archive")
	see(noon.Add(50 * time.Hour))
	see(noon.Add(49*time.Hour + 30*time.Minute))
	require.Len(t, silent(), 1)
	jump := noon.AddDate(1, 0, 0)
	see(jump)
	require.Len(t, silent(), 2)
	back := noon.Add(60 * time.Hour)
	see(back)
	require.Equal(t, back, silent()[1].Ended, "what was jumped over has not been")
	see(back.Add(time.Hour))
	require.Len(t, silent(), 2)
}

// An alarm keeps its beginning while it holds, and its acceptance only so long.
func TestAlarmsHaveALife(t *testing.T) {
	h := opened(t, filepath.Join(t.TempDir(), "h.db"))
	found := []Finding{{Kind: "overdue", Detail: "x"}}
	at := func(hours int) time.Time { return noon.Add(time.Duration(hours) * time.Hour) }
	require.NoError(t, h.Raise(t.Context(), "museum", []Finding{{"planted", "y", "archive-1"}}, at(0)))
	require.NoError(t, h.SetAlarms(t.Context(), "museum", found, at(0)))
	require.NoError(t, h.SetAlarms(t.Context(), "museum", found, at(1)))
	all, err := h.Alarms(t.Context(), "museum")
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, at(0), all[1].Since)
	for _, kind := range []string{"overdue", "planted"} {
		n, err := h.Accept(t.Context(), "museum", kind, "keeper", "looked", at(2))
		require.NoError(t, err)
		assert.EqualValues(t, 1, n)
	}
	require.NoError(t, h.SetAlarms(t.Context(), "museum", found, at(3)))
	all, err = h.Alarms(t.Context(), "museum")
	require.NoError(t, err)
	require.Len(t, all, 1, "what is about an archive is settled, what holds is still shown")
	assert.Equal(t, at(2), all[0].Accepted)
	require.NoError(t, h.SetAlarms(t.Context(), "museum", nil, at(4)))
	require.NoError(t, h.SetAlarms(t.Context(), "museum", found, at(5)))
	all, err = h.Alarms(t.Context(), "museum")
	require.NoError(t, err)
	assert.True(t, all[0].Accepted.IsZero(), "when it comes again somebody must look again")
}

// Logs go after a year or so, the lines of their runs stay.
func TestTidy(t *testing.T) {
	h := opened(t, filepath.Join(t.TempDir(), "h.db"))
	for _, days := range []int{500, 10} {
		_, err := h.AddRun(t.Context(), Run{Site: "museum", Command: "backup", Started: noon.AddDate(0, 0, -days), Finished: noon, Outcome: Done, Log: "said"})
		require.NoError(t, err)
	}
	require.NoError(t, h.Tidy(t.Context(), noon))
	runs, err := h.Runs(t.Context(), RunFilter{})
	require.NoError(t, err)
	require.Len(t, runs, 2)
	assert.Equal(t, []string{"said", ""}, []string{runs[0].Log, runs[1].Log})
}

// It names sites, files and commands, and lay open to everybody on the machine.
func TestOnlyItsOwnerReadsTheHistory(t *testing.T) {
	file := filepath.Join(t.TempDir(), "history.db")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	for range 2 {
		h, err := Open(t.Context(), file)
		require.NoError(t, err)
		for _, ending := range []string{"", "-wal", "-shm"} {
			if info, err := os.Stat(file + ending); err == nil {
				assert.Zero(t, info.Mode().Perm()&0o077, ending)
			}
		}
		require.NoError(t, h.Close())
		require.NoError(t, os.Remove(file))
	}
}
