package jobs

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/practice/lampblack"
	"revlet/internal/site"
	"revlet/internal/work/restore"
)

// The model test: random sequences of what happens to a site in a month of odd days, on
// the real thing and on a model of what must exist. modelSeeds are run each time, among
// them those that found something once; $REVLET_MODEL=N runs N more.
var modelSeeds = []uint64{1, 2, 3, 4, 5, 6, 7, 8}

const modelSteps = 30

func TestModel(t *testing.T) {
	seeds := slices.Clone(modelSeeds)
	if more, err := strconv.Atoi(os.Getenv("REVLET_MODEL")); err == nil {
		for i := range more {
			seeds = append(seeds, uint64(1000+i))
		}
	}
	for _, seed := range seeds {
		t.Run(fmt.Sprintf("seed %d", seed), func(t *testing.T) {
			t.Parallel()
			newModel(t, seed).run()
		})
	}
}

// state is what a site's visitors and keepers would miss: its files, without caches,
// and a value in its database.
type modelState struct {
	files  map[string]string
	season string
}

func (s modelState) clone() modelState { return modelState{maps.Clone(s.files), s.season} }

// taken is an archive that must exist.
type modelArchive struct {
	name  string
	scope archive.Scope
	state modelState
	skip  []string
	// stores have it; pending are those that it has yet to come to.
	stores, pending map[string]bool
}

// aside is what a restore has set aside.
type modelAside struct {
	before   modelState
	files    bool
	database bool
	// share tells, of a restore of a share, what is of it; nil for a whole one. put are
	// the paths that it has brought.
	share func(p string) bool
	put   map[string]bool
	// kept are paths that stay what they are now, with what is below.
	kept map[string]bool
}

type model struct {
	*bench
	r        *rand.Rand
	live     modelState
	skip     []string
	stores   map[string]string // ok, away, empty
	archives []*modelArchive
	asides   []modelAside
	log      []string
}

func newModel(t *testing.T, seed uint64) *model {
	m := &model{bench: newBench(t, "", ""), r: rand.New(rand.NewPCG(seed, 1871)), stores: map[string]string{"here": "ok", "far": "ok"}}
	m.live = m.seen()
	t.Cleanup(func() {
		if t.Failed() {
			t.Log("what was done:\n  " + strings.Join(m.log, "\n  "))
		}
	})
	return m
}

func (m *model) did(format string, args ...any) { m.log = append(m.log, fmt.Sprintf(format, args...)) }

// seen reads the live site.
func (m *model) seen() modelState {
	m.t.Helper()
	s := modelState{files: map[string]string{}}
	root := m.path("htdocs")
	require.NoError(m.t, filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(root, p)
		if err != nil || d.IsDir() {
			return err
		}
		if strings.HasPrefix(rel, lampblack.DatabaseFile) || strings.HasPrefix(rel, "cache/") {
			return nil
		}
		if target, err := os.Readlink(p); err == nil {
			s.files[rel] = "-> " + target
			return nil
		}
		data, err := os.ReadFile(p)
		s.files[rel] = string(data)
		return err
	}))
	db, err := sql.Open("sqlite", "file:"+filepath.Join(root, lampblack.DatabaseFile))
	require.NoError(m.t, err)
	defer db.Close()
	require.NoError(m.t, db.QueryRow("SELECT value FROM settings WHERE name = 'season'").Scan(&s.season))
	return s
}

// paths that edits happen to; some are under skip rules now and then.
var (
	modelPaths = []string{"robots.txt", "uploads/a.txt", "uploads/tmp/x.txt", "private/notes.txt", "private/deep/y.txt", "themes/lantern/extra.css", "planted.php", "uploads/tmp"}
	modelRules = []string{"private/**", "uploads/tmp/**", "planted.php"}
)

func (m *model) pick(all ...string) string { return all[m.r.IntN(len(all))] }

func (m *model) up() (names []string) {
	for _, s := range []string{"here", "far"} {
		if m.stores[s] == "ok" {
			names = append(names, s)
		}
	}
	return names
}

func (m *model) run() {
	m.backup(archive.Full)
	steps := []func(){m.edit, m.edit, m.edit, m.backupAny, m.backupAny, m.backupAny, m.changeSkip, m.unplug, m.swapStore, m.replug, m.replug, m.restoreAny, m.restoreAny, m.undo, m.undo, m.settle, m.retain, m.damageAndHeal, m.jump, m.crash, m.crash}
	for range modelSteps {
		steps[m.r.IntN(len(steps))]()
		m.check()
	}
	m.end()
}

