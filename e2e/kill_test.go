package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
)

// interrupt runs a command and sends it a signal at a random moment.
func (w *world) interrupt(sig os.Signal, most time.Duration, args ...string) (killed bool) {
	w.t.Helper()
	cmd := w.command(append([]string{"--quiet"}, args...)...)
	require.NoError(w.t, cmd.Start())
	timer := time.AfterFunc(time.Duration(rand.Int64N(int64(most))), func() { _ = cmd.Process.Signal(sig) })
	defer timer.Stop()
	return cmd.Wait() != nil
}

// clean tells that nothing is left over beside the site, in it or in the store.
func (w *world) clean() {
	w.t.Helper()
	for _, pattern := range []string{".revlet-*", "htdocs/maintenance.flag", "htdocs/.maintenance", "state/spool/*/*", "archives/.incoming/*/*", "state/journals/*/*"} {
		found, err := filepath.Glob(w.path(pattern))
		require.NoError(w.t, err)
		require.Empty(w.t, found)
	}
}

// kills is how often each command is killed.
const kills = 60

func TestKilledAtAnyMomentMuseum(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup", "--note", "the good one")
	state := func() string {
		return fmt.Sprint(snapshot(t, w.path("htdocs"), "data", "cache")) + rows(t, w)
	}
	good := state()
	breakMuseum(t, w)
	bad := state()
	require.NotEqual(t, good, bad)
	name := w.newest()
	killed := 0
	for i := range kills {
		sig := []os.Signal{syscall.SIGKILL, syscall.SIGKILL, syscall.SIGINT}[i%3]
		if w.interrupt(sig, 80*time.Millisecond, "restore", name, "--yes") {
			killed++
		}
		w.try("restore", name, "--dry-run")
		undone := w.try("undo", "kestrelpoint", "--yes")
		if undone.code != 0 {
			require.Contains(t, undone.err, "no restore has set anything aside")
		}
		require.Equal(t, bad, state(), "kill %d: %s%s", i, undone.out, undone.err)
		w.clean()
	}
	for i := range kills {
		w.try("restore", name, "--yes")
		require.Equal(t, good, state(), "kill %d", i)
		if w.interrupt(syscall.SIGKILL, 25*time.Millisecond, "undo", "kestrelpoint", "--yes") {
			killed++
		}
		if w.try("undo", "kestrelpoint", "--yes").code == 0 {
			w.clean()
		}
		require.Equal(t, bad, state(), "kill %d", i)
	}
	for range kills {
		require.NoError(t, lampblack.Execute(context.Background(), w.path("htdocs", lampblack.DatabaseFile), "UPDATE settings SET value = random() WHERE name = 'season'"))
		if w.interrupt(syscall.SIGKILL, 90*time.Millisecond, "backup") {
			killed++
		}
	}
	w.run("backup")
	w.run("verify", "--full")
	w.clean()
	t.Logf("%d of %d runs were killed before they were done", killed, 3*kills)
	assert.Greater(t, killed, kills, "most kills must hit")
	assert.Equal(t, stored(t, w), named(t, w), "no part is left that no archive names")
}

// stored are the parts in the store, named those that records name.
func stored(t *testing.T, w *world) map[string]bool {
	all := map[string]bool{}
	files, err := filepath.Glob(w.path("archives/kestrelpoint/parts/*/*"))
	require.NoError(t, err)
	for _, f := range files {
		all[filepath.Base(f)] = true
	}
	return all
}

func named(t *testing.T, w *world) map[string]bool {
	all := map[string]bool{}
	var l struct{ Archives []struct{ Name string } }
	w.json(&l, "archives")
	for _, a := range l.Archives {
		var shown struct {
			Record struct{ Parts []storedPart }
		}
		w.json(&shown, "show", a.Name)
		for _, p := range shown.Record.Parts {
			all[p.Name] = true
		}
	}
	return all
}

func TestKilledAtAnyMomentMariaDB(t *testing.T) {
	t.Parallel()
	for name, grants := range grantsOnPlaces {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			db, s := "lighthouse", ownMariadb(t)
			w := described(t, s, db, grants...)
			s.exec(t, "USE lighthouse;"+everything)
			w.run("backup")
			archive := w.newest()
			good := fmt.Sprint(live(s.describe(t, db)))
			s.exec(t, "USE lighthouse; SET foreign_key_checks = 0; DROP TABLE parent, texts; DROP TRIGGER t2; CREATE TABLE planted (a INT)")
			w.write("htdocs/index.html", "defaced")
			bad := fmt.Sprint(live(s.describe(t, db)))
			for i := range kills / 2 {
				w.interrupt(syscall.SIGKILL, 900*time.Millisecond, "restore", archive, "--yes")
				page := func() string { data, _ := os.ReadFile(w.path("htdocs/index.html")); return string(data) }
				undone := w.try("undo", "kestrelpoint", "--yes")
				now := fmt.Sprint(s.describe(t, db))
				if undone.code != 0 {
					require.Contains(t, undone.err, "no restore has set anything aside")
				}
				require.Equal(t, bad, now, "kill %d: %s%s", i, undone.out, undone.err)
				require.Equal(t, "defaced", page())
				w.clean()
			}
			w.interrupt(syscall.SIGKILL, 900*time.Millisecond, "restore", archive, "--yes")
			w.run("restore", archive, "--yes")
			assert.Equal(t, good, fmt.Sprint(live(s.describe(t, db))))
			w.run("settle", "kestrelpoint", "--unsaved", "--yes")
			assert.Empty(t, s.column(t, `SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME LIKE 'rv\_%'`))
			assert.Empty(t, s.column(t, `SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_NAME LIKE 'rv\_%'`))
		})
	}
}
