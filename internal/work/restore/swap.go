package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/database"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// swap lets the staged and the live state change places. It can be called
// again after a crash at any point.
func swap(ctx context.Context, d *disk.Disk, j *Journal, targets map[string]database.Target) error {
	if err := closeSite(ctx, d, j, Swapping); err != nil {
		return err
	}
	for _, p := range j.Databases {
		if err := targets[p.Label].Swap(ctx, p); err != nil {
			return fmt.Errorf("database %s: %w", p.Label, err)
		}
	}
	for _, f := range j.plans() {
		if err := f.swap(ctx, d, j); err != nil {
			return fmt.Errorf("files: %w", err)
		}
	}
	if err := openSite(ctx, d, j); err != nil {
		return err
	}
	for _, p := range j.Databases {
		if err := dropEmptyStage(ctx, targets[p.Label], p); err != nil {
			return fmt.Errorf("database %s: %w", p.Label, err)
		}
	}
	return j.enter(Done)
}

// swapOrTakeBack swaps; when that fails it puts the site back as it was.
func swapOrTakeBack(ctx context.Context, d *disk.Disk, j *Journal, targets map[string]database.Target) error {
	err := swap(ctx, d, j, targets)
	if err == nil || errors.Is(err, ErrTakenOver) {
		return err // it is another computer's to end
	}
	if back := takeBack(ctx, d, j, targets); back != nil {
		return reason.New(reason.HalfRestored, reason.Names{"site": j.Site, "archive": j.Archive}, "%w; putting the site back failed too: %w", err, back)
	}
	return fmt.Errorf("%w; the site was put back as it was", err)
}

// dropEmptyStage removes the staging place once nothing is in it.
func dropEmptyStage(ctx context.Context, t database.Target, p *database.Plan) error {
	if p.Stage == p.Live && p.Rows == nil {
		return nil
	}
	return t.DropStage(ctx, p)
}

// takeBack puts back what a restore set aside and deletes what it had staged.
func takeBack(ctx context.Context, d *disk.Disk, j *Journal, targets map[string]database.Target) error {
	if err := j.canTakeBack(ctx, d, targets); err != nil {
		return err
	}
	if j.Phase == Done {
		if err := j.tablesFree(ctx, targets); err != nil {
			return err
		}
	}
	if err := closeSite(ctx, d, j, Undoing); err != nil {
		return err
	}
	for _, p := range j.Databases {
		if err := targets[p.Label].Revert(ctx, p); err != nil {
			return fmt.Errorf("database %s: %w", p.Label, err)
		}
	}
	for _, f := range j.plans() {
		if err := f.revert(ctx, d, j); err != nil {
			return fmt.Errorf("files: %w", err)
		}
	}
	if err := errors.Join(j.revertAbove(ctx, d), openSite(ctx, d, j)); err != nil {
		return err
	}
	// Once something is deleted, where things are no longer tells what was done.
	if err := j.enter(Clearing); err != nil {
		return err
	}
	return revertStage(ctx, d, j, targets)
}

