// Package backup takes archives: it reads a site's files and databases and
// writes parts, a list and, last of all, the record to the site's stores.
package backup

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archive"
	"revlet/internal/database"
	"revlet/internal/disk"
	"revlet/internal/observe"
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
}

// Result is what came of a job.
type Result struct {
	Record *archive.Record
	// Skipped maps the rule that left paths out to how many.
	Skipped map[string]int64
	// Neighbours are tables of other sites in a shared database, left out.
	Neighbours []string
	Took       time.Duration
}

// ErrInsideWebroot is wrapped when a store or the state folder lies in the
// webroot, where anyone could download what is in it.
var ErrInsideWebroot = errors.New("lies inside the webroot, where anyone could download it")

// Run takes an archive. The caller holds the site's lock. Until the record is
// written, last of all, there is no archive: whatever fails before leaves
// nothing that a later run takes for good. When a table is altered meanwhile,
// all is begun again, a few times.
func Run(ctx context.Context, j Job) (*Result, error) {
	for try := 1; ; try++ {
		result, err := once(ctx, j)
		if !errors.Is(err, database.ErrChanged) || try == mostTries {
			return result, err
		}
		observe.Or(j.Observer).Note(fmt.Sprintf("note: %v; beginning again", err))
	}
}

func once(ctx context.Context, j Job) (*Result, error) {
	r := &run{Job: j, disk: j.State.Disk, observer: observe.Or(j.Observer), skipped: map[string]int64{}}
	if r.Now == nil {
		r.Now = time.Now
	}
	if r.Workers == 0 {
		r.Workers = 2
	}
	if err := r.prepare(ctx); err != nil {
		return nil, fmt.Errorf("back up %s: %w", j.Site.Name, err)
	}
	defer r.list.Close()
	defer r.closeDatabases()
	if err := r.work(ctx); err != nil {
		return nil, fmt.Errorf("back up %s: %w", j.Site.Name, errors.Join(err, r.forget()))
	}
	if err := r.seal(ctx); err != nil {
		return nil, fmt.Errorf("back up %s: %w", j.Site.Name, err)
	}
	return &Result{Record: &r.record, Skipped: r.skipped, Neighbours: r.neighbours, Took: r.Now().Sub(r.record.Taken)}, nil
}

type run struct {
	Job
	disk     *disk.Disk
	observer observe.Observer
	record   archive.Record
	list     *archive.ListWriter
	spool    *spool
	sources  []openDatabase

	mu         sync.Mutex
	files      []numbered
	gaps       []archive.Gap
	skipped    map[string]int64
	neighbours []string
	newBytes   int64
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
	for _, s := range r.Stores {
		if err := s.Check(ctx); err != nil {
			return fmt.Errorf("store %s: %w", s.Name, err)
		}
	}
	taken, err := r.pickTime(ctx)
	if err != nil {
		return err
	}
	host, _ := os.Hostname()
	r.record = archive.Record{Format: archive.Format, Name: archive.NewName(r.Site.Name, taken), Site: r.Site.Name,
		Taken: taken, Scope: r.Scope, Note: r.Note, Program: r.Program, Host: host,
		Origin: archive.Origin{Address: r.Site.Address, Version: r.Site.Version(), Skipped: r.Site.Skip}}
	if r.Site.Recipe != nil {
		r.record.Origin.Recipe = r.Site.Recipe.Name
	}
	if r.spool, err = newSpool(ctx, r.State, r.Site.Name, r.Stores); err != nil {
		return err
	}
	r.list = archive.NewListWriter(r.disk, r.spool.name)
	return nil
}

// pickTime returns the archive's moment: now, or a second later as long as an
// archive of that name exists.
func (r *run) pickTime(ctx context.Context) (time.Time, error) {
	t := r.Now().UTC().Truncate(time.Second)
	for {
		taken := false
		for _, s := range r.Stores {
			_, err := s.Stat(ctx, archive.RecordPath(r.Site.Name, archive.NewName(r.Site.Name, t)))
			if err == nil {
				taken = true
			} else if !errors.Is(err, store.ErrNotFound) {
				return t, fmt.Errorf("store %s: %w", s.Name, err)
			}
		}
		if !taken {
			return t, nil
		}
		t = t.Add(time.Second)
	}
}

