// Package backup takes archives: it reads a site's files and databases and
// writes parts, a list and, last of all, the record to the site's stores.
package backup

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/changes"
	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/signing"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/site/sitepath"
	"revlet/internal/site/tree"
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
	CopyDatabase func(ctx context.Context, in tree.Folder, name, scratch string) (string, error)
	// Now is the clock; nil means time.Now.
	Now      func() time.Time
	Observer progress.Observer
	// Expected is about how many bytes there are to read, 0 if that is not known.
	Expected int64
	// Workers is how many parts of files are made at a time; 0 means 2.
	Workers int
	// Ahead is how many bytes of small files far away each of them may hold that were read
	// ahead; 0 means 32 MiB.
	Ahead int64
	// Fresh has everything read, even what the last archive holds unchanged;
	// FreshEvery does so when that was last done so long ago, 0 never.
	Fresh      bool
	FreshEvery time.Duration
	// To are those whom the archive is encrypted for, RecipientNames the same as
	// text. KeyFile, if any, is a locked key that is left in every store.
	To             encryption.Recipients
	RecipientNames []string
	KeyFile        []byte
	// Key signs the record; nil leaves it unsigned.
	Key *signing.Key
	// Imported and HandMade make the archive of something else than the live
	// site: of a portable file, or of a copy that a person has made.
	Imported *Imported
	HandMade *HandMade
	// Damaged are objects that are known to be damaged, by store: they are
	// written again where the archive needs them.
	Damaged map[string]map[string]bool
	// Down are stores that are known not to work, by name, and why.
	Down map[string]error
	// Others maps folders of other sites to their names: nothing is stored in them.
	Others map[string]string
	// Restored is the archive that the site was put back from since its last archive was
	// taken; nil if it was not. What differs is then told from the one that it is nearer to.
	Restored *catalog.Held
	// Records, if not nil, are records of the site that were read already.
	Records *catalog.Cache
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
	// Vanished are parts of the archive before that a store has no more, or of another length, although it has that archive's
	// record, by store. What of them is the site's still is sent again.
	Vanished map[string][]string
	// Changes is what differs from the files of the archive before; nil when that
	// is not known.
	Changes *changes.Changes
	Took    time.Duration
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
			progress.Or(j.Observer).Note(fmt.Sprintf("note: store %s: %v; beginning again without it", full.Store, full.err))
		case errors.Is(err, database.ErrChanged) && try < mostTries:
			progress.Or(j.Observer).Note(fmt.Sprintf("note: %v; beginning again", err))
		default:
			return result, err
		}
	}
}

func once(ctx context.Context, j Job) (*Result, error) {
	r := &run{Job: j, disk: j.State.Disk, observer: progress.Or(j.Observer), skipped: map[string]int64{}, scrambled: map[string]bool{}}
	if r.Now == nil {
		r.Now = time.Now
	}
	if r.Workers == 0 {
		r.Workers = 2
	}
	if r.Ahead == 0 {
		r.Ahead = bytesAhead
	}
	r.began, r.beganThere = r.Now(), time.Now()
	r.put = func(t *target, o *object) error { return t.take(ctx, o) }
	defer r.close()
	clock := r.askClock(ctx)
	r.folders = OpenFolders(ctx, r.disk, r.Site)
	defer r.folders.Close()
	err := r.sayHidden()
	if err == nil {
		err = r.prepare(ctx)
	}
	clock() // before anything is read
	if err == nil {
		err = r.work(ctx)
	}
	if err == nil {
		err = r.seal(ctx)
	}
	if err != nil {
		return nil, fmt.Errorf("back up %s: %w", j.Site.Name, errors.Join(r.noRoom(err), r.forget()))
	}
	result := &Result{Record: &r.record, Skipped: r.skipped, Neighbours: r.neighbours, Reused: r.reusedParts, Changes: r.changes, Took: r.Now().Sub(r.began)}
	result.Mended, result.Vanished = map[string][]string{}, map[string][]string{}
	for _, t := range r.targets {
		result.Mended[t.Name] = t.mended
		if len(t.vanished) > 0 {
			result.Vanished[t.Name] = t.vanished
		}
		if err := t.err(); err != nil {
			result.Pending = append(result.Pending, Pending{t.Name, err})
		}
	}
	return result, nil
}