// canTakeBack refuses to begin to take back what cannot be: whatever was set aside has to be there, all of it. Nothing is
// changed. What has begun is only looked at on its way.
func (j *Journal) canTakeBack(ctx context.Context, d *disk.Disk, targets map[string]database.Target) error {
	if j.Phase != Done {
		return nil
	}
	for _, f := range j.plans() {
		if err := f.asideIsThere(ctx, d, j); err != nil {
			return err
		}
		if f.On == "" {
			if err := NoMountsBelow(d, j.Site, f.Root); err != nil {
				return err
			}
		}
	}
	for _, p := range j.Databases {
		err := targets[p.Label].AsideThere(ctx, p)
		if errors.Is(err, database.ErrAsideGone) {
			err = j.gone(fmt.Errorf("database %s: %w", p.Label, err))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// gone is an error that says that something set aside is there no more.
func (j *Journal) gone(err error) error {
	return reason.Because(reason.AsideGone, reason.Names{"site": j.Site}, err)
}

// stagedIsThere refuses to begin to put live what is not all there.
func (j *Journal) stagedIsThere(ctx context.Context, d *disk.Disk, targets map[string]database.Target) error {
	for _, f := range j.plans() {
		if err := f.stagedIsThere(ctx, d, j); err != nil {
			return err
		}
	}
	for _, p := range j.Databases {
		if err := targets[p.Label].StageThere(ctx, p); err != nil {
			return fmt.Errorf("database %s: %w", p.Label, err)
		}
	}
	return nil
}

// tablesFree refuses to begin an exchange for which tables would have to be waited for, with the site closed.
func (j *Journal) tablesFree(ctx context.Context, targets map[string]database.Target) error {
	for _, p := range j.Databases {
		if err := targets[p.Label].Free(ctx, p); err != nil {
			return fmt.Errorf("database %s: %w", p.Label, err)
		}
	}
	return nil
}

// canSettle refuses to begin to delete what something is mounted in.
func (j *Journal) canSettle(d *disk.Disk) error {
	if j.Phase != Done {
		return nil
	}
	for _, f := range j.plans() {
		if f.On != "" {
			continue
		}
		if err := noMounts(d, reason.MountedAside, j.Site, f.Box); err != nil {
			return err
		}
	}
	return nil
}

// revertStage deletes everything that is staged or, after takeBack, left over.
func revertStage(ctx context.Context, d *disk.Disk, j *Journal, targets map[string]database.Target) error {
	var failed error
	for _, p := range j.Databases {
		t, ok := targets[p.Label]
		if !ok {
			continue
		}
		if err := errors.Join(t.DropStage(ctx, p), t.DropAside(ctx, p)); err != nil {
			failed = errors.Join(failed, fmt.Errorf("database %s: %w", p.Label, err))
		}
	}
	// The journal goes last: as long as it stands, a later run tries again.
	if failed = errors.Join(failed, removeBoxes(ctx, d, j)); failed != nil {
		return failed
	}
	return j.close()
}

// settle deletes what a restore set aside.
func settle(ctx context.Context, d *disk.Disk, j *Journal, targets map[string]database.Target) error {
	if err := j.canSettle(d); err != nil {
		return err
	}
	if err := j.enter(Settling); err != nil {
		return err
	}
	return revertStage(ctx, d, j, targets)
}

func removeBoxes(ctx context.Context, d *disk.Disk, j *Journal) error {
	boxes := map[string]bool{}
	for _, f := range j.plans() {
		if f.On == "" {
			boxes[f.Box] = true
		} else if err := f.removeFarBox(ctx, j); err != nil {
			return err
		}
	}
	for _, p := range j.Databases {
		if p.Engine == "sqlite" {
			boxes[filepath.Dir(p.Stage)] = true
		}
	}
	for box := range boxes {
		if err := safeBox(box); err != nil {
			return err
		}
		if err := noMounts(d, reason.MountedAside, j.Site, box); err != nil {
			return err
		}
		if err := j.remove(box, func() error { return d.RemoveAll(box) }); err != nil {
			return fmt.Errorf("remove %s: %w", box, err)
		}
	}
	return nil
}

// remove removes a box. One of which something can still not be removed when it is tried
// again, for it belongs to another account, is noted: the site is as it should be, and no
// later job is to fail of that.
func (j *Journal) remove(box string, all func() error) error {
	err := all()
	if errors.Is(err, fs.ErrPermission) {
		err = all()
	}
	if !errors.Is(err, fs.ErrPermission) {
		return err
	}
	j.left = append(j.left, box)
	return nil
}

// swap puts the staged tree in the webroot's place and the live one aside.
func (f *FilesPlan) swap(ctx context.Context, d *disk.Disk, j *Journal) error {
	if f.On != "" {
		return f.swapFar(ctx, j)
	}
	if f.Inner {
		if err := f.swapInner(d); err != nil {
			return err
		}
	} else if err := f.put(d, f.StagedInode, f.LiveInode, f.aside()); err != nil {
		return err
	}
	return errors.Join(f.moveCarried(d, f.aside()), f.bringKept(d, f.aside()))
}

// revert puts the tree that was live back and the restored one where it was
// staged.
func (f *FilesPlan) revert(ctx context.Context, d *disk.Disk, j *Journal) error {
	if f.On != "" {
		return f.revertFar(ctx, j)
	}
	if f.Inner {
		if err := f.revertInner(d); err != nil {
			return err
		}
	} else if err := f.put(d, f.LiveInode, f.StagedInode, f.staged()); err != nil {
		return err
	}
	return errors.Join(f.moveCarried(d, f.staged()), f.bringKept(d, f.staged()))
}

// put makes the tree with the inode want the webroot and moves the other one to
// a place in the box. An inode of 0 stands for no tree at all. The trees are
// told apart by their inodes, so that it can be called again wherever an
// earlier call has stopped.
func (f *FilesPlan) put(d *disk.Disk, want, other uint64, place string) error {
	now, err := inode(d, f.Root)
	if err != nil {
		return err
	}
	switch {
	case now == want:
	case want == 0:
		if err := d.RenameNoLinks(f.Root, place); err != nil {
			return err
		}
	default:
		from, err := f.find(d, want)
		if err != nil {
			return err
		}
		if err := f.carry(d, f.Root, from); err != nil {
			return err
		}
		if err := f.exchange(d, from, now != 0); err != nil {
			return err
		}
	}
	for _, at := range []string{f.staged(), f.aside()} {
		now, err := inode(d, at)
		if err != nil {
			return err
		}
		if at != place && now != 0 && now == other {
			if err := d.RenameNoLinks(at, place); err != nil {
				return err
			}
		}
	}
	return errors.Join(d.SyncDir(f.Box), d.SyncDir(filepath.Dir(f.Root)))
}

// asideIsThere refuses to begin to take back what cannot be: the tree that was live is known by its number, which changes when
// a machine is copied. Where single paths changed places, each of them has to be there, but for those that stay in whatever tree is live.
func (f *FilesPlan) asideIsThere(ctx context.Context, d *disk.Disk, j *Journal) error {
	switch {
	case f.On != "":
		return f.pathsAreThere(j, func(rel string) (bool, error) { return isThere(ctx, j.far, f.setOut(rel)) })
	case f.Inner && j.Partial: // what was deleted beside the share since is not there either: see keepSince
		there, err := d.Exists(f.aside())
		if err != nil || there {
			return err
		}
		return j.gone(database.Gone(database.ErrAsideGone, []string{filepath.Base(f.aside())}, f.Box))
	case f.Inner:
		return f.pathsAreThere(j, func(rel string) (bool, error) { return d.Exists(filepath.Join(f.aside(), rel)) })
	case f.LiveInode == 0:
		return nil
	}
	if now, err := inode(d, f.Root); err != nil || now == f.LiveInode {
		return err
	}
	if _, err := f.find(d, f.LiveInode); err != nil {
		return j.gone(err)
	}
	return nil
}

// pathsAreThere looks for each path that went aside.
func (f *FilesPlan) pathsAreThere(j *Journal, isThere func(rel string) (bool, error)) error {
	gone, err := f.lacking(f.OldNames, isThere)
	if err == nil {
		err = j.gone(database.Gone(database.ErrAsideGone, gone, f.aside()))
	}
	return err
}

// stagedIsThere refuses to begin to put live what is not all there: whoever owns the folder, or the account on another machine,
// may have taken some of it away. The exchange itself takes what is not there for what it has put live before.
func (f *FilesPlan) stagedIsThere(ctx context.Context, d *disk.Disk, j *Journal) error {
	look := func(rel string) (bool, error) { return d.Exists(filepath.Join(f.staged(), rel)) }
	switch {
	case f.On != "":
		look = func(rel string) (bool, error) { return isThere(ctx, j.far, f.setIn(rel)) }
	case !f.Inner:
		return nil // told by its number
	}
	gone, err := f.lacking(f.NewNames, look)
	return cmp.Or(err, database.Gone(database.ErrStageGone, gone, f.staged()))
}

// lacking asks for each of some paths, several at a time, and returns those that are not there, but for what stays in whatever
// tree is live.
func (f *FilesPlan) lacking(names []string, isThere func(rel string) (bool, error)) (gone []string, err error) {
	stays := slices.Concat(f.Kept, f.Links)
	for _, file := range f.Carried {
		for _, suffix := range databaseFiles {
			stays = append(stays, file+suffix)
		}
	}
	missing := make([]bool, len(names))
	var g errgroup.Group
	g.SetLimit(farMoves)
	for i, rel := range names {
		if slices.Contains(stays, rel) {
			continue
		}
		g.Go(func() error {
			there, err := isThere(rel)
			missing[i] = !there
			return err
		})
	}
	err = g.Wait()
	for i, rel := range names {
		if missing[i] {
			gone = append(gone, rel)
		}
	}
	return gone, err
}

// find returns where in the box the tree with an inode is.
func (f *FilesPlan) find(d *disk.Disk, want uint64) (string, error) {
	for _, at := range []string{f.staged(), f.aside(), f.spare()} {
		now, err := inode(d, at)
		if err != nil || now == want {
			return at, err
		}
	}
	return "", fmt.Errorf("the tree that belongs at %s is no longer in %s", f.Root, f.Box)
}

// exchange lets a tree in the box and the webroot change places: in one atomic
// step where the file system can, else by renames.
func (f *FilesPlan) exchange(d *disk.Disk, from string, occupied bool) error {
	if !occupied {
		return d.RenameNoLinks(from, f.Root)
	}
	err := d.ExchangeNoLinks(from, f.Root)
	if err == nil || !disk.ExchangeUnsupported(err) {
		return err
	}
	if err := d.RenameNoLinks(from, f.spare()); err != nil {
		return err
	}
	if err := d.RenameNoLinks(f.Root, from); err != nil {
		return err
	}
	return d.RenameNoLinks(f.spare(), f.Root)
}

// databaseFiles are the endings of a database file and its logs, itself last.
var databaseFiles = []string{"-wal", "-journal", "-shm", ""}

// trees opens the tree that a database file is taken from and the one that it goes to.
// Whoever the site belongs to may change both meanwhile: no link leads out of them.
func trees(d *disk.Disk, from, to string, work func(from, to *disk.Root) error) error {
	a, err := openTree(d, from)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer a.Close()
	b, err := openTree(d, to)
	if err != nil {
		return err
	}
	defer b.Close()
	if err := work(a, b); err != nil {
		return fmt.Errorf("keep the database file: %w", err)
	}
	return nil
}

// there tells whether a path is in a tree, whatever it is.
func there(tree *disk.Root, rel string) (bool, error) {
	_, err := tree.Lstat(filepath.FromSlash(rel))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// carry links database files that stay what they are from the tree that is
// live into the one that is about to be.
func (f *FilesPlan) carry(d *disk.Disk, live, next string) error {
	if f.CarryByMove || len(f.Carried) == 0 {
		return nil
	}
	return trees(d, live, next, func(live, next *disk.Root) error {
		for _, rel := range f.Carried {
			// Without it there is nothing to carry, and what is in the other tree may
			// be the only one.
			if is, err := there(live, rel); err != nil || !is {
				if err != nil {
					return err
				}
				continue
			}
			for _, suffix := range databaseFiles {
				if err := carryOne(live, next, rel+suffix); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// carryOne gives a file a name in the tree that is about to be live, instead of what
// has that name now.
func carryOne(live, next *disk.Root, rel string) error {
	if err := next.Remove(filepath.FromSlash(rel)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if is, err := there(live, rel); err != nil || !is {
		return err
	}
	if err := next.MkdirAll(path.Dir(rel), 0o755); err != nil {
		return err
	}
	return live.LinkTo(filepath.FromSlash(rel), next, filepath.FromSlash(rel))
}

// moveCarried moves database files that stay what they are, and can have only one name,
// out of the tree that was live. In the moment before, the site may have made an empty
// one in their place.
func (f *FilesPlan) moveCarried(d *disk.Disk, from string) error {
	if !f.CarryByMove || len(f.Carried) == 0 {
		return nil
	}
	return trees(d, from, f.Root, func(was, is *disk.Root) error {
		for _, rel := range f.Carried {
			if still, err := there(was, rel); err != nil || !still {
				if err != nil {
					return err
				}
				continue // done
			}
			stray, err := there(is, rel)
			if err != nil {
				return err
			}
			for _, suffix := range databaseFiles {
				if !stray {
					break
				}
				if err := is.Remove(filepath.FromSlash(rel + suffix)); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
			}
			for _, suffix := range databaseFiles {
				if err := moveOne(was, is, rel+suffix); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

func moveOne(was, is *disk.Root, rel string) error {
	if still, err := there(was, rel); err != nil || !still {
		return err
	}
	if err := is.MkdirAll(path.Dir(rel), 0o755); err != nil {
		return err
	}
	if err := was.MoveTo(filepath.FromSlash(rel), is, filepath.FromSlash(rel)); err != nil {
		return err
	}
	return is.SyncDir(path.Dir(rel))
}

// noteCarried finds out how database files that stay are carried over: a file may be
// one that can have only one name. What is staged must have room for them where they are.
func (f *FilesPlan) noteCarried(d *disk.Disk) error {
	if len(f.Carried) == 0 {
		return nil
	}
	if err := d.MkdirAll(filepath.Join(f.Box, "probe"), 0o700); err != nil {
		return err
	}
	var live []string
	err := trees(d, f.Root, filepath.Join(f.Box, "probe"), func(tree, probe *disk.Root) error {
		for _, rel := range f.Carried {
			if is, err := there(tree, rel); err != nil || !is {
				if err != nil {
					return err
				}
				continue
			}
			live = append(live, rel)
			err := tree.LinkTo(filepath.FromSlash(rel), probe, "file")
			switch {
			case disk.LinkUnsupported(err):
				f.CarryByMove = true
				continue
			case errors.Is(err, fs.ErrNotExist):
				continue
			case err == nil:
				err = probe.Remove("file")
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return trees(d, f.staged(), f.staged(), func(staged, _ *disk.Root) error {
		for _, rel := range live {
			if err := staged.MkdirAll(path.Dir(rel), 0o755); err != nil {
				return fmt.Errorf("the archive has no folder for %s: %w", rel, err)
			}
		}
		return nil
	})
}

// AsidePlaces names, for people, where the replaced state lies.
func (j *Journal) AsidePlaces() []string {
	var all []string
	for _, f := range j.plans() {
		if f.replaced() {
			all = append(all, f.aside())
		}
	}
	for _, p := range j.Databases {
		tables := slices.ContainsFunc(p.Tables, func(m database.TableMove) bool { return m.Aside != "" })
		if p.Vacant || p.Engine == "mysql" && p.Rows == nil && !tables && len(p.Views) == 0 {
			continue // there was nothing
		}
		all = append(all, placeOf(p))
	}
	return all
}

// placeOf names, for people, where a database's replaced tables lie.
func placeOf(p *database.Plan) string {
	switch {
	case p.Engine == "sqlite" && p.Rows != nil:
		return "tables " + database.AsideNames + " in " + p.Live
	case p.Engine == "sqlite":
		return p.Aside
	case p.Engine == "postgres":
		return "schema " + p.Aside
	case p.Aside != p.Live:
		return "database " + p.Aside
	default:
		return "tables " + database.AsideNames + " in database " + p.Live
	}
}

// Outcome says what Recover, Undo or Settle did with one restore.
type Outcome struct {
	Journal *Journal
	// Did is reverted, finished, undone or settled.
	Did string
	// Notes are what a person should know about how that went.
	Notes []string
	// Left are folders in which something is left that was to be deleted, and belongs to
	// another account.
	Left []string
}

// Recoverer finishes or reverts restores.
type Recoverer struct {
	Site  *site.Site
	State *state.State
	Open  Opener
	// Drain is as in Job.
	Drain time.Duration
	// Place finds the machine with an address that a journal names; an error of it says that
	// none leads there.
	Place func(base string) (tree.Place, error)
	// Mirror is as in Job.
	Mirror *Mirror
	// settling ends a restore whatever is left of it.
	settling bool
}

// reach finds the machine that the files of a restore are on.
func (r Recoverer) reach(ctx context.Context, j *Journal) error {
	if j.Files == nil || j.Files.On == "" || j.far != nil {
		return nil
	}
	if r.Place == nil {
		return fmt.Errorf("its files are on %s, and nothing leads there", j.Files.On)
	}
	place, err := r.Place(j.Files.On)
	if err != nil {
		return err
	}
	w, ok := place.(tree.Writer)
	if !ok || place.Base() != j.Files.On {
		return fmt.Errorf("its files are on %s, and nothing leads there", j.Files.On)
	}
	j.far, j.keys = w, r.Mirror
	return r.sync(ctx, j)
}

// targets opens the databases of a restore, and finds its machine.
func (r Recoverer) targets(ctx context.Context, j *Journal) (map[string]database.Target, func(), error) {
	all := map[string]database.Target{}
	done := func() {
		for _, t := range all {
			_ = t.Close()
		}
	}
	if err := r.reach(ctx, j); err != nil {
		return all, done, err
	}
	for _, p := range j.Databases {
		t, err := r.target(ctx, j, p)
		if err != nil {
			return all, done, err
		}
		all[p.Label] = t
	}
	return all, done, nil
}

// target opens a database as it was reached then. When that account does not open it
// any more, the one of today's settings may, if they mean the same database.
func (r Recoverer) target(ctx context.Context, j *Journal, p *database.Plan) (database.Target, error) {
	then, known := j.Access[p.Label]
	now, there := r.Site.Database(p.Label)
	if !known && !there {
		return nil, fmt.Errorf("the site has no database %q any more", p.Label)
	}
	if !known {
		return r.Open(ctx, now, sqlite.FileMode{}, filepath.Dir(p.Stage))
	}
	t, err := r.Open(ctx, then, sqlite.FileMode{}, filepath.Dir(p.Stage))
	if err == nil || !there {
		return t, err
	}
	then.User, then.Password = now.User, now.Password
	if !then.Same(now) {
		return nil, err
	}
	t, second := r.Open(ctx, now, sqlite.FileMode{}, filepath.Dir(p.Stage))
	if second != nil {
		return nil, errors.Join(err, second)
	}
	return t, nil
}

// Recover brings a restore that died half-way to one of its two ends: back if
// nothing live had changed, to the end otherwise. The caller holds the site's
// lock.
func (r Recoverer) Recover(ctx context.Context) ([]Outcome, error) {
	journals, err := Journals(r.State, r.Site.Name)
	if err != nil {
		return nil, err
	}
	var all []Outcome
	for _, j := range journals {
		if j.Phase == Done {
			continue
		}
		did, err := r.finish(ctx, j)
		if err != nil {
			return all, fmt.Errorf("a restore of %s from %s stopped half-way (%s) and cannot be completed: %w", j.Site, j.Archive, j.Phase, err)
		}
		all = append(all, Outcome{Journal: j, Did: did, Left: j.left})
	}
	return all, nil
}

func (r Recoverer) finish(ctx context.Context, j *Journal) (string, error) {
	targets, done, err := r.targets(ctx, j)
	defer done()
	if err != nil {
		return "", err
	}
	switch j.Phase {
	case Staging, Clearing:
		return "reverted", revertStage(ctx, r.State.Disk, j, targets)
	case Done: // by another computer
		return "finished", nil
	case Swapping:
		return "finished", swap(ctx, r.State.Disk, j, targets)
	case Undoing:
		return "undone", takeBack(ctx, r.State.Disk, j, targets)
	case Settling:
		return "settled", settle(ctx, r.State.Disk, j, targets)
	default:
		return "", fmt.Errorf("the journal says %q, which this Revlet does not know", j.Phase)
	}
}

// ErrNothingAside is wrapped when there is no restore to undo or settle.
var ErrNothingAside = errors.New("no restore has set anything aside")

// Undo takes the newest restore back.
func (r Recoverer) Undo(ctx context.Context) (*Outcome, error) {
	journals, err := Journals(r.State, r.Site.Name)
	if err != nil {
		return nil, err
	}
	if len(journals) == 0 {
		return nil, fmt.Errorf("site %s: %w", r.Site.Name, ErrNothingAside)
	}
	j := journals[0]
	targets, done, err := r.targets(ctx, j)
	defer done()
	if err != nil {
		return nil, err
	}
	if j.Phase == Staging || j.Phase == Clearing || j.Phase == Settling {
		did, err := r.finish(ctx, j)
		return &Outcome{Journal: j, Did: did, Left: j.left}, err
	}
	j.drain = r.Drain
	for _, p := range j.Databases {
		p.Notes = nil // those of the restore
	}
	o := &Outcome{Journal: j, Did: "undone"}
	if j.Phase == Done {
		if o.Notes, err = j.keepSince(ctx, r.State.Disk); err != nil {
			return nil, fmt.Errorf("undo the restore of %s: %w", j.Archive, err)
		}
	}
	if err := takeBack(context.WithoutCancel(ctx), r.State.Disk, j, targets); err != nil {
		return nil, fmt.Errorf("undo the restore of %s: %w", j.Archive, err)
	}
	for _, p := range j.Databases {
		o.Notes = append(o.Notes, p.Notes...)
	}
	o.Left = j.left
	return o, nil
}

// CheckUndo refuses what Undo of a restore would refuse before it changes anything. The caller holds the site's lock.
func (r Recoverer) CheckUndo(ctx context.Context, j *Journal) error {
	targets, done, err := r.targets(ctx, j)
	defer done()
	if err != nil {
		return err
	}
	return j.canTakeBack(ctx, r.State.Disk, targets)
}

// CheckSettle is CheckUndo for Settle.
func (r Recoverer) CheckSettle(ctx context.Context, j *Journal) error {
	r.settling = true
	_, done, err := r.targets(ctx, j)
	defer done()
	if err != nil {
		return err
	}
	return j.canSettle(r.State.Disk)
}

// Settle deletes for good what every restore of the site has set aside.
func (r Recoverer) Settle(ctx context.Context) ([]Outcome, error) {
	journals, err := Journals(r.State, r.Site.Name)
	if err != nil {
		return nil, err
	}
	if len(journals) == 0 {
		return nil, fmt.Errorf("site %s: %w", r.Site.Name, ErrNothingAside)
	}
	var all []Outcome
	r.settling = true
	for _, j := range journals {
		targets, done, err := r.targets(ctx, j)
		if err == nil {
			err = settle(ctx, r.State.Disk, j, targets)
		}
		done()
		if err != nil {
			return all, fmt.Errorf("settle the restore of %s: %w", j.Archive, err)
		}
		all = append(all, Outcome{Journal: j, Did: "settled", Left: j.left})
	}
	return all, nil
}
