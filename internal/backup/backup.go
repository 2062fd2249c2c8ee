// Package backup takes archives: it reads a site's files and databases and
// writes parts, a list and, last of all, the record to the site's stores.
package backup

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archive"
	"revlet/internal/database"
	"revlet/internal/disk"
	"revlet/internal/observe"
	"revlet/internal/seal"
	"revlet/internal/site"
	"revlet/internal/state"
	"revlet/internal/store"
)

// mostTries is how often a part or file that changes while it is read is read.
const mostTries = 3

// Job says what to back up and where to.
type Job struct {
	Site    *site.Site
	Stores  []store.Named
	State   *state.State
	Scope   archive.Scope
	Note    string
	Program string
	// Open opens one of the site's databases; scratch is for passing copies.
	Open func(ctx context.Context, db site.Database, scratch string) (database.Source, error)
	// IsDatabase tells by its first 16 bytes whether a file in a webroot is a
	// database, and CopyDatabase makes a copy of it as of one moment: read like
	// any other file, it might be torn.
	IsDatabase   func(head []byte) bool
	CopyDatabase func(ctx context.Context, file, scratch string) (string, error)
	// Now is the clock; nil means time.Now.
	Now      func() time.Time
	Observer observe.Observer
	// Expected is about how many bytes there are to read, 0 if that is not known.
	Expected int64
	// Workers is how many parts of files are made at a time; 0 means 2.
	Workers int
	// Fresh has everything read, even what the last archive holds unchanged;
	// FreshEvery does so when that was last done so long ago, 0 never.
	Fresh      bool
	FreshEvery time.Duration
	// To are those whom the archive is encrypted for, RecipientNames the same as
	// text. KeyFile, if any, is a locked key that is left in every store.
	To             seal.Recipients
	RecipientNames []string
	KeyFile        []byte
	// Imported and HandMade make the archive of something else than the live
	// site: of a portable file, or of a copy that a person has made.
	Imported *Imported
	HandMade *HandMade
	// Damaged are objects that are known to be damaged, by store: they are
	// written again where the archive needs them.
	Damaged map[string]map[string]bool
	// Down are stores that are known not to work, by name, and why.
	Down map[string]error
}

// Pending is a store that the archive has not come to.
type Pending struct {
	Store string
	Err   error
}

// Result is what came of a job.
type Result struct {
	Record *archive.Record
	// Skipped maps the rule that left paths out to how many.
	Skipped map[string]int64
	// Neighbours are tables of other sites in a shared database, left out.
	Neighbours []string
	// Pending are the stores that the archive has not come to.
	Pending []Pending
	// Reused counts the parts that were named again.
	Reused int
	// Mended are damaged objects that were written again, by store.
	Mended map[string][]string
	Took   time.Duration
}

// ErrInsideWebroot is wrapped when a store or the state folder lies in the
// webroot, where anyone could download what is in it.
var ErrInsideWebroot = errors.New("lies inside the webroot, where anyone could download it")

// Run takes an archive. The caller holds the site's lock. Until the record is
// written, last of all, there is no archive: whatever fails before leaves
// nothing that a later run takes for good. When a table is altered meanwhile,
// all is begun again, a few times.
//
// A store that fails does not spoil the archive for the others: it is in
// Result.Pending. Only when all fail, Run does.
func Run(ctx context.Context, j Job) (*Result, error) {
	j.Down = maps.Clone(j.Down)
	for try := 1; ; try++ {
		result, err := once(ctx, j)
		var full *NoRoomError
		switch {
		case errors.As(err, &full) && full.Store != "" && len(j.Down) < len(j.Stores)-1:
			if j.Down == nil {
				j.Down = map[string]error{}
			}
			j.Down[full.Store] = full.err
			observe.Or(j.Observer).Note(fmt.Sprintf("note: store %s: %v; beginning again without it", full.Store, full.err))
		case errors.Is(err, database.ErrChanged) && try < mostTries:
			observe.Or(j.Observer).Note(fmt.Sprintf("note: %v; beginning again", err))
		default:
			return result, err
		}
	}
}