// askClock asks the clock of the site's own machine, which takes some journeys, while other things are done.
func (r *run) askClock(ctx context.Context) (wait func()) {
	if !r.Site.Far() || !r.Scope.HasFiles() {
		return func() {}
	}
	var asking sync.WaitGroup
	asking.Go(func() {
		there, known := r.Site.Place.Now(ctx)
		if !known {
			there = time.Now().Add(-farClock)
		}
		r.beganThere = there
	})
	return asking.Wait
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
	for _, t := range r.targets {
		t.stopRenewing()
	}
	if r.list != nil {
		r.list.Close()
	}
	if r.reuse != nil {
		r.reuse.c.stop()
	}
	r.closeDatabases()
}

// farClock is how far behind the clock of a site's machine may be where it cannot be told:
// what was changed since is read again.
const farClock = 48 * time.Hour

type run struct {
	Job
	// put sends one object to one store for as long as the whole run lasts: the
	// goroutines that make objects may end sooner.
	put   func(*target, *object) error
	began time.Time
	// beganThere is the same by the clock of the site's own machine, whatever Now says; one
	// that cannot be told may be far behind.
	beganThere time.Time
	disk       *disk.Disk
	folders    *Folders
	observer   progress.Observer
	record     archive.Record
	list       *archive.ListWriter
	spool      *spool
	ledger     *ledger
	targets    []*target
	// own is the store that takes scratch files over; nil when all are remote.
	own     adopter
	sources []openDatabase
	// reuse is set when parts of the last archive can be named again, lastSQL
	// when those of its databases can.
	reuse *reuse
	// walked is what the walk for reuse has met already.
	walked  *recording
	lastSQL *previous
	// before is what is remembered of the last archive's files, to compare with.
	before  *previous
	changes *changes.Changes
	// marks are what the servers vouch for later, by database.
	marks map[string]*database.Marks
	// through are names of the site's other folders, with the links that lead there.
	through     map[string][]string
	reusedParts int

	mu         sync.Mutex
	files      []numbered
	gaps       []archive.Gap
	skipped    map[string]int64
	neighbours []string
	newBytes   int64
	// scrambled are files that were read in this run and should be texts, but are none.
	scrambled map[string]bool
	// texts are parts of SQL that do not come from a live database.
	texts []archive.Part
	// treePart is the name of the part of kind tree.
	treePart string
	links    links
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
	// kept are the parts of tables that were not read.
	kept []archive.Part
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
	if r.Scope.HasFiles() {
		r.record.Origin.Roots = r.shownRoots(site.RootLabel, r.Site.Root)
		if r.Site.Above != "" {
			r.record.Origin.Roots[site.AboveLabel] = sitepath.Dir(r.Site.PathAt(r.Site.Above))
		}
	}
	r.record.Origin.Tidy()
	if err := r.record.Origin.Check(); err != nil {
		return fmt.Errorf("describe the site: %w", err)
	}
	r.observer.Phase("backing up "+r.Site.Name, r.Expected)
	g, ctx := errgroup.WithContext(ctx)
	if r.Scope.HasFiles() {
		g.Go(func() error { return r.packFiles(ctx) })
	}
	for i := range r.sources {
		r.dumpDatabase(ctx, g, &r.sources[i])
	}
	if err := g.Wait(); err != nil {
		return err
	}
	r.closeDatabases() // their copies go with the scratch folder
	return r.settleSends()
}

func (r *run) closeDatabases() {
	for i := range r.sources {
		d := &r.sources[i]
		if d.snapshot != nil {
			_ = d.snapshot.Close()
		}
		if d.source != nil {
			_ = d.source.Close()
		}
		d.snapshot, d.source = nil, nil
	}
}

// scratchIn is where engines may put passing copies.
func (r *run) scratchIn() (string, error) {
	dir := filepath.Join(r.spool.dir, "scratch")
	return dir, r.disk.MkdirAll(dir, 0o700)
}

// sayHidden says if the site's machine does not list everything.
func (r *run) sayHidden() error {
	if !r.Site.Far() || !r.Scope.HasFiles() {
		return nil
	}
	in, err := r.folders.In(site.RootLabel)
	if err != nil {
		return nil // it is told of where it is walked
	}
	t, ok := in.(tree.HiddenTeller)
	if !ok {
		return nil
	}
	hides, err := t.Hides()
	if err == nil && hides {
		r.observer.Note("note: no name in the webroot that begins with a dot was listed: if there are any, such as .htaccess, the server hides them, and they are missing from this archive")
	}
	return err
}
