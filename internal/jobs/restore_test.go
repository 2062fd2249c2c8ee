package jobs

import (
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/database"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/reason"
	"revlet/internal/practice/lampblack"
	"revlet/internal/watch/history"
	"revlet/internal/work/compare"
	"revlet/internal/work/restore"
)

// restored puts an archive back whole.
func (b *bench) restored(name string) *Restored {
	b.t.Helper()
	h, err := b.Find(b.t.Context(), name, time.Time{})
	require.NoError(b.t, err)
	s, err := b.OpenForRestore(b.t.Context(), h)
	require.NoError(b.t, err)
	r, err := b.Restore(b.t.Context(), RestoreOrder{Archive: h, Site: s, Files: h.Scope.HasFiles(), Database: h.Scope.HasDatabase()})
	require.NoError(b.t, err)
	b.later(time.Minute)
	return r
}

func (b *bench) sql(statement string) {
	b.t.Helper()
	require.NoError(b.t, lampblack.Execute(b.t.Context(), b.path("htdocs/"+lampblack.DatabaseFile), statement))
}

func (b *bench) count(query string) (n int) {
	b.t.Helper()
	db, err := sql.Open("sqlite", b.path("htdocs/"+lampblack.DatabaseFile))
	require.NoError(b.t, err)
	defer db.Close()
	require.NoError(b.t, db.QueryRow(query).Scan(&n))
	return n
}

func TestARestoreTellsWhatItTookOutAndWhetherTheSiteWorks(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	d := b.taken(Order{})
	pages := b.count("SELECT count(*) FROM pages")
	b.write("uploads/2026/ornament.php", "<?php")
	require.NoError(t, os.Remove(b.path("htdocs/"+theme)))
	b.sql("DELETE FROM pages")
	r := b.restored(museum)
	require.Len(t, r.Answers, 1)
	assert.True(t, r.Answers[0].OK())
	require.Len(t, r.TakenOut, 1)
	assert.Equal(t, "webroot/uploads/2026/ornament.php", r.TakenOut[0].Path)
	assert.NotEmpty(t, r.TakenOut[0].Suspect)
	assert.Equal(t, pages, b.count("SELECT count(*) FROM pages"))
	assert.NoFileExists(t, b.path("htdocs/uploads/2026/ornament.php"))
	run := b.lastRun("restore")
	assert.Equal(t, d.Record.Name, run.Archive)
	assert.Equal(t, history.Done, run.Outcome)
}

func TestARestoreThatFailsIsRememberedAndChangesNothing(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	h, err := b.Find(t.Context(), museum, time.Time{})
	require.NoError(t, err)
	s, err := b.OpenForRestore(t.Context(), h)
	require.NoError(t, err)
	b.damage("here")
	b.damage("far")
	b.write("robots.txt", "new")
	_, err = b.Restore(t.Context(), RestoreOrder{Archive: h, Site: s, Files: true, Database: true})
	require.Error(t, err)
	assert.Equal(t, history.Failed, b.lastRun("restore").Outcome)
	assert.FileExists(t, b.path("htdocs/robots.txt"))
	asides, err := b.Asides(t.Context(), []string{museum})
	require.NoError(t, err)
	assert.Empty(t, asides)
}

func TestOneDamagedCopyIsNoReasonToFail(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	b.damage("here")
	require.NoError(t, os.RemoveAll(b.path("htdocs/themes")))
	b.restored(museum)
	assert.FileExists(t, b.path("htdocs/"+theme))
}

func TestAWebrootThatIsGoneIsDescribedByItsArchive(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	require.NoError(t, os.RemoveAll(b.path("htdocs")))
	b.restored(museum)
	assert.FileExists(t, b.path("htdocs/"+theme))
	assert.Positive(t, b.count("SELECT count(*) FROM pages"))
}

func TestUndoIsOfWhatWasShown(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	_, err := b.ToTakeBack(t.Context(), museum)
	assert.ErrorIs(t, err, restore.ErrNothingAside)
	_, err = b.ToTakeBack(t.Context(), "nowhere")
	assert.True(t, reason.Is(err, reason.Usage))
	b.taken(Order{})
	b.write("robots.txt", "before the restore")
	b.restored(museum)
	shown, err := b.ToTakeBack(t.Context(), museum)
	require.NoError(t, err)
	require.Len(t, shown, 1)
	b.restored(museum) // somebody else restores meanwhile
	_, err = b.Undo(t.Context(), shown[0])
	assert.ErrorContains(t, err, "another run has changed what is set aside")
	assert.NoFileExists(t, b.path("htdocs/robots.txt"))
	_, err = b.Settle(t.Context(), shown[0], true)
	assert.ErrorContains(t, err, "another run has changed what is set aside")
	shown, err = b.ToTakeBack(t.Context(), museum)
	require.NoError(t, err)
	require.Len(t, shown, 2)
	done, err := b.Undo(t.Context(), shown[0])
	require.NoError(t, err)
	require.Len(t, done, 1)
	assert.Equal(t, "undone", done[0].Did)
	assert.Equal(t, history.Done, b.lastRun("undo").Outcome)
	shown, err = b.ToTakeBack(t.Context(), museum)
	require.NoError(t, err)
	_, err = b.Undo(t.Context(), shown[0])
	require.NoError(t, err)
	assert.FileExists(t, b.path("htdocs/robots.txt"), "the first restore is taken back too")
}

