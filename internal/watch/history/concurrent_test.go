package history

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// childVariable has a second process of this test write to the history it names.
const childVariable = "HISTORY_TEST_CHILD"

// TestMain lets the test program be the other process.
func TestMain(m *testing.M) {
	file := os.Getenv(childVariable)
	if file == "" {
		os.Exit(m.Run())
	}
	if err := busy(file, 1000, 150); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

var start = time.Date(2026, 11, 1, 3, 20, 0, 0, time.UTC)

// busy writes runs, archives and where they are, and reads them again.
func busy(file string, from, n int) error {
	ctx := context.Background()
	h, err := Open(ctx, file)
	if err != nil {
		return err
	}
	defer h.Close()
	for i := from; i < from+n; i++ {
		name := "museum-" + strconv.Itoa(i)
		at := start.Add(time.Duration(i) * time.Minute)
		if err := h.SetArchive(ctx, Archive{Name: name, Site: "museum", Taken: at}); err != nil {
			return err
		}
		if err := h.CameTo(ctx, name, "here", at); err != nil {
			return err
		}
		if _, err := h.AddRun(ctx, Run{Site: "museum", Command: "backup", Archive: name, Started: at, Finished: at}); err != nil {
			return err
		}
		if _, err := h.Archives(ctx, "museum"); err != nil {
			return err
		}
		if i%3 == 0 {
			if err := h.WentFrom(ctx, name, "here", at, "a test"); err != nil {
				return err
			}
		}
	}
	return nil
}

// Two processes write and read the same history: nothing is lost, nobody fails.
func TestTwoProcessesAtOneHistory(t *testing.T) {
	file := filepath.Join(t.TempDir(), "history.db")
	h, err := Open(t.Context(), file)
	require.NoError(t, err)
	defer h.Close()
	program, err := os.Executable()
	require.NoError(t, err)
	other := exec.Command(program)
	other.Env = append(os.Environ(), childVariable+"="+file)
	var g sync.WaitGroup
	g.Go(func() {
		out, err := other.CombinedOutput()
		assert.NoError(t, err, string(out))
	})
	require.NoError(t, busy(file, 0, 150))
	g.Wait()
	archives, err := h.Archives(t.Context(), "museum")
	require.NoError(t, err)
	assert.Len(t, archives, 300)
	gone := 0
	for _, a := range archives {
		require.Len(t, a.Copies, 1, a.Name)
		if !a.Exists() {
			gone++
		}
	}
	assert.Equal(t, 100, gone)
	runs, err := h.Runs(t.Context(), RunFilter{})
	require.NoError(t, err)
	assert.Len(t, runs, 300)
	seen := map[int64]bool{}
	for _, r := range runs {
		assert.False(t, seen[r.ID], "every run has a number of its own")
		seen[r.ID] = true
	}
}

func TestRunsAreFound(t *testing.T) {
	h := opened(t, filepath.Join(t.TempDir(), "history.db"))
	for i, outcome := range []string{Done, Failed, Gaps, Done, Damage, Waiting} {
		at := start.Add(time.Duration(i) * time.Hour)
		command := "backup"
		if i%2 == 1 {
			command = "verify"
		}
		_, err := h.AddRun(t.Context(), Run{Site: []string{"a", "b"}[i/3], Command: command, Started: at, Finished: at.Add(time.Minute), Outcome: outcome, Detail: "x", Log: "the log", Stores: []string{"here"}})
		require.NoError(t, err)
	}
	for name, c := range map[string]struct {
		filter RunFilter
		want   int
	}{
		"all":     {RunFilter{}, 6},
		"site":    {RunFilter{Site: "a"}, 3},
		"command": {RunFilter{Command: "verify"}, 3},
		"outcome": {RunFilter{Outcome: Failed}, 1},
		"trouble": {RunFilter{Trouble: true}, 4},
		"since":   {RunFilter{Since: start.Add(4 * time.Hour)}, 2},
		"before":  {RunFilter{Before: start.Add(4 * time.Hour)}, 4},
		"most":    {RunFilter{Most: 2}, 2},
		"number":  {RunFilter{ID: 3}, 1},
		"both":    {RunFilter{Site: "b", Command: "verify"}, 2},
	} {
		runs, err := h.Runs(t.Context(), c.filter)
		require.NoError(t, err, name)
		assert.Len(t, runs, c.want, name)
		for i := 1; i < len(runs); i++ {
			assert.Greater(t, runs[i-1].ID, runs[i].ID, "the newest first")
		}
	}
	one, err := h.Runs(t.Context(), RunFilter{ID: 3})
	require.NoError(t, err)
	assert.Equal(t, "the log", one[0].Log)
	assert.Equal(t, []string{"here"}, one[0].Stores)
	assert.True(t, one[0].Started.Equal(start.Add(2*time.Hour)))
}
