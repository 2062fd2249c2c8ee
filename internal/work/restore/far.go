package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/site"
	"revlet/internal/site/tree"
	"revlet/internal/store"
)

// This file exchanges files on another machine, where there are names and nothing else: no
// inodes by which a tree is known again, no exchange in one step. What changes places is a
// list of paths: the webroot as a whole, or the names in it, or the paths of a share. Each is
// renamed out of the site into the box, or out of the box into the site, and which of that
// was done is told by where it is: a rename never replaces anything. What has come to lie in
// the way meanwhile is kept among the strays in the box.

// wholeRoot is the path, among those that change places, that stands for a whole folder.
const wholeRoot = "."

// farMoves is how many renames are under way at a time.
const farMoves = 16

func (j *Journal) isFar() bool { return j.Files != nil && j.Files.On != "" }

// at is a URL of the plan as the machine has it.
func (f *FilesPlan) at(url string) string { return strings.TrimPrefix(url, f.On) }

// live, set and put are where a path of the site lies when it is live, set aside, and staged.
func (f *FilesPlan) live(rel string) string   { return path.Join(f.at(f.Root), rel) }
func (f *FilesPlan) setOut(rel string) string { return path.Join(f.at(f.aside()), rel) }
func (f *FilesPlan) setIn(rel string) string  { return path.Join(f.at(f.staged()), rel) }