func TestAsidesAreCountedComparedAndExported(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	d := b.taken(Order{})
	b.write("uploads/2026/ornament.php", "<?php")
	b.restored(museum)
	asides, err := b.Asides(t.Context(), []string{museum})
	require.NoError(t, err)
	require.Len(t, asides, 1)
	assert.Equal(t, d.Record.Name, asides[0].Archive)
	assert.Greater(t, asides[0].Files, d.Record.Totals.Files, "the planted file, caches and the database lie there too")
	assert.Greater(t, asides[0].Bytes, d.Record.Totals.FileBytes)
	r, err := b.CompareAside(t.Context(), museum)
	require.NoError(t, err)
	require.Len(t, r.Report.Suspects(), 1)
	assert.Equal(t, compare.Added, r.Report.Suspects()[0].How)
	file := b.path("evidence.tar.zst")
	require.NoError(t, b.ExportAside(t.Context(), museum, file))
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	err = b.ExportAside(t.Context(), museum, file)
	assert.True(t, reason.Is(err, reason.Usage), "what is there is not replaced")
	shown, err := b.ToTakeBack(t.Context(), museum)
	require.NoError(t, err)
	_, err = b.Settle(t.Context(), shown[0], true)
	require.NoError(t, err)
	_, err = b.CompareAside(t.Context(), museum)
	assert.True(t, reason.Is(err, reason.Usage))
	left, err := filepath.Glob(b.dir + "/*aside*")
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestASiteNameMeansItsNewestGoodArchive(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	full := b.taken(Order{})
	database := b.taken(Order{Scope: archive.Database})
	find := func(find func(string) (*catalog.Held, error)) string {
		h, err := find(museum)
		require.NoError(t, err)
		return h.Name
	}
	newest := func(name string) (*catalog.Held, error) { return b.Find(t.Context(), name, time.Time{}) }
	newestFull := func(name string) (*catalog.Held, error) { return b.FindFull(t.Context(), name, time.Time{}) }
	assert.Equal(t, database.Record.Name, find(newest))
	assert.Equal(t, full.Record.Name, find(newestFull))
	for _, store := range []string{"here", "far"} {
		require.NoError(t, b.History.AddProof(t.Context(), history.Proof{Archive: database.Record.Name, Store: store, At: b.clock, Level: "full"}))
		if store == "here" {
			assert.Equal(t, database.Record.Name, find(newest), "one good copy is enough")
		}
	}
	assert.Equal(t, full.Record.Name, find(newest), "damaged in every store is not good")
	h, err := b.Find(t.Context(), database.Record.Name, time.Time{})
	require.NoError(t, err, "but can be had by name")
	assert.Equal(t, database.Record.Name, h.Name)
	h, err = b.Find(t.Context(), strings.TrimSuffix(full.Record.Name, "00"), time.Time{})
	require.NoError(t, err)
	assert.Equal(t, full.Record.Name, h.Name)
	_, err = b.Find(t.Context(), "harbour", time.Time{})
	assert.True(t, reason.Is(err, reason.Usage))
	_, err = b.Find(t.Context(), museum+"-2019", time.Time{})
	assert.True(t, reason.Is(err, reason.UnknownArchive), "%v", err)
}

func TestAStoreThatIsSilentIsToldAndWorkedAround(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	defer b.away("far")()
	b.open()
	h, err := b.Find(t.Context(), museum, time.Time{})
	require.NoError(t, err)
	assert.Equal(t, []string{"here"}, StoreNames(h.Stores))
	silent := events[StoreSilent](b)
	require.NotEmpty(t, silent)
	assert.Equal(t, "far", silent[0].Store)
	l, err := b.Archives(t.Context(), []string{museum})
	require.NoError(t, err)
	require.Len(t, l.Trouble, 1)
	assert.Equal(t, "far", l.Trouble[0].Store)
}

func TestComparisonsWithTheLiveSiteAndWithAnother(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	first := b.taken(Order{})
	b.later(time.Hour)
	b.write("uploads/2026/note.txt", "a note")
	second := b.taken(Order{})
	b.sql("INSERT INTO users (name, role, secret) VALUES ('guest', 'administrator', 'x')")
	c, err := b.Comparison(t.Context(), museum, "", time.Time{})
	require.NoError(t, err)
	assert.Equal(t, "the live site", c.Name())
	r, err := c.Run(t.Context())
	require.NoError(t, err)
	assert.Empty(t, r.Files)
	require.NotEmpty(t, r.Rows, "a new administrator is looked at")
	clean, err := b.Trace(t.Context(), c.Job, museum, r)
	require.NoError(t, err)
	assert.Equal(t, second.Record.Name, clean)

	c, err = b.Comparison(t.Context(), first.Record.Name, second.Record.Name, time.Time{})
	require.NoError(t, err)
	r, err = c.Run(t.Context())
	require.NoError(t, err)
	var added []string
	for _, f := range r.Files {
		if !f.Folder() {
			added = append(added, f.Path)
		}
	}
	assert.Equal(t, []string{"webroot/uploads/2026/note.txt"}, added)
	clean, err = b.Trace(t.Context(), c.Job, museum, r)
	require.NoError(t, err)
	assert.Empty(t, clean, "nothing live was looked at")

	seen, err := b.Since(t.Context(), c, "uploads/2026/note.txt", nil)
	require.NoError(t, err)
	assert.Equal(t, second.Record.Name, seen.FirstSeen)
	_, err = b.Since(t.Context(), c, "uploads/none.txt", nil)
	assert.True(t, reason.Is(err, reason.Usage))
	rows, err := b.CompareTable(t.Context(), c, "main.users")
	require.NoError(t, err)
	assert.Zero(t, rows.AddedRows)
	_, err = b.CompareTable(t.Context(), c, "no_such")
	assert.True(t, reason.Is(err, reason.TableNotHeld))

	// A table that is newer than the archive, and one that cannot be read.
	b.sql("CREATE TABLE wishes (id INTEGER PRIMARY KEY, text); INSERT INTO wishes VALUES (1, 'a new lens')")
	c, err = b.Comparison(t.Context(), museum, "", time.Time{})
	require.NoError(t, err)
	rows, err = b.CompareTable(t.Context(), c, "wishes")
	require.NoError(t, err)
	assert.Equal(t, []string{"(1,'a new lens')"}, rows.Added)
	// A row that is gone, one that never was, and one of which nobody knows.
	b.sql("DELETE FROM exhibits WHERE id = 1")
	exhibit := database.RowPick{Table: "exhibits", Column: "id", Value: "1"}
	seen, err = b.Since(t.Context(), c, "", &exhibit)
	require.NoError(t, err)
	assert.Equal(t, [2]string{first.Record.Name, second.Record.Name}, [2]string{seen.FirstSeen, seen.Last})
	assert.False(t, *seen.Live)
	_, err = b.Since(t.Context(), c, "", &database.RowPick{Table: "exhibits", Column: "id", Value: "77"})
	assert.True(t, reason.Is(err, reason.Usage), "%v", err)
	seen, err = b.Since(t.Context(), c, "", &database.RowPick{Table: "wishes", Column: "id", Value: "1"})
	require.NoError(t, err)
	assert.True(t, *seen.Live)
	assert.Empty(t, seen.FirstSeen)
	defer func() {
		seen, err := b.Since(t.Context(), c, "", &exhibit)
		require.NoError(t, err)
		assert.Nil(t, seen.Live)
		assert.NotEmpty(t, seen.NotAsked)
		assert.Equal(t, second.Record.Name, seen.Last)
	}()
	require.NoError(t, os.WriteFile(b.path("htdocs/data/museum.db"), []byte("no database any more, and longer than a header of one hundred bytes, so that nobody takes it for an empty one"), 0o600))
	_, err = b.CompareTable(t.Context(), c, "wishes")
	require.Error(t, err)
	assert.False(t, reason.Is(err, reason.TableNotHeld), "%v: unknown is not absent", err)
}

// A second site in a folder of the first: no archive of the first is about it, and no
// restore of the first may take it off the net, neither asked for nor by guard.
const shopInside = "  shop:\n    root: ./htdocs/shop\n    recipe: none\n    stores: [here]\n"

func TestARestoreLeavesAnotherSiteInsideAlone(t *testing.T) {
	t.Parallel()
	b := newBench(t, "    skip: [videos]\n", shopInside)
	b.taken(Order{})
	b.write("shop/index.php", "<?php // the shop")
	b.write("videos/lamp.mp4", "the only copy")
	b.write("planted.html", "evil")

	h, err := b.Find(t.Context(), museum, time.Time{})
	require.NoError(t, err)
	s, err := b.OpenForRestore(t.Context(), h)
	require.NoError(t, err)
	order := RestoreOrder{Archive: h, Site: s, Files: true, Database: true, Clean: true}
	before, err := b.Uncovered(t.Context(), order)
	require.NoError(t, err)
	r, err := b.Restore(t.Context(), order)
	require.NoError(t, err)
	assert.Equal(t, before, r.Uncovered, "what is told before is what is done")
	require.Len(t, r.Uncovered, 2)
	assert.Equal(t, "shop", r.Uncovered[0].Site)
	assert.True(t, r.Uncovered[0].Stays(true))
	assert.Equal(t, []string{"shop/index.php"}, r.Uncovered[0].Scripts)
	assert.Equal(t, "videos", r.Uncovered[1].Path)
	assert.False(t, r.Uncovered[1].Stays(true))
	assert.FileExists(t, b.path("htdocs/shop/index.php"))
	assert.NoFileExists(t, b.path("htdocs/videos/lamp.mp4"), "it was to be clean")
	assert.NoFileExists(t, b.path("htdocs/planted.html"))

	order.Files = false
	none, err := b.Uncovered(t.Context(), order)
	require.NoError(t, err)
	assert.Empty(t, none, "a restore of the database alone moves no file")
}

func TestARestoreDoesNotCallDamagedWhatIsOutOfReach(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	b.taken(Order{})
	h := b.held()
	s, err := b.OpenForRestore(t.Context(), h)
	require.NoError(t, err)
	order := RestoreOrder{Archive: h, Site: s, Files: true, Database: true}
	here, far := b.away("here"), b.away("far")
	_, err = b.Restore(t.Context(), order)
	require.Error(t, err)
	assert.False(t, reason.Is(err, reason.ArchiveDamaged), "%v", err)
	here()
	far()
	for _, store := range []string{"here", "far"} {
		parts, err := filepath.Glob(b.path(store + "/" + museum + "/parts/*/*"))
		require.NoError(t, err)
		require.NotEmpty(t, parts)
		require.NoError(t, os.Remove(parts[0]))
	}
	_, err = b.Restore(t.Context(), order)
	assert.True(t, reason.Is(err, reason.ArchiveDamaged), "%v", err)
}

// flip leads a link elsewhere as soon as something is staged.
type flip struct {
	progress.Observer
	once func()
}

func (f flip) Phase(what string, total int64) {
	if strings.HasPrefix(what, "staging") {
		f.once()
	}
	f.Observer.Phase(what, total)
}

// A webroot may be a link to the release that is served just now, which the next deployment leads elsewhere.
func TestAWebrootThatIsALinkToARelease(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	lead := func(to string) {
		_ = os.Remove(b.path("htdocs"))
		require.NoError(t, os.Symlink("releases/"+to, b.path("htdocs")))
	}
	require.NoError(t, os.Mkdir(b.path("releases"), 0o755))
	require.NoError(t, os.Rename(b.path("htdocs"), b.path("releases/1")))
	require.NoError(t, os.CopyFS(b.path("releases/2"), os.DirFS(b.path("releases/1"))))
	lead("1")
	b.taken(Order{})
	b.write("robots.txt", "before the restore")
	h, err := b.Find(t.Context(), museum, time.Time{})
	require.NoError(t, err)
	s, err := b.OpenForRestore(t.Context(), h)
	require.NoError(t, err)
	order := RestoreOrder{Archive: h, Site: s, Files: true, Database: true, Observer: flip{progress.Or(nil), func() { lead("2") }}}
	_, err = b.Restore(t.Context(), order)
	require.ErrorContains(t, err, "leads to "+b.path("releases/2"))
	require.ErrorContains(t, err, "the site is unchanged")
	assert.FileExists(t, b.path("releases/1/robots.txt"))

	lead("1")
	b.restored(museum)
	assert.NoFileExists(t, b.path("releases/1/robots.txt"))
	shown, err := b.ToTakeBack(t.Context(), museum)
	require.NoError(t, err)
	assert.Empty(t, b.WrittenSince(t.Context(), shown[0]).Elsewhere)
	lead("2")
	b.write("news.html", "of the new release")
	since := b.WrittenSince(t.Context(), shown[0])
	assert.Contains(t, since.Elsewhere, "leads to "+b.path("releases/2"))
	assert.Empty(t, since.Files, "nothing of the new release is deleted")
	_, err = b.Undo(t.Context(), shown[0])
	require.NoError(t, err)
	assert.FileExists(t, b.path("releases/1/robots.txt"), "undo depends on nothing that has changed since")
	assert.FileExists(t, b.path("releases/2/news.html"))
}