// work reads files and databases side by side.
func (r *run) work(ctx context.Context) error {
	if err := r.openDatabases(ctx); err != nil {
		return err
	}
	r.observer.Phase("backing up "+r.Site.Name, r.Expected)
	g, ctx := errgroup.WithContext(ctx)
	if r.Scope.HasFiles() {
		r.record.Origin.Roots = map[string]string{site.RootLabel: r.Site.Root}
		maps.Copy(r.record.Origin.Roots, r.Site.Roots)
		if r.Site.Above != "" {
			r.record.Origin.Roots[site.AboveLabel] = filepath.Dir(r.Site.Above)
		}
		g.Go(func() error { return r.packFiles(ctx) })
	}
	for i := range r.sources {
		r.dumpDatabase(ctx, g, &r.sources[i])
	}
	err := g.Wait()
	return errors.Join(err, r.spool.wait())
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
			k := &packer{disk: r.disk, names: names, enc: enc, gap: r.addGap, pace: r.observer.Advance, whole: func(file string) (string, error) {
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
	tree, err := newTreePart(r.spool)
	if err != nil {
		return err
	}
	defer tree.abandon()
	p := &planner{emit: emit}
	w := &walker{disk: r.disk, site: r.Site, isDatabase: r.IsDatabase, file: p.add, gap: r.addGap,
		tree: func(e archive.Entry) error {
			if e.Type == archive.TypeFolder {
				r.record.Totals.Folders++
			} else {
				r.record.Totals.Links++
			}
			return errors.Join(tree.add(e), r.list.Add(e))
		},
		skip: func(_, rule string) {
			if rule != "" {
				r.skipped[rule]++
				r.record.Totals.Skipped++
			}
		}}
	if err := errors.Join(w.walk(ctx)); err != nil {
		return err
	}
	if err := p.finish(); err != nil {
		return err
	}
	part, file, err := tree.finish()
	if err != nil {
		return err
	}
	return r.publish(ctx, numbered{p.seq + 1, part}, file)
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
		return r.publish(ctx, numbered{j.seq, part}, out)
	}
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
func (r *run) publish(ctx context.Context, n numbered, file *disk.File) error {
	r.mu.Lock()
	r.files = append(r.files, n)
	r.mu.Unlock()
	return r.send(ctx, n.part, file)
}

func (r *run) send(ctx context.Context, part archive.Part, file *disk.File) error {
	return r.spool.send(ctx, archive.PartPath(r.Site.Name, part.Name), part.Bytes, file, func(fresh bool) {
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
	tree := ""
	for _, n := range r.files {
		r.record.Parts = append(r.record.Parts, n.part)
		if n.part.Kind == archive.KindTree {
			tree = n.part.Name
		}
	}
	for _, d := range r.sources {
		r.record.Parts = append(r.record.Parts, d.parts...)
	}
	if err := r.writeList(ctx, tree); err != nil {
		return fmt.Errorf("write the list: %w", err)
	}
	slices.SortFunc(r.gaps, func(a, b archive.Gap) int { return archive.ComparePaths(a.Path, b.Path) })
	r.record.Gaps = r.gaps
	r.record.Finished = r.Now().UTC().Truncate(time.Millisecond)
	seen := map[string]bool{}
	for _, p := range r.record.Parts {
		if !seen[p.Name] {
			r.record.Totals.StoredBytes += p.Bytes
			seen[p.Name] = true
		}
	}
	r.record.Totals.StoredBytes += r.record.List.Bytes
	r.record.Totals.NewBytes = r.newBytes + r.record.List.Bytes
	data, err := r.record.Encode()
	if err != nil {
		return err
	}
	for _, s := range r.Stores {
		if err := writeReadme(ctx, s); err != nil {
			return fmt.Errorf("store %s: %w", s.Name, err)
		}
		if err := putBytes(ctx, s, archive.RecordPath(r.Site.Name, r.record.Name), data); err != nil {
			return fmt.Errorf("store %s: write the record: %w", s.Name, err)
		}
	}
	return r.spool.settle()
}

func (r *run) writeList(ctx context.Context, tree string) error {
	out, err := r.spool.create()
	if err != nil {
		return err
	}
	sum := newSummer(out)
	lines, err := r.list.Finish(sum, tree)
	if err == nil {
		err = sum.flush()
	}
	if err != nil {
		r.spool.discard(out)
		return err
	}
	r.record.List = archive.ListRef{Bytes: sum.n, SHA256: sum.hex(), Lines: lines}
	if err := r.spool.send(ctx, archive.ListPath(r.Site.Name, r.record.Name), sum.n, out, func(bool) {}); err != nil {
		return err
	}
	return r.spool.wait()
}

// forget removes the parts that a failed run has written.
func (r *run) forget() error {
	return sweep(context.Background(), r.State, r.Site.Name, r.Stores)
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