// check holds the live site and the list of archives against the model.
func (m *model) check() {
	m.t.Helper()
	require.Equal(m.t, m.live, m.seen(), "the live site")
	for name, is := range m.stores {
		if is == "empty" {
			left, err := os.ReadDir(m.path(name))
			require.NoError(m.t, err)
			require.Empty(m.t, left, "nothing is written into what is not store %s", name)
		}
	}
	l, err := m.Archives(m.t.Context(), []string{museum})
	require.NoError(m.t, err)
	listed := map[string]Listed{}
	for _, one := range l.Archives {
		listed[one.Name] = one
	}
	for _, a := range m.archives {
		one, ok := listed[a.name]
		require.True(m.t, ok, "archive %s must be listed", a.name)
		for s := range a.stores {
			if m.stores[s] == "ok" {
				require.Contains(m.t, one.Stores, s, a.name)
			} else {
				require.Contains(m.t, one.NotReached, s, a.name)
			}
		}
	}
	require.Len(m.t, l.Archives, len(m.archives), "no more than these")
	asides, err := restore.Journals(m.State, museum)
	require.NoError(m.t, err)
	require.Len(m.t, asides, len(m.asides), "what is set aside")
}

func (m *model) edit() {
	p := m.pick(modelPaths...)
	file := m.path("htdocs/" + p)
	switch m.r.IntN(4) {
	case 0:
		m.did("remove %s", p)
		require.NoError(m.t, os.RemoveAll(file))
		for name := range m.live.files {
			if name == p || strings.HasPrefix(name, p+"/") {
				delete(m.live.files, name)
			}
		}
	case 1:
		m.live.season = fmt.Sprintf("season %d", m.r.IntN(1000))
		m.did("season becomes %s", m.live.season)
		m.setSeason(m.live.season)
	default:
		if p == "uploads/tmp" {
			return
		}
		text := fmt.Sprintf("text %d", m.r.IntN(1_000_000))
		m.did("write %s", p)
		m.write(p, text)
		m.live.files[p] = text
	}
}

func (m *model) setSeason(value string) {
	require.NoError(m.t, lampblack.Execute(m.t.Context(), m.path("htdocs/"+lampblack.DatabaseFile), "UPDATE settings SET value = '"+value+"' WHERE name = 'season'"))
}

func (m *model) backupAny() {
	m.backup([]archive.Scope{archive.Full, archive.Full, archive.Files, archive.Database}[m.r.IntN(4)])
}

func (m *model) backup(scope archive.Scope) {
	m.t.Helper()
	m.later(time.Duration(1+m.r.IntN(600)) * time.Second)
	d, err := m.Backup(m.t.Context(), museum, Order{Scope: scope, Fresh: m.r.IntN(8) == 0})
	if len(m.up()) == 0 {
		m.did("back up %s: no store", scope)
		require.Error(m.t, err)
		return
	}
	require.NoError(m.t, err)
	m.did("back up %s: %s to %v", scope, d.Record.Name, m.up())
	require.Len(m.t, d.Pending, 2-len(m.up()))
	m.took(d.Record.Name, scope)
	m.caughtUp()
}

// took adds an archive of the site as it is now.
func (m *model) took(name string, scope archive.Scope) {
	a := &modelArchive{name: name, scope: scope, state: m.live.clone(), skip: slices.Clone(m.skip), stores: map[string]bool{}, pending: map[string]bool{}}
	for s, is := range m.stores {
		if is == "ok" {
			a.stores[s] = true
		} else {
			a.pending[s] = true
		}
	}
	m.archives = append(m.archives, a)
}

// caughtUp brings what is pending to the stores that are there.
func (m *model) caughtUp() {
	for _, a := range m.archives {
		if slices.ContainsFunc(m.up(), func(s string) bool { return a.stores[s] }) {
			for _, s := range m.up() {
				a.stores[s] = a.stores[s] || a.pending[s]
				delete(a.pending, s)
				if !a.stores[s] {
					delete(a.stores, s)
				}
			}
		}
	}
}

func (m *model) changeSkip() {
	rule := m.pick(modelRules...)
	if i := slices.Index(m.skip, rule); i >= 0 {
		m.skip = slices.Delete(slices.Clone(m.skip), i, i+1)
	} else {
		m.skip = append(slices.Clone(m.skip), rule)
	}
	m.did("skip: %v", m.skip)
	m.reopen("")
}