func once(ctx context.Context, j Job) (*Result, error) {
	r := &run{Job: j, ctx: ctx, disk: j.State.Disk, observer: observe.Or(j.Observer), skipped: map[string]int64{}}
	if r.Now == nil {
		r.Now = time.Now
	}
	if r.Workers == 0 {
		r.Workers = 2
	}
	r.began = r.Now()
	defer r.close()
	err := r.prepare(ctx)
	if err == nil {
		err = r.work(ctx)
	}
	if err == nil {
		err = r.seal(ctx)
	}
	if err != nil {
		return nil, fmt.Errorf("back up %s: %w", j.Site.Name, errors.Join(r.noRoom(err), r.forget()))
	}
	result := &Result{Record: &r.record, Skipped: r.skipped, Neighbours: r.neighbours, Reused: r.reusedParts, Took: r.Now().Sub(r.began)}
	result.Mended = map[string][]string{}
	for _, t := range r.targets {
		result.Mended[t.Name] = t.mended
		if err := t.err(); err != nil {
			result.Pending = append(result.Pending, Pending{t.Name, err})
		}
	}
	return result, nil
}

// noRoom marks an error of a full disk with the store whose folder is full.
func (r *run) noRoom(err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		full := &NoRoomError{err: err}
		for _, t := range r.targets {
			if t.own != nil && t.own == r.own {
				full.Store = t.Name
			}
		}
		return full
	}
	return err
}

// close lets go of everything, whatever came of the run.
func (r *run) close() {
	if r.list != nil {
		r.list.Close()
	}
	if r.reuse != nil {
		r.reuse.c.stop()
	}
	r.closeDatabases()
}

// withdraw takes the run's marks away. The ledger names them until that is done.
func (r *run) withdraw(ctx context.Context) error {
	var err error
	for _, t := range r.targets {
		err = errors.Join(err, t.withdraw(ctx))
	}
	return err
}

type run struct {
	Job
	ctx      context.Context
	began    time.Time
	disk     *disk.Disk
	observer observe.Observer
	record   archive.Record
	list     *archive.ListWriter
	spool    *spool
	ledger   *ledger
	targets  []*target
	// own is the store that takes scratch files over; nil when all are remote.
	own     adopter
	sources []openDatabase
	// reuse is set when parts of the last archive can be named again, lastSQL
	// when those of its databases can.
	reuse *reuse
	// met is what the walk for reuse has met already.
	met         *recording
	lastSQL     *previous
	reusedParts int

	mu         sync.Mutex
	files      []numbered
	gaps       []archive.Gap
	skipped    map[string]int64
	neighbours []string
	newBytes   int64
	// texts are parts of SQL that do not come from a live database.
	texts []archive.Part
	// treePart is the name of the part of kind tree.
	treePart string
}

type numbered struct {
	seq  int
	part archive.Part
}

type openDatabase struct {
	db       site.Database
	source   database.Source
	snapshot database.Snapshot
	parts    []archive.Part
}

// prepare refuses what cannot work before anything is written.
func (r *run) prepare(ctx context.Context) error {
	for _, s := range r.Stores {
		if f, ok := s.Store.(interface{ Root() string }); ok && state.Inside(f.Root(), r.Site.Root) {
			return fmt.Errorf("store %s (%s) %w; move it elsewhere", s.Name, f.Root(), ErrInsideWebroot)
		}
	}
	if state.Inside(r.State.Dir, r.Site.Root) {
		return fmt.Errorf("the state folder %s %w; set `state:` elsewhere", r.State.Dir, ErrInsideWebroot)
	}
	r.checkStores(ctx)
	if err := r.allFailed(); err != nil {
		return err
	}
	if err := sweep(ctx, r.State, r.Site.Name, r.Stores); err != nil {
		return err
	}
	taken, err := r.claim(ctx)
	if err != nil {
		return err
	}
	host, _ := os.Hostname()
	r.record = archive.Record{Format: archive.Format, Name: archive.NewName(r.Site.Name, taken), Site: r.Site.Name,
		Taken: taken, Scope: r.Scope, Note: r.Note, Program: r.Program, Host: host, Encrypted: len(r.To) > 0,
		Origin: archive.Origin{Address: r.Site.Address, Version: r.Site.Version(), Skipped: r.Site.Skip}}
	if r.Site.Recipe != nil {
		r.record.Origin.Recipe = r.Site.Recipe.Name
	}
	if err := r.openSpool(); err != nil {
		return err
	}
	r.list = archive.NewListWriter(r.disk, r.spool.name)
	return r.recall(ctx)
}

