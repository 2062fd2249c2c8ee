//go:build linux

package jobs

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"revlet/internal/archives/archive"
	"revlet/internal/practice/lampblack"
	"revlet/internal/work/preflight"
)

// Pipes, sockets and links in every place that is opened: a backup ends, says what it
// could not save, and holds nothing from outside.
func TestAHostileTreeIsSavedWithoutWaiting(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	require.NoError(t, os.WriteFile(b.path("secret"), []byte("secret of another"), 0o600))
	b.write("uploads/other.sqlite", "")
	require.NoError(t, lampblack.Execute(t.Context(), b.path("htdocs/uploads/other.sqlite"), "CREATE TABLE t (a); INSERT INTO t VALUES (1)"))
	root := b.path("htdocs")
	for _, pipe := range []string{"x", "pipe-wal", "uploads/other.sqlite-journal", "y-shm", "uploads/z.jpg"} {
		require.NoError(t, unix.Mkfifo(filepath.Join(root, pipe), 0o644))
	}
	for _, file := range []string{"x-wal", "x-shm", "x-journal", "y", "link-wal", "out-wal"} {
		require.NoError(t, os.WriteFile(filepath.Join(root, file), []byte(strings.Repeat("log", 400)), 0o644))
	}
	for link, target := range map[string]string{"link": "x", "out": b.path("secret"), "uploads/dir": b.dir, "loop": "loop", "zero": "/dev/zero", "tty": "/dev/tty"} {
		require.NoError(t, os.Symlink(target, filepath.Join(root, link)))
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	done := make(chan *Delivered, 1)
	go func() {
		d, err := b.Backup(ctx, museum, Order{Scope: archive.Full})
		assert.NoError(t, err)
		done <- d
	}()
	var d *Delivered
	select {
	case d = <-done:
	case <-time.After(25 * time.Second):
		t.Fatal("the backup waits for a pipe")
	}
	require.NotNil(t, d)
	gaps := map[string]string{}
	for _, g := range d.Record.Gaps {
		gaps[strings.TrimPrefix(g.Path, "webroot/")] = g.Kind
	}
	assert.Equal(t, map[string]string{"x": archive.GapSpecial, "uploads/z.jpg": archive.GapSpecial, "pipe-wal": archive.GapSpecial, "uploads/other.sqlite-journal": archive.GapSpecial, "y-shm": archive.GapSpecial}, gaps)
	h, err := b.Find(t.Context(), museum, time.Time{})
	require.NoError(t, err)
	targets := map[string]string{}
	require.NoError(t, h.ReadList(t.Context(), func(e archive.Entry) error {
		if e.Type == archive.TypeSymlink {
			targets[strings.TrimPrefix(e.Path, "webroot/")] = e.Target
		}
		assert.NotEqual(t, int64(len("secret of another")), e.Size, e.Path)
		return nil
	}))
	assert.Equal(t, b.path("secret"), targets["out"])
	assert.Equal(t, b.dir, targets["uploads/dir"])
}

// Settings that are a pipe or without end are an error at once.
func TestSettingsThatCannotBeReadAreAnErrorAtOnce(t *testing.T) {
	t.Parallel()
	for name, plant := range map[string]func(file string) error{
		"a pipe":   func(file string) error { return unix.Mkfifo(file, 0o644) },
		"zeroes":   func(file string) error { return os.Symlink("/dev/zero", file) },
		"a folder": func(file string) error { return os.Mkdir(file, 0o755) },
		"endless":  func(file string) error { return os.WriteFile(file, make([]byte, 9<<20), 0o644) },
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, "", "")
			file := b.path("htdocs/settings.yaml")
			require.NoError(t, os.Remove(file))
			require.NoError(t, plant(file))
			began := time.Now()
			_, err := b.Backup(t.Context(), museum, Order{Scope: archive.Full})
			require.Error(t, err)
			assert.Less(t, time.Since(began), 10*time.Second)
		})
	}
}

// Neither archives nor state belong where they would be archived, or served.
func TestStoresAndStateAreNotKeptInAnySitesFolder(t *testing.T) {
	t.Parallel()
	second := "  second: {root: ./htdocs2, stores: [here]}\n"
	for name, c := range map[string]struct{ store, state, why string }{
		"a store in the webroot":           {"./htdocs/backups", "./state", "inside the webroot"},
		"a store in a further folder":      {"./extra/backups", "./state", "would be archived with it"},
		"a store in another site's":        {"./htdocs2/backups", "./state", "a folder of site second"},
		"the state in a further folder":    {"./here", "./extra/state", "would be archived with it"},
		"the state in another site's":      {"./here", "./htdocs2/state", "a folder of site second"},
		"the state in the webroot":         {"./here", "./htdocs/state", "inside the webroot"},
		"a store through a link, in there": {"./link/backups", "./state", "would be archived with it"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, "", "")
			for _, dir := range []string{"extra", "htdocs2"} {
				require.NoError(t, os.MkdirAll(b.path(dir), 0o700))
			}
			require.NoError(t, os.Symlink("extra", b.path("link")))
			require.NoError(t, os.MkdirAll(b.path(c.store), 0o700))
			b.configure("    roots: {more: ./extra}\n", second)
			text, err := os.ReadFile(b.path("revlet.yaml"))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(b.path("revlet.yaml"), []byte(strings.Replace(string(text), "here: {folder: ./here}", "here: {folder: "+c.store+"}", 1)), 0o600))
			a := New()
			a.Now = b.Now
			require.NoError(t, a.Open(t.Context(), b.path("revlet.yaml"), b.path(c.state)))
			defer a.Close()
			_, err = a.Backup(t.Context(), museum, Order{Scope: archive.Full})
			require.ErrorContains(t, err, c.why)
			found, err := a.Preflight(t.Context(), museum)
			require.NoError(t, err)
			var stops []string
			for _, f := range found {
				if f.Level == preflight.Stop {
					stops = append(stops, f.Text)
				}
			}
			assert.Contains(t, strings.Join(stops, "\n"), c.why)
			if c.state == "./state" {
				left, err := os.ReadDir(b.path(c.store))
				require.NoError(t, err)
				assert.Empty(t, left, "nothing is written there")
			}
		})
	}
}
