// Package restore puts a site back: it stages an archive beside the live site,
// lets both change places in one step, and keeps what was replaced, so that a
// restore can be taken back. Every phase is journalled before it begins.
package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/database"
	"revlet/internal/database/rowvalues"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/reason"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/site/tree"
	"revlet/internal/store"
	"revlet/internal/work/unpack"
)

// Opener opens a database to restore into. beside, if not empty, is where the
// files of a database that is one are staged.
type Opener func(ctx context.Context, db site.Database, mode sqlite.FileMode, beside string) (database.Target, error)

// Job says what to restore where.
type Job struct {
	Site    *site.Site
	Archive *catalog.Held
	// Files and Database choose the halves.
	Files, Database bool
	State           *state.State
	Open            Opener
	Now             func() time.Time
	Observer        progress.Observer
	// Others maps folders of other sites to their names: what lies in them stays. Clean
	// sets all else aside that the archive never held.
	Others map[string]string
	Clean  bool
	// Anyway restores what looks like another site or comes from a newer server.
	Anyway bool
	// Selection limits Files to some of the webroot; nil is all of it.
	Selection *FileSelection
	// TrustTimes leaves files of a share on another machine as they are that have the archive's
	// length and time, but for what a web server may run.
	TrustTimes bool
	// KeepSettings keeps the present settings file instead of the archive's. Unserved
	// tells that the copy is not served with its settings as they are.
	KeepSettings, Unserved bool
	// Dumped names the database that is meant in a copy's dump of several.
	Dumped string
	// Salvage restores what damage has left, and names the rest: see Result.Lost.
	Salvage bool
	// Own tells that this machine has taken the archive: files keep the rights that they give to whoever runs them. Of
	// another machine's they are left off: see Result.Disarmed.
	Own bool
	// Drain is how long to wait, once the site is closed, for pages that are being
	// made: they would be half of the old site and half of the new one.
	Drain time.Duration
	// Rows limits Database to shares of some databases, by label; nil is all of
	// every one.
	Rows map[string]*database.RowSelection
	// Mirror signs what is written beside what is set aside on another machine, so that other
	// computers can end the restore; nil writes nothing there.
	Mirror *Mirror
	// Confirm, if set, is asked whether a person has confirmed the databases that are written to, when nothing else is in
	// the way.
	Confirm func() error
	// Moving, if set, has the archive come up as another site.
	Moving *Moving
}

// Moving is how an archive is changed on its way to another place, before anything of it
// is live.
type Moving struct {
	// Rows changes the rows of a database, whose columns are as wide as widths says.
	Rows func(label string, widths database.Widths) rowvalues.Changer
	// Table, if set, tells whether a table comes, and under which name. With other engines
	// than mysql it is not set.
	Table func(label, table string) (name string, comes bool)
	// Empty tells whether a table comes without its rows.
	Empty func(label, table string) bool
	// Links changes the links of the staged folders, by label, before anything is put in behind them.
	Links func(trees map[string]*disk.Root) error
	// Staged changes the staged folders. Before it returns without an error, it has made
	// sure that the settings there lead to the databases of the new place.
	Staged func(ctx context.Context, trees map[string]*disk.Root) error
}

// Result is what a restore did.
type Result struct {
	Journal *Journal
	// Paths and Rows count what was put back.
	Paths, Rows int64
	Tables      int
	// Moves are the tables that rows were put into, for a share of a database.
	Moves []database.RowMove
	// Still is what of the files the site had still: their content was not read from a store.
	Still struct{ Paths, Bytes int64 }
	// Swap is how long the site was between its two states.
	Swap time.Duration
	Took time.Duration
	// Aside names where the replaced state lies.
	Aside []string
	// Uncovered is what the archive never held: it was carried over, or set aside if
	// Job.Clean is set.
	Uncovered []Uncovered
	// Unlinked are links, and where they lead, that could not be made on the site's machine.
	Unlinked []string
	// Disarmed are files that came back without the rights that they gave to whoever runs them.
	Disarmed []string
	// Given are accounts and groups of the archive whose things belong to others here, with those.
	Given [][2]string
	// Lost is what is damaged in every store: files by their names, tables in words.
	Lost []string
}