// reopen starts another run of the program, with keep rules in the configuration.
func (m *model) reopen(keep string) {
	entry := ""
	if len(m.skip) > 0 {
		entry = "    skip: [\"" + strings.Join(m.skip, `", "`) + "\"]\n"
	}
	m.configure(entry+keep, "")
	m.Close()
	m.open()
}

func (m *model) unplug() {
	s := m.pick("here", "far")
	if m.stores[s] == "ok" {
		m.did("unplug %s", s)
		require.NoError(m.t, os.Rename(m.path(s), m.path(s+".away")))
		m.stores[s] = "away"
	}
}

func (m *model) swapStore() {
	s := m.pick("here", "far")
	if m.stores[s] == "ok" {
		m.did("an empty folder in place of %s", s)
		require.NoError(m.t, os.Rename(m.path(s), m.path(s+".away")))
		require.NoError(m.t, os.Mkdir(m.path(s), 0o700))
		m.stores[s] = "empty"
	}
}

func (m *model) replug() {
	for _, s := range []string{"here", "far"} {
		if m.stores[s] != "ok" {
			m.did("replug %s", s)
			require.NoError(m.t, os.RemoveAll(m.path(s)))
			require.NoError(m.t, os.Rename(m.path(s+".away"), m.path(s)))
			m.stores[s] = "ok"
		}
	}
	m.reopen("")
}

// order is a random restore of a random archive.
func (m *model) order() (a *modelArchive, o RestoreOrder) {
	a = m.archives[m.r.IntN(len(m.archives))]
	o.Files, o.Database = a.scope.HasFiles(), a.scope.HasDatabase()
	if o.Files && o.Database {
		switch m.r.IntN(4) {
		case 0:
			o.Files = false
		case 1:
			o.Database = false
		}
	}
	if o.Files && m.r.IntN(4) == 0 && a.hasUploads() {
		o.Selection = restore.Matching([]string{"uploads/**"}, false)
	} else {
		o.Clean = o.Files && m.r.IntN(5) == 0
	}
	// The settings and the address are the same all the while.
	return a, o
}

func (m *model) reachable(a *modelArchive) bool {
	return slices.ContainsFunc(m.up(), func(s string) bool { return a.stores[s] })
}

func (m *model) restoreAny() {
	a, o := m.order()
	m.later(time.Second)
	err := m.restore(a, o)
	if !m.reachable(a) {
		m.did("restore %s: not reached", a.name)
		require.Error(m.t, err)
		return
	}
	m.did("restore %s files %v (a share: %v) database %v clean %v", a.name, o.Files, o.Selection != nil, o.Database, o.Clean)
	require.NoError(m.t, err)
	m.restored(a, o)
}

func (m *model) restore(a *modelArchive, o RestoreOrder) (err error) {
	if o.Archive, err = m.Find(m.t.Context(), a.name, time.Time{}); err != nil {
		return err
	}
	if o.Site, err = m.OpenForRestore(m.t.Context(), o.Archive); err != nil {
		return err
	}
	_, err = m.Restore(m.t.Context(), o)
	return err
}

// held tells whether an archive held a path, or would have, had it been there.
func (a *modelArchive) held(p string) bool {
	return !slices.ContainsFunc(a.skip, func(rule string) bool { return site.Matches(rule, p) })
}

// hasUploads tells whether the share that is restored now and then has anything.
func (a *modelArchive) hasUploads() bool {
	for p := range a.state.files {
		if a.held(p) && strings.HasPrefix(p, "uploads/") {
			return true
		}
	}
	return false
}

// after is the site as a restore must leave it.
func (m *model) after(a *modelArchive, o RestoreOrder) modelState {
	now := m.live.clone()
	if o.Database {
		now.season = a.state.season
	}
	if !o.Files {
		return now
	}
	of := func(p string) bool { return o.Selection == nil || o.Selection.Keep(site.RootLabel, p) }
	files := map[string]string{}
	for p, text := range a.state.files {
		if a.held(p) && of(p) {
			files[p] = text
		}
	}
	for p, text := range m.live.files {
		if !of(p) || !a.held(p) && !o.Clean {
			files[p] = text
		}
	}
	now.files = files
	return now
}

