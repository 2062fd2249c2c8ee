package preflight_test

import (
	"context"
	"errors"
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/config"
	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/platform/state"
	"revlet/internal/practice/lampblack"
	"revlet/internal/site"
	"revlet/internal/site/engine"
	"revlet/internal/store"
	"revlet/internal/store/folder"
	"revlet/internal/work/preflight"
)

// job is a look at the museum's site with a store beside it.
func job(t *testing.T) (preflight.Job, string) {
	dir := t.TempDir()
	root := filepath.Join(dir, "htdocs")
	served := httptest.NewServer(lampblack.Handler(root))
	t.Cleanup(served.Close)
	require.NoError(t, lampblack.Build(t.Context(), root, served.URL))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "here"), 0o700))
	s, err := site.Open("kestrelpoint", config.Site{Root: root, Recipe: "lampblack", Address: served.URL})
	require.NoError(t, err)
	st, err := state.Open(&disk.Disk{}, filepath.Join(dir, "state"))
	require.NoError(t, err)
	return preflight.Job{Site: s, State: st, Now: time.Now, Scheduled: true, Told: true,
		Stores: []store.Named{{Name: "here", Store: folder.New(&disk.Disk{}, filepath.Join(dir, "here"))}},
		Open: func(ctx context.Context, db site.Database, scratch string) (database.Source, error) {
			return engine.Source(ctx, &disk.Disk{}, db, scratch)
		}}, dir
}

// found are the findings of a level, as one text.
func found(t *testing.T, j preflight.Job, level preflight.Level) string {
	all, err := preflight.Run(t.Context(), j)
	require.NoError(t, err)
	var lines []string
	for _, f := range all {
		if f.Level == level {
			lines = append(lines, fmt.Sprintf("%s: %s", f.About, f.Text))
		}
	}
	return strings.Join(lines, "\n")
}

func TestAHealthySite(t *testing.T) {
	j, _ := job(t)
	assert.Empty(t, found(t, j, preflight.Stop))
	passed := found(t, j, preflight.Passed)
	for _, about := range []string{"files:", "database main:", "store here:", "large files:", "schedule:"} {
		assert.Contains(t, passed, about)
	}
	assert.Equal(t, "stores: every store is on the site's own machine: the archives die with it", found(t, j, preflight.Look))
}

func TestWhatIsInTheWayComesFirst(t *testing.T) {
	j, _ := job(t)
	j.Open = func(context.Context, site.Database, string) (database.Source, error) {
		return nil, errors.New("Access denied for user")
	}
	all, err := preflight.Run(t.Context(), j)
	require.NoError(t, err, "a finding is no error")
	assert.Equal(t, preflight.Stop, all[0].Level)
	assert.Contains(t, all[0].Text, "Access denied")
	last := preflight.Stop
	order := map[preflight.Level]int{preflight.Stop: 0, preflight.Look: 1, preflight.Passed: 2}
	for _, f := range all {
		assert.GreaterOrEqual(t, order[f.Level], order[last], "%+v", f)
		last = f.Level
	}
}

func TestStoresThatDoNotWork(t *testing.T) {
	j, dir := job(t)
	inside := filepath.Join(j.Site.Root, "backups")
	require.NoError(t, os.Mkdir(inside, 0o700))
	j.Stores = append(j.Stores, store.Named{Name: "inside", Store: folder.New(&disk.Disk{}, inside)},
		store.Named{Name: "gone", Store: folder.New(&disk.Disk{}, filepath.Join(dir, "none"))},
		store.Named{Name: "away", Store: store.Unusable{Err: errors.New("connection refused"), Address: "sftp"}})
	stop := found(t, j, preflight.Stop)
	assert.Contains(t, stop, "inside")
	assert.Contains(t, stop, "gone")
	assert.Contains(t, stop, "connection refused")
	assert.NotContains(t, stop, "store here")
	j.Stores = j.Stores[1:2]
	assert.Contains(t, found(t, j, preflight.Stop), "webroot")
}

