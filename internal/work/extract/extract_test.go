package extract_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
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
	"revlet/internal/work/backup"
	"revlet/internal/work/extract"
)

// held takes an archive of the museum's site.
func held(t *testing.T) (h *catalog.Held, dir string) {
	dir = t.TempDir()
	root := filepath.Join(dir, "htdocs")
	require.NoError(t, lampblack.Build(t.Context(), root, "http://kestrelpoint.example"))
	require.NoError(t, os.WriteFile(filepath.Join(root, "uploads/2026/odd [name]*.txt"), []byte("odd"), 0o640))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "here"), 0o700))
	s, err := site.Open("kestrelpoint", config.Site{Root: root, Recipe: "lampblack"})
	require.NoError(t, err)
	st, err := state.Open(&disk.Disk{}, filepath.Join(dir, "state"))
	require.NoError(t, err)
	here := store.Named{Name: "here", Store: folder.New(&disk.Disk{}, filepath.Join(dir, "here"))}
	r, err := backup.Run(t.Context(), backup.Job{Site: s, Stores: []store.Named{here}, State: st, Scope: archive.Full, Program: "test", Now: time.Now,
		Open: func(ctx context.Context, db site.Database, scratch string) (database.Source, error) {
			return engine.Source(ctx, &disk.Disk{}, db, scratch)
		}, IsDatabase: engine.IsFile})
	require.NoError(t, err)
	return &catalog.Held{Record: r.Record, Stores: []store.Named{here}}, dir
}

func TestFilesAndTablesComeOut(t *testing.T) {
	h, dir := held(t)
	to := filepath.Join(dir, "out")
	r, err := extract.Run(t.Context(), extract.Job{Archive: h, Paths: []string{"uploads/2026/lens.svg", "themes/lantern", "uploads/**/*.txt"}, Tables: []string{"opening_hours", "pages"}, To: to, Disk: &disk.Disk{}})
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(to, "uploads/2026/lens.svg"))
	assert.FileExists(t, filepath.Join(to, "themes/lantern/theme.html"), "a folder with all below it")
	info, err := os.Stat(filepath.Join(to, "uploads/2026/odd [name]*.txt"))
	require.NoError(t, err, "a pattern")
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	assert.NoFileExists(t, filepath.Join(to, "settings.yaml"), "nothing else")
	assert.NoDirExists(t, filepath.Join(to, "themes/plainsail"))
	require.Len(t, r.Tables, 3, "the definitions, and each table's rows")
	text, err := os.ReadFile(r.Tables[1])
	require.NoError(t, err)
	assert.Contains(t, string(text), "opening_hours")
	assert.Positive(t, strings.Count(string(text), "INSERT INTO"))
}

func TestWhatIsNotHeldIsSaidBeforeAnythingIsCopied(t *testing.T) {
	h, dir := held(t)
	to := filepath.Join(dir, "out")
	_, err := extract.Run(t.Context(), extract.Job{Archive: h, Paths: []string{"settings.yaml", "no/such", "none*"}, Tables: []string{"pages", "no_such"}, To: to, Disk: &disk.Disk{}})
	require.Error(t, err)
	assert.True(t, reason.Is(err, reason.PathNotHeld))
	assert.True(t, reason.Is(err, reason.TableNotHeld))
	for _, name := range []string{"no/such", "none*", "no_such"} {
		assert.ErrorContains(t, err, name)
	}
	assert.NotContains(t, err.Error(), "settings.yaml")
	assert.NoDirExists(t, to)
}

func TestNothingThatIsThereIsReplaced(t *testing.T) {
	h, dir := held(t)
	to := filepath.Join(dir, "out")
	require.NoError(t, os.Mkdir(to, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(to, "settings.yaml"), []byte("mine"), 0o644))
	_, err := extract.Run(t.Context(), extract.Job{Archive: h, Paths: []string{"settings.yaml"}, To: to, Disk: &disk.Disk{}})
	require.Error(t, err)
	data, err := os.ReadFile(filepath.Join(to, "settings.yaml"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(data))
}

func TestNothingLeavesTheFolder(t *testing.T) {
	h, dir := held(t)
	to, away := filepath.Join(dir, "out"), filepath.Join(dir, "away")
	require.NoError(t, os.MkdirAll(to, 0o755))
	require.NoError(t, os.Mkdir(away, 0o755))
	require.NoError(t, os.Symlink(away, filepath.Join(to, "uploads")))
	_, err := extract.Run(t.Context(), extract.Job{Archive: h, Paths: []string{"uploads/2026/lens.svg"}, To: to, Disk: &disk.Disk{}})
	assert.Error(t, err)
	left, err := os.ReadDir(away)
	require.NoError(t, err)
	assert.Empty(t, left, "a link that somebody has put there is not followed")
}