// isThere tells whether a path is there on another machine.
func isThere(ctx context.Context, w tree.Writer, name string) (bool, error) {
	_, err := w.Lstat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// whole tells whether the folder changes places as a whole.
func (f *FilesPlan) whole() bool { return slices.Contains(f.NewNames, wholeRoot) }

// forget drops paths that nobody needs to bring back: they are neither live nor aside.
func (f *FilesPlan) forget(ctx context.Context, j *Journal) error {
	gone := make([]bool, len(f.OldNames))
	g, inGroup := errgroup.WithContext(ctx)
	g.SetLimit(farMoves)
	for i, rel := range f.OldNames {
		g.Go(func() error {
			live, err := isThere(inGroup, j.far, f.live(rel))
			if err != nil || live {
				return err
			}
			aside, err := isThere(inGroup, j.far, f.setOut(rel))
			gone[i] = !aside
			return err
		})
	}
	if err := g.Wait(); err != nil || !slices.Contains(gone, true) {
		return err
	}
	i := -1
	f.OldNames = slices.DeleteFunc(f.OldNames, func(string) bool { i++; return gone[i] })
	return j.save()
}

// swapFar puts what is live aside, and what is staged in its place.
func (f *FilesPlan) swapFar(ctx context.Context, j *Journal) error {
	if err := f.forget(ctx, j); err != nil {
		return err
	}
	err := f.eachMove(ctx, f.OldNames, func(ctx context.Context, rel string) error {
		done, err := isThere(ctx, j.far, f.setOut(rel))
		if err != nil || done {
			return err
		}
		return f.move(ctx, j, f.live(rel), f.setOut(rel))
	})
	if err == nil {
		err = f.eachMove(ctx, f.NewNames, func(ctx context.Context, rel string) error {
			return f.putFar(ctx, j, f.setIn(rel), f.live(rel))
		})
	}
	if err != nil {
		return err
	}
	return f.stayFar(ctx, j, f.at(f.aside()))
}

// revertFar is swapFar the other way round. What is live under a path counts as what the
// restore has put there only while what was there before is still aside.
func (f *FilesPlan) revertFar(ctx context.Context, j *Journal) error {
	err := f.eachMove(ctx, f.NewNames, func(ctx context.Context, rel string) error {
		staged, err := isThere(ctx, j.far, f.setIn(rel))
		if err != nil || staged {
			return err
		}
		if slices.Contains(f.OldNames, rel) {
			aside, err := isThere(ctx, j.far, f.setOut(rel))
			if err != nil || !aside {
				return err
			}
		}
		return f.move(ctx, j, f.live(rel), f.setIn(rel))
	})
	if err == nil {
		err = f.eachMove(ctx, f.OldNames, func(ctx context.Context, rel string) error {
			return f.putFar(ctx, j, f.setOut(rel), f.live(rel))
		})
	}
	if err != nil {
		return err
	}
	return errors.Join(f.stayFar(ctx, j, f.at(f.staged())), f.bringSince(ctx, j))
}

// eachMove moves many paths at a time. When one fails the others are not cut off: what was
// asked for and not answered may still be done over there, at a later moment.
func (f *FilesPlan) eachMove(ctx context.Context, names []string, move func(context.Context, string) error) error {
	var g errgroup.Group
	g.SetLimit(farMoves)
	for _, rel := range names {
		g.Go(func() error {
			if err := move(ctx, rel); err != nil {
				return fmt.Errorf("exchange %s: %w", rel, err)
			}
			return nil
		})
	}
	return g.Wait()
}

// move renames a path; one that is not there has nothing to move.
func (f *FilesPlan) move(ctx context.Context, j *Journal, from, to string) error {
	if err := f.ours(ctx, j.far, from, to); err != nil {
		return err
	}
	err := j.far.Rename(ctx, from, to)
	if errors.Is(err, fs.ErrNotExist) {
		if there, second := isThere(ctx, j.far, from); second == nil && !there {
			return nil
		}
	}
	return err
}

// moveOpened is move. Folders that are closed to their owner, which the account is, are opened
// for the moment: those that something is moved between, and one that is moved.
func (f *FilesPlan) moveOpened(ctx context.Context, j *Journal, from, to string) error {
	err := f.move(ctx, j, from, to)
	if !errors.Is(err, fs.ErrPermission) {
		return err
	}
	opened := map[string]tree.Attr{}
	for _, name := range []string{path.Dir(from), path.Dir(to), from} {
		info, failed := j.far.Lstat(ctx, name)
		if failed != nil || !closedToOwner(info) {
			continue
		}
		if j.far.Set(ctx, name, tree.Attr{Mode: info.Mode() | 0o700, ModTime: info.ModTime()}) == nil {
			opened[name] = tree.Attr{Mode: info.Mode(), ModTime: info.ModTime()}
		}
	}
	if len(opened) == 0 {
		return err
	}
	moved := f.move(ctx, j, from, to)
	err = moved
	// What was moved first: it cannot be reached once the folder above it is closed again.
	for _, name := range []string{from, path.Dir(from), path.Dir(to)} {
		was, closed := opened[name]
		if name == from && moved == nil {
			name = to
		}
		if closed {
			err = errors.Join(err, j.far.Set(ctx, name, was))
		}
	}
	return err
}

// putFar puts a path into the site, and what is in its way among the strays.
func (f *FilesPlan) putFar(ctx context.Context, j *Journal, from, to string) error {
	for try := 1; ; try++ {
		there, err := isThere(ctx, j.far, from)
		if err != nil || !there {
			return err
		}
		if err := f.move(ctx, j, from, to); !errors.Is(err, fs.ErrExist) || try == putTries {
			return err
		}
		if err := f.clearWay(ctx, j, to); err != nil {
			return err
		}
	}
}

// putTries is how often something that has come to lie in the way is moved out of it.
const putTries = 5

// clearWay moves what lies at a path of the site among the strays.
func (f *FilesPlan) clearWay(ctx context.Context, j *Journal, at string) error {
	there, err := isThere(ctx, j.far, at)
	if err != nil || !there {
		return err
	}
	strays := f.at(f.inBox("strays"))
	if err := j.far.Mkdir(ctx, strays); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return f.move(ctx, j, at, path.Join(strays, strings.ToLower(store.Token()[:12])))
}

// stayFar brings what stays from the tree that was live into the one that is.
func (f *FilesPlan) stayFar(ctx context.Context, j *Journal, was string) error {
	for _, rel := range f.Carried {
		if err := f.carryFar(ctx, j, was, rel); err != nil {
			return fmt.Errorf("keep the database file %s: %w", rel, err)
		}
	}
	for _, rel := range f.Kept {
		there, err := isThere(ctx, j.far, f.live(rel))
		if err == nil && !there {
			err = f.moveOpened(ctx, j, path.Join(was, rel), f.live(rel))
		}
		if err != nil {
			return fmt.Errorf("carry over %s: %w", rel, err)
		}
	}
	for _, rel := range f.Links {
		there, err := isThere(ctx, j.far, f.live(rel))
		if err == nil && !there {
			err = f.move(ctx, j, path.Join(was, rel), f.live(rel))
		}
		if err != nil && (j.Phase != Swapping || !tree.Refused(err)) {
			return fmt.Errorf("carry over %s: %w", rel, err)
		}
		if err != nil { // some servers do not touch one that leads out of what they show
			j.unlinked = append(j.unlinked, f.Label+"/"+rel)
		}
	}
	return nil
}

// carryFar moves a database file and its logs, itself last. In the moment before, the site
// may have made an empty one in its place.
func (f *FilesPlan) carryFar(ctx context.Context, j *Journal, was, rel string) error {
	still, err := isThere(ctx, j.far, path.Join(was, rel))
	if err != nil || !still {
		return err // done, or never there
	}
	stray, err := isThere(ctx, j.far, f.live(rel))
	if err != nil {
		return err
	}
	for _, suffix := range databaseFiles {
		if stray {
			if err := f.clearWay(ctx, j, f.live(rel+suffix)); err != nil {
				return err
			}
		}
	}
	for _, suffix := range databaseFiles {
		if err := f.move(ctx, j, path.Join(was, rel+suffix), f.live(rel+suffix)); err != nil {
			return err
		}
	}
	return nil
}

// ours refuses, for an account that may write everywhere, to rename anything in folders into
// which others could put a link meanwhile. Whoever owns the site has no more to gain than he
// has.
func (f *FilesPlan) ours(ctx context.Context, w tree.Writer, names ...string) error {
	f.account.mu.Lock()
	defer f.account.mu.Unlock()
	if !f.account.known {
		box, err := w.Lstat(ctx, f.at(f.Box))
		if err != nil {
			return err
		}
		st, ok := tree.StatOf(box)
		f.account.known, f.account.root = true, ok && !st.Unowned && st.UID == 0
		f.account.alone = map[string]bool{}
	}
	for _, name := range names {
		dir := path.Dir(name)
		if !f.account.root || f.account.alone[dir] {
			continue
		}
		if err := onlyRootsThere(ctx, w, dir); err != nil {
			return err
		}
		f.account.alone[dir] = true // nobody but root can change that
	}
	return nil
}

// account is what is known of the account on another machine.
type account struct {
	mu          sync.Mutex
	known, root bool
	alone       map[string]bool
}

// onlyRootsThere refuses a folder that another account than root could replace, or rename
// something in.
func onlyRootsThere(ctx context.Context, w tree.Writer, dir string) error {
	above := []string{dir}
	for at := dir; at != "/"; above = append(above, at) {
		at = path.Dir(at)
	}
	faults := make([]error, len(above))
	var all sync.WaitGroup
	for i, at := range above { // each is a journey
		all.Go(func() { faults[i] = rootsThere(ctx, w, at) })
	}
	all.Wait()
	for _, err := range faults {
		if err != nil {
			return err
		}
	}
	return nil
}

// rootsThere is onlyRootsThere for one folder of the path.
func rootsThere(ctx context.Context, w tree.Writer, at string) error {
	info, err := w.Lstat(ctx, at)
	if err != nil {
		return err
	}
	st, known := tree.StatOf(info)
	others := info.Mode().Perm()&0o002 != 0 || info.Mode().Perm()&0o020 != 0 && st.GID != 0
	if !known || !info.IsDir() || st.UID != 0 || others && info.Mode()&fs.ModeSticky == 0 {
		return fmt.Errorf("%s is not root's alone, so that root cannot safely exchange what is in it: use the account there that the site's files belong to", at)
	}
	return nil
}

// removeFarBox removes the box on another machine. It gets another name first: whatever was
// asked for on a connection that broke, and is done only now, finds nothing. What has gone
// aside that way, and should not have, goes back.
func (f *FilesPlan) removeFarBox(ctx context.Context, j *Journal) error {
	if err := f.safeFarBox(); err != nil {
		return err
	}
	box, gone := f.at(f.Box), f.at(f.Box)+goneSuffix
	err := j.far.Rename(ctx, box, gone)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrExist) {
		err = nil // an earlier run has come as far
	}
	if err == nil && j.Phase != Settling && j.Phase != Done {
		err = f.eachMove(ctx, f.OldNames, func(ctx context.Context, rel string) error {
			from := path.Join(gone, "old", rel)
			there, err := isThere(ctx, j.far, from)
			if err == nil && there {
				err = j.far.Rename(ctx, from, f.live(rel))
			}
			return err
		})
	}
	for _, left := range []string{f.probe(), box, gone} {
		if err == nil && (left != f.probe() || !f.Inner) {
			err = j.remove(f.On+left, func() error { return j.far.RemoveAll(ctx, left) })
		}
	}
	if err != nil {
		return fmt.Errorf("remove %s: %w", f.Box, err)
	}
	return nil
}