func (m *model) restored(a *modelArchive, o RestoreOrder) {
	side := modelAside{before: m.live.clone(), files: o.Files, database: o.Database, kept: map[string]bool{}}
	for p := range m.live.files {
		if o.Files && !o.Clean && !a.held(p) {
			side.kept[p] = true
		}
	}
	if o.Selection != nil {
		side.share, side.put = func(p string) bool { return o.Selection.Keep(site.RootLabel, p) }, map[string]bool{}
		for p := range a.state.files {
			side.put[p] = a.held(p) && side.share(p)
		}
	}
	m.live = m.after(a, o)
	m.asides = append([]modelAside{side}, m.asides...)
}

// undone is the site as taking back a restore must leave it: as it was, but for what
// stays in whatever tree is the webroot.
func (m *model) undone(side modelAside) modelState {
	now := m.live.clone()
	if side.database {
		now.season = side.before.season
	}
	if side.files && side.share != nil {
		now.files = m.undoneShare(side)
	} else if side.files {
		now.files = map[string]string{}
		for p, text := range side.before.files {
			if !side.kept[p] {
				now.files[p] = text
			}
		}
		for p, text := range m.live.files {
			if side.kept[p] {
				now.files[p] = text
			}
		}
	}
	return now
}

// undoneShare are the files: of the share, what was there comes back; all else stays as
// it is now, and so does what was made in the share since under a name of its own.
func (m *model) undoneShare(side modelAside) map[string]string {
	now := map[string]string{}
	ours := func(p string) bool {
		return side.put[p] || side.share(p) && !side.kept[p] && side.before.files[p] != ""
	}
	for p, text := range side.before.files {
		if ours(p) {
			now[p] = text
		}
	}
	for p, text := range m.live.files {
		if !ours(p) && !clash(now, p) {
			now[p] = text
		}
	}
	return now
}

// clash tells whether a path cannot be there beside others: it would have to be both a
// file and a folder.
func clash(files map[string]string, p string) bool {
	for other := range files {
		if strings.HasPrefix(other, p+"/") || strings.HasPrefix(p, other+"/") {
			return true
		}
	}
	return false
}

func (m *model) undo() {
	if len(m.asides) == 0 {
		return
	}
	m.did("undo")
	require.NoError(m.t, m.takeBack())
	m.live, m.asides = m.undone(m.asides[0]), m.asides[1:]
}

// takeBack takes the newest restore back.
func (b *bench) takeBack() error {
	journals, err := b.ToTakeBack(b.t.Context(), museum)
	if err != nil {
		return err
	}
	_, err = b.Undo(b.t.Context(), journals[0])
	return err
}

func (m *model) settle() {
	if len(m.asides) == 0 || m.r.IntN(2) == 0 {
		return
	}
	m.did("settle")
	journals, err := m.ToTakeBack(m.t.Context(), museum)
	require.NoError(m.t, err)
	_, err = m.Settle(m.t.Context(), journals[0], true)
	require.NoError(m.t, err)
	m.asides = nil
}

// retain applies a keep rule: the newest archive, and the newest full one, of each
// store stay.
func (m *model) retain() {
	if len(m.up()) == 0 {
		return
	}
	m.reopen("    keep: [newest 3]\n")
	defer m.reopen("")
	all, err := m.Retain(m.t.Context(), museum, "", true)
	m.did("retain: %v", err)
	require.NoError(m.t, err)
	if len(m.up()) < 2 {
		for _, one := range all {
			require.Empty(m.t, one.Removed, "nothing goes while a store is not what it was")
		}
	}
	for _, one := range all {
		var newest, newestFull string
		for _, a := range m.archives {
			if a.stores[one.Store] && a.name > newest {
				newest = a.name
			}
			if a.stores[one.Store] && a.scope == archive.Full && a.name > newestFull {
				newestFull = a.name
			}
		}
		m.did("  %s: removed %v, stopped %v", one.Store, one.Removed, one.Stopped)
		for _, gone := range one.Removed {
			require.NotEqual(m.t, newest, gone)
			require.NotEqual(m.t, newestFull, gone)
			i := slices.IndexFunc(m.archives, func(a *modelArchive) bool { return a.name == gone })
			require.GreaterOrEqual(m.t, i, 0, gone)
			require.Equal(m.t, "ok", m.stores[one.Store])
			delete(m.archives[i].stores, one.Store)
		}
	}
	m.archives = slices.DeleteFunc(m.archives, func(a *modelArchive) bool { return len(a.stores) == 0 })
}