func TestWhatLiesInTheWebroot(t *testing.T) {
	j, _ := job(t)
	for _, name := range []string{"backup-2019.zip", "uploads/museum.sql.gz", "old.tar.gz", "dump.sql"} {
		require.NoError(t, os.WriteFile(filepath.Join(j.Site.Root, name), []byte("x"), 0o644))
	}
	require.NoError(t, os.WriteFile(filepath.Join(j.Site.Root, "uploads/2026/film.mp4"), make([]byte, 3<<20), 0o644))
	look := found(t, j, preflight.Look)
	for _, name := range []string{"backup-2019.zip", "dump.sql", "old.tar.gz", "and 1 more"} {
		assert.Contains(t, look, name)
	}
	assert.NotContains(t, look, "film.mp4")
	passed := found(t, j, preflight.Passed)
	assert.Regexp(t, `large files: uploads/2026/film\.mp4 \(3\.1 MB\)`, passed)
	assert.Regexp(t, `large folders: uploads/ \(4`, passed)
	assert.Contains(t, passed, "left out by rule", "the cache")
}

func TestWhatCannotBeRead(t *testing.T) {
	if os.Geteuid() == 0 {
		t.Skip("root reads everything")
	}
	j, _ := job(t)
	require.NoError(t, os.Chmod(filepath.Join(j.Site.Root, "uploads/2026/lens.svg"), 0))
	assert.Contains(t, found(t, j, preflight.Look), "1 cannot be read")
}

// What root is needed for is said, and when it is not.
func TestWhatRightsAreNeeded(t *testing.T) {
	j, dir := job(t)
	if os.Geteuid() != 0 {
		assert.Contains(t, found(t, j, preflight.Passed), "rights: this account is enough")
		require.NoError(t, os.Chmod(dir, 0o555))
		t.Cleanup(func() { _ = os.Chmod(dir, 0o755) })
		assert.Contains(t, found(t, j, preflight.Look), "name by name")
		return
	}
	assert.Contains(t, found(t, j, preflight.Passed), "the site belongs to root")
	root := filepath.Join(dir, "htdocs")
	for _, p := range []string{dir, root} {
		require.NoError(t, os.Chown(p, 65534, 65534))
	}
	assert.Contains(t, found(t, j, preflight.Passed), "it needs to give")
	require.NoError(t, filepath.WalkDir(root, func(p string, _ os.DirEntry, err error) error {
		return errors.Join(err, os.Lchown(p, 65534, 65534))
	}))
	assert.Contains(t, found(t, j, preflight.Passed), "need not: the account nobody is enough")
	j.Site.Roots = map[string]string{"media": filepath.Join(dir, "media")}
	require.NoError(t, os.Mkdir(j.Site.Roots["media"], 0o755))
	assert.Contains(t, found(t, j, preflight.Passed), "to give back what belongs to others (1 path)", "in another of its folders, too")
	j.Site.Roots = nil
	require.NoError(t, os.WriteFile(filepath.Join(root, "closed"), nil, 0o600))
	assert.Contains(t, found(t, j, preflight.Passed), "to read what belongs to others and is closed to nobody (1 path)")
	require.NoError(t, os.Chown(dir, 0, 0))
	assert.Contains(t, found(t, j, preflight.Passed), "in one step: "+dir+" is not nobody's")
}

func TestNobodyLooksAfterIt(t *testing.T) {
	j, _ := job(t)
	j.Scheduled = false
	assert.Contains(t, found(t, j, preflight.Look), "no archive is taken by itself")
	j.Scheduled, j.Told = true, false
	assert.Contains(t, found(t, j, preflight.Look), "nobody is told")
	j.UntriedKey = true
	all, err := preflight.Run(t.Context(), j)
	require.NoError(t, err)
	reasons := map[reason.Reason]bool{}
	for _, f := range all {
		reasons[f.Reason] = true
	}
	assert.True(t, reasons[reason.KeyUntried])
	j.Site.Databases = nil
	assert.Contains(t, found(t, j, preflight.Look), "none is known for this site")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = preflight.Run(ctx, j)
	assert.ErrorIs(t, err, context.Canceled)
}
