package jobs

import (
	"context"
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/practice/lampblack"
	"revlet/internal/watch/history"
)

// bench is the museum's site, one store here and one "far" (a folder too), an agent
// with a clock that stands still until it is moved, and what the agent tells.
type bench struct {
	t *testing.T
	*Agent
	dir   string
	clock time.Time
	told  []Event
	site  *httptest.Server
}

const museum = "kestrelpoint"

// newBench builds the site and opens an agent with more in the site's entry and at
// the end of the configuration.
func newBench(t *testing.T, entry, more string) *bench {
	t.Helper()
	return newBenchIn(t, t.TempDir(), entry, more)
}

// newBenchIn does so in a folder.
func newBenchIn(t *testing.T, dir, entry, more string) *bench {
	t.Helper()
	b := &bench{t: t, dir: dir, clock: time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)}
	b.site = httptest.NewServer(lampblack.Handler(b.path("htdocs")))
	t.Cleanup(b.site.Close)
	require.NoError(t, lampblack.Build(t.Context(), b.path("htdocs"), b.site.URL))
	require.NoError(t, os.Mkdir(b.path("here"), 0o700))
	require.NoError(t, os.Mkdir(b.path("far"), 0o700))
	b.configure(entry, more)
	b.open()
	return b
}

func (b *bench) path(name string) string { return filepath.Join(b.dir, name) }

func (b *bench) configure(entry, more string) {
	text := fmt.Sprintf("time_zone: UTC\nstores:\n  here: {folder: ./here}\n  far: {folder: ./far}\nsites:\n  %s:\n    root: ./htdocs\n    address: %s\n    recipe: lampblack\n    stores: [here, far]\n    check: {path: /}\n%s%s", museum, b.site.URL, entry, more)
	require.NoError(b.t, os.WriteFile(b.path("revlet.yaml"), []byte(text), 0o600))
}

// open opens an agent anew, as another run of the program would.
func (b *bench) open() { b.openWith("state") }

// openWith does so with a state folder of its own, as another machine has one.
func (b *bench) openWith(state string) {
	b.t.Helper()
	a := New()
	a.Now, a.Drain, a.Person = func() time.Time { return b.clock }, 0, "keeper"
	a.Tell = func(e Event) { b.told = append(b.told, e) }
	a.Words = func(result any) string { return fmt.Sprintf("%T", result) }
	b.Agent = a
	require.NoError(b.t, a.Open(context.Background(), b.path("revlet.yaml"), b.path(state)))
	b.t.Cleanup(a.Close)
}

// later moves the clock.
func (b *bench) later(d time.Duration) { b.clock = b.clock.Add(d) }

// write puts a file into the webroot.
func (b *bench) write(name, text string) {
	b.t.Helper()
	file := b.path("htdocs/" + name)
	require.NoError(b.t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(b.t, os.WriteFile(file, []byte(text), 0o644))
}

// away makes a store unusable, as an unreachable one is; back gives it back.
func (b *bench) away(store string) (back func()) {
	b.t.Helper()
	dir := b.path(store)
	require.NoError(b.t, os.Rename(dir, dir+".away"))
	require.NoError(b.t, os.WriteFile(dir, []byte("not a folder"), 0o600))
	return func() {
		require.NoError(b.t, os.Remove(dir))
		require.NoError(b.t, os.Rename(dir+".away", dir))
	}
}

// taken takes an archive, which must work.
func (b *bench) taken(o Order) *Delivered {
	b.t.Helper()
	if o.Scope == "" {
		o.Scope = archive.Full
	}
	d, err := b.Backup(b.t.Context(), museum, o)
	require.NoError(b.t, err)
	b.later(time.Minute)
	return d
}

// lastRun is the newest run of a command in the history.
func (b *bench) lastRun(command string) history.Run {
	b.t.Helper()
	runs, err := b.History.Runs(b.t.Context(), history.RunFilter{Command: command, Most: 1})
	require.NoError(b.t, err)
	require.NotEmpty(b.t, runs, "no run of %s is remembered", command)
	return runs[0]
}

func (b *bench) runs(command string) int {
	b.t.Helper()
	runs, err := b.History.Runs(b.t.Context(), history.RunFilter{Command: command})
	require.NoError(b.t, err)
	return len(runs)
}

// damage flips a byte of the largest part in a store.
func (b *bench) damage(store string) {
	b.t.Helper()
	best, most := "", int64(-1)
	require.NoError(b.t, filepath.WalkDir(b.path(store), func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.Contains(p, "/parts/") {
			return err
		}
		info, err := d.Info()
		if err == nil && info.Size() > most {
			best, most = p, info.Size()
		}
		return err
	}))
	data, err := os.ReadFile(best)
	require.NoError(b.t, err)
	data[len(data)/2] ^= 0x20
	require.NoError(b.t, os.Chmod(best, 0o600))
	require.NoError(b.t, os.WriteFile(best, data, 0o600))
}

// events are the events of one type that were told.
func events[E Event](b *bench) (all []E) {
	for _, e := range b.told {
		if one, ok := e.(E); ok {
			all = append(all, one)
		}
	}
	return all
}