// damageAndHeal damages a part in one store and has it healed from the other.
func (m *model) damageAndHeal() {
	if len(m.up()) < 2 || slices.ContainsFunc(m.archives, func(a *modelArchive) bool { return len(a.stores) < 2 }) {
		return
	}
	s := m.pick("here", "far")
	m.did("damage %s and heal it", s)
	m.damage(s)
	healed, err := m.Heal(m.t.Context(), s, museum, false, nil)
	require.NoError(m.t, err)
	require.NotEmpty(m.t, healed.Objects)
	proof, err := m.Verify(m.t.Context(), VerifyOrder{})
	require.NoError(m.t, err)
	require.True(m.t, proof.Sound())
}

func (m *model) jump() {
	by := time.Duration(m.r.IntN(72*60)-24*60) * time.Minute
	m.did("the clock jumps by %v", by)
	m.later(by)
	m.reopen("")
}

// crash has the machine die in the middle of something: from some call on the disk does
// nothing any more, until the program is started again.
func (m *model) crash() {
	m.powerCut(m.r.IntN(150))
	var ends []func()
	switch m.r.IntN(3) {
	case 0:
		a, o := m.order()
		m.later(time.Second)
		err := m.restore(a, o)
		m.did("restore %s files %v database %v clean %v, power gone after some calls: %v", a.name, o.Files, o.Database, o.Clean, err)
		ends = []func(){func() {}, func() { m.restored(a, o) }}
	case 1:
		if len(m.asides) == 0 {
			break
		}
		err := m.takeBack()
		m.did("undo, power gone: %v", err)
		ends = []func(){func() {}, func() { m.live, m.asides = m.undone(m.asides[0]), m.asides[1:] }}
	default:
		m.later(time.Minute)
		_, err := m.Backup(context.Background(), museum, Order{Scope: archive.Full})
		m.did("backup, power gone: %v", err)
	}
	m.afterCrash(m.powerBack(), ends)
}

// powerCut has every call on the disk fail after some.
func (b *bench) powerCut(after int) {
	b.Disk.Fault = func(string, string) error {
		if after--; after < 0 {
			return &fs.PathError{Op: "power", Err: errors.Join(errors.New("the power is gone"), syscall.EIO)}
		}
		return nil
	}
}

// powerBack starts the program again, and returns the restores that have set something
// aside: whatever was interrupted must have come to an end.
func (b *bench) powerBack() []*restore.Journal {
	b.t.Helper()
	b.Close()
	b.open()
	journals, err := restore.Journals(b.State, museum)
	require.NoError(b.t, err)
	for _, j := range journals {
		require.Equal(b.t, restore.Done, j.Phase, "what was interrupted has come to an end")
	}
	return journals
}

// afterCrash finds out which of two ends it came to; anything between is wrong.
func (m *model) afterCrash(journals []*restore.Journal, ends []func()) {
	if len(ends) > 0 && len(journals) != len(m.asides) {
		ends[1]()
	}
	l, err := m.Archives(m.t.Context(), []string{museum})
	require.NoError(m.t, err)
	for _, one := range l.Archives {
		if !slices.ContainsFunc(m.archives, func(a *modelArchive) bool { return a.name == one.Name }) {
			m.took(one.Name, one.Scope)
			a := m.archives[len(m.archives)-1]
			a.stores, a.pending = map[string]bool{}, map[string]bool{}
			for _, s := range append(one.Stores, one.NotReached...) {
				a.stores[s] = true
			}
			for _, s := range one.Pending {
				a.pending[s] = true
			}
			m.did("  archive %s is there, in %v", one.Name, one.Stores)
		}
	}
}

// end plugs everything in again: all archives come to both stores, all are sound, and
// what is put back is what was saved.
func (m *model) end() {
	m.did("the end")
	m.replug()
	m.clock = m.clock.Add(7 * 24 * time.Hour)
	m.backup(archive.Full)
	m.check()
	proof, err := m.Verify(m.t.Context(), VerifyOrder{})
	require.NoError(m.t, err)
	require.True(m.t, proof.Sound())
	for range 3 {
		a, o := m.order()
		o.Clean = false
		require.NoError(m.t, m.restore(a, o))
		m.did("restore %s", a.name)
		m.restored(a, o)
		m.check()
	}
}