// goneSuffix ends the name of a box that is being removed.
const goneSuffix = "-gone"

// safeFarBox is safeBox for another machine.
func (f *FilesPlan) safeFarBox() error {
	box, root := f.at(f.Box), f.at(f.Root)
	if f.On == "" || !path.IsAbs(box) || path.Clean(box) != box || !strings.HasPrefix(path.Base(box), site.LeftoverPrefix) || path.Dir(box) != path.Dir(root) && path.Dir(box) != root {
		return fmt.Errorf("%q is not a folder that Revlet set aside", f.Box)
	}
	return nil
}

// closeFar begins a phase and closes the site, as closeSite does.
func (j *Journal) closeFar(ctx context.Context, p Phase) error {
	if err := j.enter(p); err != nil {
		return err
	}
	if j.Switch == "" {
		return nil
	}
	for _, file := range j.switches() {
		err := j.far.Create(ctx, file, []byte(j.SwitchText), 0o644)
		// To have the site back is worth more than to have it closed meanwhile.
		if err != nil && !errors.Is(err, fs.ErrExist) && !errors.Is(err, fs.ErrNotExist) && p != Undoing {
			return fmt.Errorf("close the site for maintenance: %w", err)
		}
	}
	time.Sleep(j.drain)
	return nil
}

// switches are all places where the file is that closes the site. One in a tree that is
// aside, or staged, closes it at the moment of the exchange.
func (j *Journal) switches() []string {
	f := j.Files
	all := []string{f.live(j.Switch)}
	if f.whole() {
		all = append(all, f.setIn(j.Switch), f.setOut(j.Switch))
	}
	return all
}

// openFar takes the files away that close the site, and gives the root its own time.
func (j *Journal) openFar(ctx context.Context) error {
	if j.Switch != "" {
		for _, file := range j.switches() {
			if err := j.far.RemoveAll(ctx, file); err != nil {
				return fmt.Errorf("end the maintenance: %w", err)
			}
		}
	}
	for _, f := range j.plans() {
		is := f.StagedTime
		if j.Phase == Undoing || !f.whole() {
			is = f.LiveTime
		}
		info, err := j.far.Lstat(ctx, f.live("."))
		if errors.Is(err, fs.ErrNotExist) || err == nil && (is.IsZero() || !info.IsDir()) {
			continue
		}
		if err == nil {
			err = j.far.Set(ctx, f.live("."), tree.Attr{Mode: info.Mode(), ModTime: is})
		}
		if err != nil {
			return fmt.Errorf("end the maintenance: %w", err)
		}
	}
	return nil
}
