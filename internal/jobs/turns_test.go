package jobs

import (
	"os"
	"path"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/storelock"
	"revlet/internal/platform/signing"
	"revlet/internal/watch/history"
)

// twoMachines have the same configuration, and take each other's archives.
func twoMachines(t *testing.T) (first, second *bench) {
	t.Helper()
	first = newBench(t, "", "")
	second = &bench{t: t, dir: first.dir, clock: first.clock, site: first.site}
	second.openWith("state2")
	var keys string
	for _, b := range []*bench{first, second} {
		key, err := b.signingKey()
		require.NoError(t, err)
		keys += "      - " + string(key.Public()) + "\n"
	}
	first.configure("    schedule: [\"full, every day at 03:00\"]\n    signed_by:\n"+keys, "")
	first.open()
	second.openWith("state2")
	for _, b := range []*bench{first, second} {
		assert.Empty(t, b.due(), "what is new begins with its next time")
	}
	return first, second
}

func records(b *bench) int {
	found, err := filepath.Glob(b.path(path.Join("here", archive.RecordsDir(museum), "*.json")))
	require.NoError(b.t, err)
	return len(found)
}

func claims(b *bench) []string {
	found, err := filepath.Glob(b.path(path.Join("here", archive.TurnsDir(museum), "*")))
	require.NoError(b.t, err)
	return found
}

// Two machines with the same configuration take each turn once; which of them does is open.
func TestTwoMachinesTakeATurnOnce(t *testing.T) {
	t.Parallel()
	first, second := twoMachines(t)
	for day := 1; day <= 3; day++ {
		for _, b := range []*bench{first, second} {
			b.later(24 * time.Hour)
		}
		var together sync.WaitGroup
		for _, b := range []*bench{first, second} {
			together.Go(func() { _, err := b.Due(t.Context(), "due"); assert.NoError(t, err) })
		}
		together.Wait()
		assert.Equal(t, day, records(first))
		assert.Empty(t, claims(first), "whoever is done gives the turn back")
		for _, b := range []*bench{first, second} { // whoever gave way sees that it is done
			b.later(time.Minute)
			assert.Empty(t, b.due())
			lines, err := b.Duties(t.Context(), museum, 1)
			require.NoError(t, err)
			assert.False(t, lines[0].Due)
			assert.Equal(t, history.Done, lines[0].Outcome)
		}
		assert.Equal(t, day, records(first))
	}
	assert.Equal(t, 3, first.runs("backup")+second.runs("backup"))
}

// A claim of a machine that is known holds the others up for a while, one of anybody else's not at all.
func TestClaimsOfOthers(t *testing.T) {
	t.Parallel()
	first, second := twoMachines(t)
	// As a stranger who can write there would: a claim that is as old, by a key that nobody knows, for every turn.
	stranger, err := signing.Generate()
	require.NoError(t, err)
	forge := func(key *signing.Key, turn, machine string) string {
		text, err := key.Sign(turnNamespace, []byte(museum+"\n"+turn+"\n"+machine+"\n"))
		require.NoError(t, err)
		file := first.path(path.Join("here", archive.TurnsDir(museum), turn+"."+machine))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		old := time.Now().Add(-time.Minute)
		require.NoError(t, os.Chtimes(file, old, old))
		return file
	}
	first.later(24 * time.Hour)
	turn := turnName(t, first)
	forge(stranger, turn, "00stranger")
	assert.Equal(t, []string{history.Done}, first.due(), "nobody keeps us from our work")
	assert.Equal(t, 1, records(first))

	// The other machine has claimed the next one, and then died.
	second.later(24 * time.Hour)
	assert.Empty(t, second.due())
	for _, b := range []*bench{first, second} {
		b.later(24 * time.Hour)
	}
	key, err := second.signingKey()
	require.NoError(t, err)
	died := forge(key, turnName(t, first), storelock.Machine(second.State.Dir))
	assert.Empty(t, first.due(), "another is at it")
	assert.Equal(t, 1, records(first))
	old := time.Now().Add(-storelock.TurnAge - time.Minute)
	require.NoError(t, os.Chtimes(died, old, old))
	assert.Equal(t, []string{history.Done}, first.due())
	assert.Equal(t, 2, records(first))

	// Where it cannot be told whose turn it is, the work is done.
	first.later(24 * time.Hour)
	require.NoError(t, os.RemoveAll(filepath.Dir(died)))
	require.NoError(t, os.WriteFile(filepath.Dir(died), nil, 0o600))
	assert.Equal(t, []string{history.Done}, first.due())
	assert.NotEmpty(t, events[Warning](first))
}

// turnName is the name of the turn that is due, as its claim has it.
func turnName(t *testing.T, b *bench) string {
	t.Helper()
	states, err := b.dutyStates(t.Context(), museum)
	require.NoError(t, err)
	d := b.duties(museum)[0]
	one := turn{Duty: d, state: states[d.String()]}
	one.due = one.next(b.Config.Zone(b.Config.Sites[museum]), 0)
	return one.name()
}