// checkStores finds out which stores can be written to.
func (r *run) checkStores(ctx context.Context) {
	var g errgroup.Group
	for _, s := range r.Stores {
		t := newTarget(s)
		t.damaged = r.Damaged[s.Name]
		r.targets = append(r.targets, t)
		if err := r.Down[s.Name]; err != nil {
			t.fail(err)
			continue
		}
		g.Go(func() error {
			if err := t.Check(ctx); err != nil {
				t.fail(err)
			}
			return nil
		})
	}
	_ = g.Wait() // failures are kept in the targets
}

// openSpool makes the scratch folder: in a store that takes files over, or else
// in the state folder.
func (r *run) openSpool() error {
	for _, t := range r.live() {
		if a, ok := t.Store.(adopter); ok {
			t.own, r.own = a, a
			break
		}
	}
	dir, err := "", error(nil)
	if r.own != nil {
		dir, err = state.Empty(r.disk, filepath.Join(r.own.Incoming(), r.Site.Name))
	} else {
		dir, err = r.State.Spool(r.Site.Name)
	}
	r.spool = &spool{disk: r.disk, dir: dir}
	return err
}

// claim finds the archive's moment, and opens its ledger: now, or a second later
// as long as an archive of that name exists or is being made by another machine.
func (r *run) claim(ctx context.Context) (time.Time, error) {
	raw := make([]byte, 4)
	_, _ = rand.Read(raw)
	token := hex.EncodeToString(raw)
	if r.Imported != nil {
		return r.Imported.Record.Taken, r.claimImported(ctx, token)
	}
	began := r.Now()
	if r.HandMade != nil {
		began = r.HandMade.Taken
	}
	host, _ := os.Hostname()
	for t := began.UTC().Truncate(time.Second); ; t = t.Add(time.Second) {
		name := archive.NewName(r.Site.Name, t)
		taken, err := r.taken(ctx, name)
		if err != nil {
			return t, err
		}
		if taken {
			continue
		}
		if r.ledger, err = openLedger(r.State, r.Site.Name, name); err != nil {
			return t, err
		}
		for _, target := range r.live() {
			other, err := target.announce(ctx, r.Site.Name, mark{Archive: name, Host: host, Began: t}, token, r.ledger)
			if err != nil {
				target.fail(err)
			}
			taken = taken || other
		}
		if err := r.allFailed(); err != nil {
			return t, err
		}
		if !taken {
			return t, nil
		}
		if err := r.endLedger(ctx); err != nil {
			return t, err
		}
		// Two that give way to each other are not to meet again.
		t = t.Add(time.Duration(raw[0]%4) * time.Second)
	}
}

// taken tells whether a store has an archive of that name.
func (r *run) taken(ctx context.Context, name string) (bool, error) {
	for _, t := range r.live() {
		_, err := t.Stat(ctx, archive.RecordPath(r.Site.Name, name))
		if err == nil {
			return true, nil
		}
		if !errors.Is(err, store.ErrNotFound) {
			t.fail(err)
		}
	}
	return false, r.allFailed()
}

// recall reads what is remembered of the last archive and what the stores have
// of it.
func (r *run) recall(ctx context.Context) error {
	if r.Imported != nil || r.HandMade != nil {
		return nil
	}
	files, tables := remembered(ctx, r.State, r.Site.Name, filesHalf), remembered(ctx, r.State, r.Site.Name, databaseHalf)
	useFiles, useTables := r.Scope.HasFiles() && r.usable(files), r.Scope.HasDatabase() && r.usable(tables)
	if !useFiles && !useTables {
		return nil
	}
	for _, t := range r.live() {
		var err error
		if t.has, err = partsIn(ctx, t, r.Site.Name); err != nil {
			t.fail(err)
		}
	}
	if err := r.allFailed(); err != nil {
		return err
	}
	if useTables {
		r.lastSQL = tables
	}
	if !useFiles {
		return nil
	}
	reuse, err := r.plan(ctx, files)
	if errors.Is(err, archive.ErrList) {
		r.observer.Note("note: what is remembered of the last archive cannot be read; this one is made afresh")
		return nil
	}
	r.reuse = reuse
	return err
}