// Run restores. The caller holds the site's lock and has called Recover. Until
// everything is staged and checked, nothing live changes; an error before that
// leaves the site as it was.
func Run(ctx context.Context, j Job) (*Result, error) {
	r, err := newRun(j)
	if err != nil {
		return nil, err
	}
	if err := r.preflight(ctx); err != nil {
		return nil, fmt.Errorf("restore %s: %w; nothing was changed", j.Site.Name, err)
	}
	defer r.closeTargets()
	err = r.stage(ctx)
	if err == nil {
		err = r.journal.stands(r.disk)
	}
	if err == nil {
		err = r.journal.stagedIsThere(ctx, r.disk, r.targets)
	}
	if err == nil {
		err = r.journal.tablesFree(ctx, r.targets)
	}
	if err != nil {
		err = errors.Join(err, revertStage(context.WithoutCancel(ctx), r.disk, r.journal, r.targets))
		return nil, fmt.Errorf("restore %s: %w; the site is unchanged", j.Site.Name, err)
	}
	// From here on the work is finished even if the person loses patience: the
	// swap takes moments, and stopping inside it would help nobody.
	ctx = context.WithoutCancel(ctx)
	swapStart := j.Now()
	r.journal.drain = j.Drain
	if err := swapOrTakeBack(ctx, r.disk, r.journal, r.targets); err != nil {
		return nil, fmt.Errorf("restore %s: %w", j.Site.Name, err)
	}
	r.result.Swap = j.Now().Sub(swapStart)
	r.result.Unlinked = append(r.result.Unlinked, r.journal.unlinked...)
	r.restoreAbove(ctx)
	for _, label := range slices.Sorted(maps.Keys(r.targets)) {
		if w, ok := r.targets[label].(witness); ok {
			r.result.Lost = append(r.result.Lost, w.Altered()...)
		}
	}
	for _, p := range r.journal.Databases {
		for _, note := range p.Notes {
			r.observer.Note("note: database " + p.Label + ": " + note)
		}
	}
	r.result.Took = j.Now().Sub(r.start)
	r.result.Journal = r.journal
	r.result.Aside = r.journal.AsidePlaces()
	return &r.result, nil
}

// Check tells whether Run would begin: it looks at all that is looked at before anything is written, and writes nothing.
func Check(ctx context.Context, j Job) error {
	r, err := newRun(j)
	if err != nil {
		return err
	}
	r.looks = true
	defer r.closeTargets()
	if err := r.preflight(ctx); err != nil {
		return fmt.Errorf("restore %s: %w; nothing was changed", j.Site.Name, err)
	}
	return nil
}

func newRun(j Job) (r *run, err error) {
	if j.Now == nil {
		j.Now = time.Now
	}
	r = &run{Job: j, disk: j.State.Disk, observer: progress.Or(j.Observer), start: j.Now(), token: strings.ToLower(store.Token()[:10])}
	r.journal, err = newJournal(j.State, j.Site.Name, j.Archive.Name, r.start)
	return r, err
}

type run struct {
	Job
	// looks tells that nothing is to be written: see Check.
	looks    bool
	disk     *disk.Disk
	observer progress.Observer
	journal  *Journal
	targets  map[string]database.Target
	inside   []insideDatabase
	// scratch is where databases are loaded that are then moved into the staged tree.
	scratch string
	start   time.Time
	mu      sync.Mutex
	result  Result
	// archived are the folders above what stays that the archive holds too.
	archived map[string]bool
	// token is what nobody could know of the boxes' names.
	token string
	// far is the machine that the files are put back to, nil for this one.
	far tree.Writer
	// owners says to whom what is put back belongs.
	owners *unpack.Owners
	// never are the paths, by label, that the archive of a share never held.
	never map[string][]string
}

// insideDatabase is a database file that lies in a webroot that is restored
// with it: it is loaded right into the staged tree, unless that lies in a webroot whose
// owner could put another folder in its place.
type insideDatabase struct {
	db site.Database
	// plan is that for its folder, and rel where it lies in it.
	plan   *FilesPlan
	rel    string
	target database.Target
}