// work reads files and databases side by side.
func (r *run) work(ctx context.Context) error {
	if r.Imported != nil {
		return r.importAll(ctx)
	}
	if r.HandMade != nil {
		if err := r.dumpHandMade(); err != nil {
			return err
		}
	} else if err := r.openDatabases(ctx); err != nil {
		return err
	}
	r.observer.Phase("backing up "+r.Site.Name, r.Expected)
	g, ctx := errgroup.WithContext(ctx)
	if r.Scope.HasFiles() {
		r.record.Origin.Roots = r.shownRoots(site.RootLabel, r.Site.Root)
		if r.Site.Above != "" {
			r.record.Origin.Roots[site.AboveLabel] = filepath.Dir(r.Site.Above)
		}
		g.Go(func() error { return r.packFiles(ctx) })
	}
	for i := range r.sources {
		r.dumpDatabase(ctx, g, &r.sources[i])
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return r.settleSends()
}

func (r *run) addGap(g archive.Gap) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.gaps = append(r.gaps, g)
}

// packFiles walks the webroot and makes parts of what it finds.
func (r *run) packFiles(ctx context.Context) error {
	g, ctx := errgroup.WithContext(ctx)
	jobs := make(chan job)
	names := &owners{}
	for range r.Workers {
		g.Go(func() error {
			enc, err := archive.NewEncoder()
			if err != nil {
				return err
			}
			k := &packer{disk: r.disk, names: names, enc: enc, to: r.To, reown: r.reown(), gap: r.addGap, pace: r.observer.Advance, whole: func(file string) (string, error) {
				scratch, err := r.scratchIn()
				if err != nil {
					return "", err
				}
				return r.CopyDatabase(ctx, file, scratch)
			}, isDatabase: r.IsDatabase}
			for j := range jobs {
				if err := r.packJob(ctx, k, j); err != nil {
					return err
				}
			}
			return nil
		})
	}
	g.Go(func() error {
		defer close(jobs)
		return r.walk(ctx, func(j job) error {
			select {
			case jobs <- j:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	})
	return g.Wait()
}

// walk meets every path: files go to jobs, the rest into the tree part.
func (r *run) walk(ctx context.Context, emit func(job) error) error {
	tree, err := newTreePart(r.spool, r.To)
	if err != nil {
		return err
	}
	defer tree.abandon()
	p := &planner{emit: emit}
	add := func(e archive.Entry) error {
		if e.Type == archive.TypeFolder {
			r.record.Totals.Folders++
		} else {
			r.record.Totals.Links++
		}
		if r.HandMade != nil && r.HandMade.Own != nil {
			r.HandMade.Own(&e)
		}
		return errors.Join(tree.add(e), r.list.Add(e))
	}
	w := &walker{disk: r.disk, site: r.Site, isDatabase: r.IsDatabase, gap: r.addGap,
		file: func(f planned) error { return r.meet(p, f) },
		tree: add,
		skip: func(_, rule string) {
			if rule != "" {
				r.skipped[rule]++
				r.record.Totals.Skipped++
			}
		}}
	switch {
	case r.Imported != nil:
		err = r.meetImported(p, add)
	case r.met != nil && !r.met.full:
		err = r.met.replay(w)
	default:
		err = w.walk(ctx)
	}
	if err != nil {
		return err
	}
	if err := p.finish(); err != nil {
		return err
	}
	if err := r.nameAgain(tree); err != nil {
		return err
	}
	part, file, err := tree.finish()
	if err != nil {
		return err
	}
	r.treePart = part.Name
	return r.publish(numbered{p.seq + 1, part}, file)
}

// meet takes a file into the list as it was saved before, or has it saved.
func (r *run) meet(p *planner, f planned) error {
	if r.reuse == nil {
		return p.add(f)
	}
	l, same, err := r.reuse.take(f)
	if err != nil {
		return err
	}
	if !same {
		return p.add(f)
	}
	r.count([]archive.Entry{{Size: l.Size}})
	r.observer.Advance(l.Size)
	return r.list.AddLines(l)
}

// nameAgain takes the parts that are reused into the archive, before all new
// ones, and notes what in them does not belong to it.
func (r *run) nameAgain(tree *treePart) error {
	if r.reuse == nil {
		return nil
	}
	parts, err := r.reuse.finish()
	if err != nil {
		return err
	}
	r.mu.Lock()
	for i, part := range parts {
		r.files = append(r.files, numbered{i - len(parts), part})
	}
	r.reusedParts += len(parts)
	r.mu.Unlock()
	for _, part := range slices.Sorted(maps.Keys(r.reuse.stale)) {
		if err := tree.stale(part, r.reuse.stale[part]); err != nil {
			return err
		}
	}
	return nil
}

// packJob makes one part, again if a file in it changed meanwhile.
func (r *run) packJob(ctx context.Context, k *packer, j job) error {
	for {
		j.tries++
		out, err := r.spool.create()
		if err != nil {
			return err
		}
		part, entries, err := k.pack(ctx, j, out)
		var moving *movingError
		if errors.As(err, &moving) {
			r.spool.discard(out)
			if j.tries > mostTries {
				f := j.files[moving.index]
				r.addGap(archive.Gap{Path: f.name, Kind: archive.GapMoving, Why: errMoving.Error()})
				j.files = slices.Delete(slices.Clone(j.files), moving.index, moving.index+1)
			}
			continue
		}
		if err != nil {
			r.spool.discard(out)
			return err
		}
		if len(entries) == 0 {
			r.spool.discard(out)
			return nil
		}
		if err := r.list.Add(entries...); err != nil {
			return err
		}
		r.count(entries)
		return r.publish(numbered{j.seq, part}, out)
	}
}

// reown is what gives files of a hand-made copy their owner, or nil.
func (r *run) reown() func(*archive.Entry) {
	if r.HandMade == nil {
		return nil
	}
	return r.HandMade.Own
}

func (r *run) count(entries []archive.Entry) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range entries {
		r.record.Totals.Files++
		r.record.Totals.FileBytes += e.Size
	}
}

// publish hands a finished part to the stores and notes it for the record.
func (r *run) publish(n numbered, file *disk.File) error {
	r.mu.Lock()
	r.files = append(r.files, n)
	r.mu.Unlock()
	return r.sendPart(n.part, file)
}

func (r *run) sendPart(part archive.Part, file *disk.File) error {
	return r.send(archive.PartPath(r.Site.Name, part.Name), part.Bytes, file, func(fresh bool) {
		r.mu.Lock()
		defer r.mu.Unlock()
		if fresh {
			r.newBytes += part.Bytes
		}
	})
}

// seal writes the list and then the record: only now there is an archive.
func (r *run) seal(ctx context.Context) error {
	slices.SortFunc(r.files, func(a, b numbered) int { return a.seq - b.seq })
	for _, n := range r.files {
		r.record.Parts = append(r.record.Parts, n.part)
	}
	for _, d := range r.sources {
		r.record.Parts = append(r.record.Parts, d.parts...)
	}
	r.record.Parts = append(r.record.Parts, r.texts...)
	local, listName, err := r.writeList()
	if err != nil {
		return fmt.Errorf("write the list: %w", err)
	}
	slices.SortFunc(r.gaps, func(a, b archive.Gap) int { return archive.ComparePaths(a.Path, b.Path) })
	r.record.Gaps = r.gaps
	r.record.Finished = r.Now().UTC().Truncate(time.Millisecond)
	r.record.Objects(func(_ string, bytes int64, _ string) { r.record.Totals.StoredBytes += bytes })
	r.record.Totals.NewBytes = r.newBytes + r.record.List.Bytes
	if err := r.writeRecords(ctx); err != nil {
		return err
	}
	if r.Imported == nil && r.HandMade == nil {
		err = r.keep(local, listName)
	} else {
		err = r.disk.Remove(filepath.Join(r.State.Previous(r.Site.Name), listName))
	}
	if len(r.To) > 0 {
		err = errors.Join(err, keepOpen(r.State, &r.record))
	}
	if err != nil {
		r.observer.Note("note: the next archive will be made afresh: " + err.Error())
	}
	return errors.Join(r.endLedger(context.WithoutCancel(ctx)), r.disk.RemoveAll(r.spool.dir))
}

// endLedger ends a run that leaves nothing to clear up. When a mark cannot be
// taken away, the ledger stays, so that the next run tries again.
func (r *run) endLedger(ctx context.Context) error {
	if r.withdraw(ctx) != nil {
		return r.ledger.file.Close()
	}
	return r.ledger.close()
}

// writeRecords writes the record to every store that has all of the archive.
func (r *run) writeRecords(ctx context.Context) error {
	stored := &r.record
	if len(r.To) > 0 {
		var err error
		if stored, err = r.record.Seal(r.To); err != nil {
			return err
		}
	}
	data, err := stored.Encode()
	if err != nil {
		return err
	}
	if _, err := r.ledger.note(r.record.Path()); err != nil {
		return err
	}
	var g errgroup.Group
	for _, t := range r.live() {
		g.Go(func() error {
			if err := r.writeRecord(ctx, t, data); err != nil {
				t.fail(err)
			}
			return nil
		})
	}
	_ = g.Wait() // failures are kept in the targets
	return r.allFailed()
}

func (r *run) writeRecord(ctx context.Context, t *target, data []byte) error {
	if err := PutSame(ctx, t, readmeName, readmeText); err != nil {
		return err
	}
	if len(r.KeyFile) > 0 {
		if err := PutSame(ctx, t, KeyName, r.KeyFile); err != nil {
			return err
		}
	}
	if err := t.complete(ctx, &r.record); err != nil {
		return err
	}
	if err := putBytes(ctx, t, r.record.Path(), data); err != nil {
		return fmt.Errorf("write the record: %w", err)
	}
	return nil
}

// writeList writes the list to the stores and an open copy of it to the state
// folder, for the next run.
func (r *run) writeList() (local *summer, localName string, err error) {
	out, err := r.spool.create()
	if err != nil {
		return nil, "", err
	}
	localName = r.record.Name + ".lines.zst"
	copied, err := r.createLocalList(localName)
	if err != nil {
		r.spool.discard(out)
		return nil, "", err
	}
	defer copied.Close()
	sum, local := newSummer(out), newSummer(copied)
	lines, err := r.fillList(sum, local)
	if err == nil {
		err = errors.Join(sum.flush(), local.flush())
	}
	if err != nil {
		r.spool.discard(out)
		return nil, "", err
	}
	r.record.List = archive.ListRef{Bytes: sum.n, SHA256: sum.hex(), Lines: lines}
	if err := r.send(r.record.ListPath(), sum.n, out, func(bool) {}); err != nil {
		return nil, "", err
	}
	return local, localName, r.settleSends()
}

func (r *run) createLocalList(name string) (*disk.File, error) {
	dir := r.State.Previous(r.Site.Name)
	if err := r.disk.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	return r.disk.OpenFile(filepath.Join(dir, name), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
}

// fillList writes the list to sum, encrypted if need be, and open to local.
func (r *run) fillList(sum, local io.Writer) (int64, error) {
	if len(r.To) == 0 {
		return r.list.Finish(sum, local, r.treePart)
	}
	sealed, err := r.To.Writer(sum)
	if err != nil {
		return 0, err
	}
	lines, err := r.list.Finish(sealed, local, r.treePart)
	return lines, errors.Join(err, sealed.Close())
}

// forget removes the parts that a failed run has written, once nothing is on
// its way any more.
func (r *run) forget() error {
	if r.ledger == nil {
		return nil
	}
	_ = r.settleSends() // what failed is being forgotten
	ctx := context.Background()
	_ = r.ledger.file.Close()
	return sweep(ctx, r.State, r.Site.Name, r.Stores)
}

func (r *run) closeDatabases() {
	for _, d := range r.sources {
		if d.snapshot != nil {
			_ = d.snapshot.Close()
		}
		_ = d.source.Close()
	}
}

// scratchIn is where engines may put passing copies.
func (r *run) scratchIn() (string, error) {
	dir := filepath.Join(r.spool.dir, "scratch")
	return dir, r.disk.MkdirAll(dir, 0o700)
}