// stage writes everything beside the live site.
func (r *run) stage(ctx context.Context) error {
	ix, err := r.Archive.ReadIndex(ctx)
	if err != nil {
		return err
	}
	var total int64
	for _, p := range r.wanted() {
		total += p.StoredBytes()
	}
	r.observer.Phase("staging "+r.Archive.Name, total)
	if err := r.journal.enter(Staging); err != nil {
		return err
	}
	if r.far != nil {
		if err := r.makeFarBoxes(ctx); err != nil {
			return err
		}
	}
	// All plans stand in the journal before anything runs beside it.
	if err := r.prepareDatabases(ctx); err != nil {
		return err
	}
	g, inGroup := errgroup.WithContext(ctx)
	if r.Files {
		g.Go(func() error { return r.stageFiles(inGroup, ix) })
	}
	for _, plan := range r.journal.Databases {
		g.Go(func() error { return r.loadDatabase(inGroup, ix, plan.Label, r.targets[plan.Label], plan) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	if err := r.selectRows(ctx); err != nil {
		return err
	}
	if err := r.moveLinks(); err != nil {
		return err
	}
	if err := r.stageInside(ctx, ix); err != nil {
		return err
	}
	if err := r.keepSettings(ctx); err != nil {
		return err
	}
	if err := r.moveStaged(ctx); err != nil {
		return err
	}
	return r.noteStaged(ctx)
}

// prepareDatabases plans every database and makes its staging place.
func (r *run) prepareDatabases(ctx context.Context) error {
	for _, label := range slices.Sorted(maps.Keys(r.targets)) {
		target := r.targets[label]
		plan := target.Plan(placeID(r.journal.ID))
		plan.Label, plan.From, plan.Stay = label, r.Dumped, r.neverHeld(label)
		if r.Rows != nil {
			plan.Rows = &database.RowPlan{Staged: r.tables(label)}
		} else {
			plan.Large = r.large(label)
		}
		r.rename(plan)
		r.journal.Databases = append(r.journal.Databases, plan)
		err := r.journal.save()
		if err == nil {
			err = target.Prepare(ctx, plan, r.tables(label))
			if db, ok := r.Site.Database(label); ok {
				err = NotSetUp(db, r.Archive.Origin.Databases[label], err)
			}
		}
		if err == nil {
			err = r.journal.save()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// placeID names the places of one database: several may be on one server, and another
// site's there as well.
func placeID(journalID string) string { return journalID + "_" + store.Token()[:6] }

// neverHeld are the tables and views of a database that the archive does not have: gaps.
func (r *run) neverHeld(label string) (names []string) {
	for _, g := range r.Archive.Gaps {
		what, ok := strings.CutPrefix(g.Path, "database/"+label+"/")
		if !ok || g.Kind != archive.GapDatabase {
			continue
		}
		for _, kind := range []string{database.TableGap, "view ", "materialized view "} {
			if name, ok := strings.CutPrefix(what, kind); ok {
				names = append(names, name)
			}
		}
	}
	return names
}

// noteStaged makes what was staged durable, and notes by what it is known again.
func (r *run) noteStaged(ctx context.Context) (err error) {
	if r.far != nil {
		return r.sendStaged(ctx)
	}
	if f := r.journal.Files; f != nil && f.keeps(frontDoor) {
		r.journal.Door = "" // it goes from one tree into the other: no other page may stand there
	}
	for _, f := range r.journal.plans() {
		if err := r.disk.SyncFS(f.Box); err != nil {
			return err
		}
		if f.StagedInode, err = inode(r.disk, f.staged()); err != nil {
			return err
		}
		if f.LiveInode, err = inode(r.disk, f.Root); err != nil {
			return err
		}
		if err := errors.Join(f.noteCarried(r.disk), f.noteNames(r.disk, r.Site)); err != nil {
			return err
		}
	}
	if r.Selection != nil {
		return r.journal.noteShare(r.disk)
	}
	return nil
}

func (r *run) stageFiles(ctx context.Context, ix *catalog.Index) error {
	labels := []string{site.AboveLabel}
	for label := range r.Archive.Origin.Roots {
		labels = append(labels, label)
	}
	for _, f := range r.journal.plans() {
		others := slices.DeleteFunc(slices.Clone(labels), func(l string) bool { return l == f.Label })
		if err := r.stageFolder(ctx, ix, f, others); err != nil {
			return err
		}
	}
	return nil
}

func (r *run) stageFolder(ctx context.Context, ix *catalog.Index, f *FilesPlan, others []string) error {
	if err := makeBox(r.disk, f.boxHere()); err != nil {
		return err
	}
	if err := r.makeStaged(f); err != nil {
		return err
	}
	t := &unpack.Tree{Disk: r.disk, Pace: r.observer.Advance, Label: f.Label, Others: others, Salvage: r.Salvage, Trusted: r.owners.Own, Owners: r.owners}
	var folders []carried
	var err error
	switch {
	case r.Selection != nil:
		t.Keep, t.Parts = func(rel string) bool { return r.wants(ctx, f, rel) }, r.Selection.parts
		if r.far == nil {
			folders, err = r.carryRest(ctx, f)
		}
	case len(f.Kept) > 0:
		t.Keep = func(rel string) bool { return !f.keeps(rel) }
		folders, err = r.makeParents(ctx, f)
	}
	if err != nil {
		return err
	}
	root, err := openTree(r.disk, f.here())
	if err != nil {
		return err
	}
	defer root.Close()
	r.noteIn(t, f)
	if r.far == nil {
		if here, err := r.Site.At(r.disk).Folder(ctx, f.Root); err == nil { // one that is not there has nothing
			defer here.Close()
			t.Live = &unpack.Live{Folder: here}
		}
	}
	if err := t.Write(ctx, r.Archive, ix, root); err != nil {
		return r.throughLink(root, err)
	}
	if err := r.checkNames(t, f); err != nil {
		return err
	}
	if err := r.finishCarried(f, folders); err != nil {
		return err
	}
	r.tally(t, f)
	return nil
}

// tally adds what came of unpacking a tree to the result.
func (r *run) tally(t *unpack.Tree, f *FilesPlan) {
	for _, rel := range t.Disarmed() {
		r.result.Disarmed = append(r.result.Disarmed, f.Label+"/"+rel)
	}
	if f.On == "" {
		for rel, target := range t.Unmade() {
			r.result.Unlinked = append(r.result.Unlinked, f.Label+"/"+rel+" → "+target)
		}
	}
	r.result.Paths += t.Written()
	if t.Live != nil {
		r.result.Still.Paths += t.Live.Paths
		r.result.Still.Bytes += t.Live.Bytes
	}
	r.result.Lost = append(r.result.Lost, t.Lost()...)
	r.result.Given = r.owners.Given()
	if n := t.Unset(); n > 0 {
		r.observer.Note(fmt.Sprintf("note: %d extended attributes could not be set here", n))
	}
}

// makeStaged makes the folder that is unpacked into.
func (r *run) makeStaged(f *FilesPlan) error {
	box, err := openBox(r.disk, f.boxHere())
	if err != nil {
		return err
	}
	defer box.Close()
	if f.Inner && r.far == nil {
		page, err := box.Create(".htaccess", 0o600)
		if err != nil {
			return err
		}
		_, err = page.Write([]byte(denyAll))
		if err = errors.Join(err, page.Close()); err != nil {
			return err
		}
	}
	return box.Mkdir(filepath.Base(f.staged()), 0o755)
}

// moveIn copies a database file that was loaded elsewhere into a tree, through the tree's
// handle: nothing but the tree is written to, whatever its path leads to by now.
func (r *run) moveIn(file string, tree *disk.Root, rel string) error {
	in, err := r.disk.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	out, err := tree.Create(rel, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if a, ok := disk.AttributesOf(info); err == nil && ok && os.Geteuid() == 0 {
		err = out.Chown(a.UID, a.GID)
	}
	if err == nil {
		err = out.Chmod(info.Mode())
	}
	return errors.Join(err, out.Close(), r.disk.Remove(file))
}

func setTimes(d *disk.Disk, dir string, t time.Time) error {
	root, err := d.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	return root.Chtimes(".", t, t)
}

// largeBytes is from which size on a table's keys are made after its rows.
const largeBytes = 8 << 20

// large are the names of a database's large tables.
func (r *run) large(label string) []string {
	sizes := map[string]int64{}
	var names []string
	for _, p := range r.Archive.Parts {
		if p.Kind != archive.KindRows || p.Database != label {
			continue
		}
		before := sizes[p.Table]
		sizes[p.Table] += p.ContentBytes
		if before < largeBytes && sizes[p.Table] >= largeBytes {
			names = append(names, p.Table)
		}
	}
	return names
}

// tables are the names of a database's tables in the archive.
func (r *run) tables(label string) []string {
	if r.Rows != nil {
		return r.Rows[label].Staged()
	}
	var names []string
	for _, p := range r.Archive.Parts {
		if p.Kind == archive.KindRows && p.Database == label && p.Slice <= 1 && r.comes(label, p.Table) {
			names = append(names, p.Table)
		}
	}
	return append(names, r.Archive.Origin.Databases[label].Sequences...)
}

// comes tells whether a table comes to the new place.
func (r *run) comes(label, table string) bool {
	if r.Moving == nil || r.Moving.Table == nil {
		return true
	}
	_, comes := r.Moving.Table(label, table)
	return comes
}

// empty tells whether a table comes to the new place without its rows.
func (r *run) empty(label, table string) bool {
	return r.Moving != nil && r.Moving.Empty != nil && r.Moving.Empty(label, table)
}

// rename notes in a plan which tables get another name, or do not come.
func (r *run) rename(plan *database.Plan) {
	if r.Moving == nil || r.Moving.Table == nil {
		return
	}
	plan.Renamed = map[string]string{}
	for _, p := range r.Archive.Parts {
		if p.Kind != archive.KindRows || p.Database != plan.Label {
			continue
		}
		now, comes := r.Moving.Table(plan.Label, p.Table)
		plan.Partial = plan.Partial || !comes
		if comes && now != p.Table {
			plan.Renamed[p.Table] = now
		}
	}
}

// byTurns orders parts so that those of one table are loaded at different times, as far as there are other tables: rows that
// come to the end of a table are put in faster than those that come into its middle.
func byTurns(parts []archive.Part) []archive.Part {
	type turn struct {
		part archive.Part
		nth  int
	}
	all, seen := make([]turn, 0, len(parts)), map[[2]string]int{}
	for _, p := range parts {
		of := [2]string{p.Database, p.Table}
		all = append(all, turn{p, seen[of]})
		seen[of]++
	}
	slices.SortStableFunc(all, func(a, b turn) int {
		return cmp.Or(cmp.Compare(a.nth, b.nth), cmp.Compare(b.part.ContentBytes, a.part.ContentBytes))
	})
	for i := range all {
		parts[i] = all[i].part
	}
	return parts
}

// loadDatabase loads schema, rows and objects into the staging place.
func (r *run) loadDatabase(ctx context.Context, ix *catalog.Index, label string, target database.Target, plan *database.Plan) error {
	parts := r.wanted()
	for _, p := range parts {
		if p.Kind == archive.KindDump && p.Database == label {
			return r.loadDump(ctx, ix, p, target, plan)
		}
	}
	parts = byTurns(parts)
	for _, kind := range []string{database.Schema, database.Rows, database.Objects} {
		g, ctx := errgroup.WithContext(ctx)
		g.SetLimit(target.Lanes())
		for _, p := range parts {
			if p.Kind == kind && p.Database == label && (kind != database.Rows || r.comes(label, p.Table) && !r.empty(label, p.Table)) {
				g.Go(func() error { return r.loadPart(ctx, ix, p, target, plan) })
			}
		}
		if err := g.Wait(); err != nil {
			return fmt.Errorf("database %s: %w", label, err)
		}
	}
	return nil
}

// loadDump loads a database that another program has written out. Nothing of it
// is run before its digest was checked.
func (r *run) loadDump(ctx context.Context, ix *catalog.Index, part archive.Part, target database.Target, plan *database.Plan) error {
	loader, ok := target.(dumpLoader)
	if !ok {
		return fmt.Errorf("database %s: a %s database cannot be restored from SQL of another program here; use its own client", plan.Label, plan.Engine)
	}
	return r.Archive.EachStore(func(s store.Named) error {
		if err := ix.Check(ctx, r.Archive, s, part, nil); err != nil {
			return err
		}
		p, err := r.Archive.OpenPart(ctx, s, part, r.observer.Advance)
		if err != nil {
			return err
		}
		defer p.Close()
		plan.Misfits = r.Anyway
		rows, err := loader.LoadDump(ctx, plan, p)
		if err == nil {
			err = r.changeDumped(ctx, target, plan)
		}
		if err != nil {
			return fmt.Errorf("database %s: %w", plan.Label, err)
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		r.result.Rows += rows
		for _, m := range plan.Tables {
			if m.Staged != "" && plan.Rows == nil { // of a share, what comes is counted
				r.result.Tables++
			}
		}
		return nil
	})
}

// loadPart loads one part. Where another store could stand in for a damaged
// one, its digest is checked beforehand: rows that came from a damaged part
// could not be told from good ones. With one store, damage ends the restore.
func (r *run) loadPart(ctx context.Context, ix *catalog.Index, part archive.Part, target database.Target, plan *database.Plan) error {
	err := r.loadWhole(ctx, ix, part, target, plan)
	if !r.Salvage || part.Kind == database.Schema || !catalog.IsDamage(err) {
		return err
	}
	what := fmt.Sprintf("%d rows of table %s of database %s", part.Entries, part.Table, part.Database)
	if part.Kind == database.Objects {
		what = "views, triggers and routines of database " + part.Database
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.result.Lost = append(r.result.Lost, what)
	return nil
}

// witness is a database that takes something else, with a warning, in the place of a value
// that it cannot take.
type witness interface{ Altered() []string }

// measured is a database that cuts values off, without a word, which do not fit.
type measured interface {
	Widths(ctx context.Context, p *database.Plan) (database.Widths, error)
}

// moved is the content of a part, for the new place if there is one.
func (r *run) moved(ctx context.Context, target database.Target, plan *database.Plan, u database.Unit, content io.Reader) (io.Reader, error) {
	if r.Moving == nil || u.Kind != database.Rows {
		return content, nil
	}
	var widths database.Widths
	if m, ok := target.(measured); ok {
		var err error
		if widths, err = m.Widths(ctx, plan); err != nil {
			return nil, err
		}
	}
	return rowvalues.NewReader(plan.Engine, content, r.Moving.Rows(plan.Label, widths))
}

// stagedChanger is a database that can change the rows of what another program has written, once
// it is staged.
type stagedChanger interface {
	ChangeStaged(ctx context.Context, p *database.Plan, d *disk.Disk, dir string, change func(table string, rows io.Reader) (io.Reader, error)) error
}

// changeDumped changes the rows of a database that another program has written for the new
// place, if there is one.
func (r *run) changeDumped(ctx context.Context, target database.Target, plan *database.Plan) error {
	if r.Moving == nil {
		return nil
	}
	changer, ok := target.(stagedChanger)
	if !ok {
		return reason.New(reason.CannotMove, nil, "the rows of a %s database that another program has written cannot be changed", plan.Engine)
	}
	dir, err := r.State.Spool(r.Site.Name + "-move")
	if err != nil {
		return err
	}
	defer func() { _ = r.disk.RemoveAll(dir) }()
	var widths database.Widths
	if m, ok := target.(measured); ok {
		if widths, err = m.Widths(ctx, plan); err != nil {
			return err
		}
	}
	c := r.Moving.Rows(plan.Label, widths)
	return changer.ChangeStaged(ctx, plan, r.disk, dir, func(table string, rows io.Reader) (io.Reader, error) {
		return rowvalues.NewReader(plan.Engine, rows, rowvalues.Named{Changer: c, Table: table})
	})
}

func (r *run) loadWhole(ctx context.Context, ix *catalog.Index, part archive.Part, target database.Target, plan *database.Plan) error {
	return r.Archive.EachStore(func(s store.Named) error {
		if len(r.Archive.Stores) > 1 || r.Salvage {
			if err := ix.Check(ctx, r.Archive, s, part, nil); err != nil {
				return err
			}
		}
		p, err := r.Archive.OpenPart(ctx, s, part, r.observer.Advance)
		if err != nil {
			return err
		}
		defer p.Close()
		u := database.Unit{Kind: part.Kind, Table: part.Table, Slice: part.Slice}
		return ix.CheckSQL(p, part, func(content io.Reader) error {
			content, err := r.moved(ctx, target, plan, u, content)
			if err != nil {
				return err
			}
			rows, err := target.Load(ctx, plan, u, content)
			if err != nil {
				return err
			}
			if u.Kind == database.Rows && rows != part.Entries {
				return fmt.Errorf("table %s: %d rows came, %d were saved", part.Table, rows, part.Entries)
			}
			if plan.Rows != nil {
				return nil // counted once they are picked
			}
			r.mu.Lock()
			defer r.mu.Unlock()
			r.result.Rows += rows
			if u.Kind == database.Rows && u.Slice <= 1 {
				r.result.Tables++
			}
			return nil
		})
	})
}
