package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/site"
	"revlet/internal/site/tree"
	"revlet/internal/work/send"
)

// This file stages for another machine. What is put back is made ready in a folder of this
// one, just as for a site that lives here, and then sent into the box there.

// findFar finds the site's machine if it is not this one. A database that is a file there is put
// back as a share of the folder that it lies in, of nothing else.
func (r *run) findFar() error {
	if files := r.filesInside(); r.Site.Far() && !r.Files && r.Database && r.Rows == nil && len(files) > 0 {
		r.Files, r.Selection = true, &FileSelection{Keep: func(string, string) bool { return false }, databases: true, roots: files}
	}
	if !r.Site.Far() || !r.Files {
		return nil
	}
	w, ok := r.Site.Place.(tree.Writer)
	if !ok {
		return fmt.Errorf("nothing can be written to %s yet", r.Site.Place.Base())
	}
	r.far, r.journal.far, r.journal.keys = w, w, r.Mirror
	return nil
}

// filesInside are the names of the archive's databases that are files in the site's folders, each with its logs.
func (r *run) filesInside() (names []string) {
	for _, db := range r.Site.Databases {
		label, rel, inside := r.Site.LiesIn(db)
		if _, held := r.Archive.Origin.Databases[db.Label]; inside && held {
			for _, suffix := range databaseFiles {
				names = append(names, label+"/"+rel+suffix)
			}
		}
	}
	return names
}

// planFarFolder is planFolder for another machine.
func (r *run) planFarFolder(ctx context.Context, label, dir string, need int64) (*FilesPlan, error) {
	base := r.Site.Place.Base()
	f := &FilesPlan{Label: label, On: base}
	root, live, err := r.farRoot(ctx, r.Site.PathAt(dir))
	if err != nil {
		return nil, fmt.Errorf("the folder %s: %w", dir, err)
	}
	if err := MayReplace(root); err != nil {
		return nil, err
	}
	if err := r.makeScratch(); err != nil {
		return nil, err
	}
	f.Root, f.shadow = base+root, filepath.Join(r.scratch, site.LeftoverPrefix+label)
	f.Box = base + path.Join(path.Dir(root), site.LeftoverPrefix+r.Site.Name+"-"+r.journal.ID+boxSuffix(label)+"-"+r.token)
	if live != nil {
		f.LiveTime = live.ModTime()
	}
	if free, known := r.far.Free(ctx, path.Dir(root)); known && free < need {
		return nil, fmt.Errorf("no room to stage: %s on %s has %d MiB free, %d MiB are needed, for the live site stays until the new one is complete", path.Dir(root), base, free>>20, need>>20)
	}
	if free, err := r.disk.Free(r.scratch); err == nil && free < need {
		return nil, fmt.Errorf("no room to make it ready here: %s has %d MiB free, %d MiB are needed", r.scratch, free>>20, need>>20)
	}
	return f, nil
}

// farRoot is a folder's path with links resolved, and what is there now; nil is nothing. The
// folder above it is made if it is missing.
func (r *run) farRoot(ctx context.Context, dir string) (string, fs.FileInfo, error) {
	root, err := r.far.Absolute(ctx, dir)
	if errors.Is(err, fs.ErrNotExist) && r.looks {
		return path.Clean(dir), nil, nil
	}
	if errors.Is(err, fs.ErrNotExist) {
		if err = r.makeAbove(ctx, path.Dir(dir)); err == nil {
			root, err = r.far.Absolute(ctx, path.Dir(dir))
			root = path.Join(root, path.Base(dir))
		}
	}
	if err != nil {
		return "", nil, err
	}
	root = path.Clean(root)
	if root == "/" {
		return "", nil, errors.New("it is all that the account sees there; the webroot has to be a folder in it")
	}
	info, err := r.far.Lstat(ctx, root)
	if errors.Is(err, fs.ErrNotExist) {
		return root, nil, r.makeAbove(ctx, path.Dir(root))
	}
	if err == nil && !info.IsDir() {
		err = tree.ErrNoFolder
	}
	return root, info, err
}

// makeAbove makes a folder that is missing, and those above it.
func (r *run) makeAbove(ctx context.Context, dir string) error {
	there, err := isThere(ctx, r.far, dir)
	if err != nil || there {
		return err
	}
	if err := r.makeAbove(ctx, path.Dir(dir)); err != nil {
		return err
	}
	if err := r.far.Mkdir(ctx, dir); err != nil {
		return err
	}
	return r.far.Set(ctx, dir, tree.Attr{Mode: 0o755})
}

// makeFarBoxes makes the boxes on another machine, beside the folders or, where that cannot be
// or nothing can be renamed from there, in them.
func (r *run) makeFarBoxes(ctx context.Context) error {
	for _, f := range r.journal.plans() {
		beside := r.tryBox(ctx, f)
		if beside == nil {
			continue
		}
		if errors.Is(beside, tree.ErrUnreachable) || f.LiveTime.IsZero() {
			return fmt.Errorf("make room beside %s: %w", f.Root, beside)
		}
		if err := f.removeFarBox(ctx, r.journal); err != nil {
			return err
		}
		f.Inner, f.Box = true, f.Root+"/"+path.Base(f.at(f.Box))
		if err := r.journal.save(); err != nil {
			return err
		}
		if err := r.tryBox(ctx, f); err != nil {
			return fmt.Errorf("make room beside %s: %w; nor can it be made in it: %w", f.Root, beside, err)
		}
		r.observer.Note("note: nothing can be staged beside " + f.Root + ", so its content is exchanged name by name")
	}
	return nil
}

// tryBox makes a box and sees, if there is a tree to change places with, that something can be
// renamed from one into the other.
func (r *run) tryBox(ctx context.Context, f *FilesPlan) error {
	if err := r.makeFarBox(ctx, f.at(f.Box)); err != nil {
		return err
	}
	if f.Inner || f.LiveTime.IsZero() {
		return nil
	}
	from := f.at(f.inBox("probe"))
	if err := r.far.Mkdir(ctx, from); err != nil {
		return err
	}
	if err := f.ours(ctx, r.far, f.live(".")); err != nil {
		return err
	}
	if err := errors.Join(r.far.Rename(ctx, from, f.probe()), r.far.RemoveAll(ctx, f.probe())); err != nil {
		return err
	}
	root, err := r.far.Lstat(ctx, f.live("."))
	if err != nil {
		return err
	}
	return r.far.Set(ctx, f.live("."), tree.Attr{Mode: root.Mode(), ModTime: f.LiveTime})
}

// probe is the path in a live tree that is made and removed to see that it can be.
func (f *FilesPlan) probe() string { return f.live(path.Base(f.at(f.Box)) + "-probe") }

// makeFarBox makes the folder on another machine that holds what is staged and set aside,
// and sees that it is nobody else's.
func (r *run) makeFarBox(ctx context.Context, box string) error {
	if err := r.far.Mkdir(ctx, box); err != nil {
		return err
	}
	info, err := r.far.Lstat(ctx, box)
	if err != nil {
		return err
	}
	st, known := tree.StatOf(info)
	switch {
	case info.IsDir() && info.Mode().Perm() != 0o700 && st.Unowned:
		r.observer.Note("note: the machine takes no rights: who else can read the site there can read what is staged and set aside, in " + box)
	case !info.IsDir() || info.Mode().Perm() != 0o700:
		err = fmt.Errorf("%s is not for its owner alone", box)
	case known && !st.Unowned && st.UID == 0:
		err = onlyRootsThere(ctx, r.far, path.Dir(box))
	}
	if err != nil {
		return err
	}
	in, err := r.far.Folder(ctx, box)
	if err != nil {
		return err
	}
	defer in.Close()
	names, _, err := in.ReadFolder(".", 0)
	if err == nil && len(names) > 0 {
		err = fmt.Errorf("somebody has put %q into %s", names[0], box)
	}
	return err
}

// sendStaged sends what was made ready, and notes what changes places with what.
func (r *run) sendStaged(ctx context.Context) error {
	total := int64(0)
	for _, f := range r.journal.plans() {
		err := r.disk.WalkDir(f.here(), func(_ string, e fs.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() {
				return err
			}
			info, err := e.Info()
			if err == nil {
				total += info.Size()
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	r.observer.Phase("sending to "+machineName(r.Site.Place.Base()), total)
	for _, f := range r.journal.plans() {
		if err := r.sendFolder(ctx, f); err != nil {
			return fmt.Errorf("send to %s: %w", f.On, err)
		}
	}
	r.journal.Mirrored, r.journal.fresh, r.journal.Holder = r.Mirror != nil, true, newHolder()
	return r.journal.save()
}

// machineName is a machine's address for people.
func machineName(base string) string {
	_, name, _ := strings.Cut(base, "://")
	return name
}

func (r *run) sendFolder(ctx context.Context, f *FilesPlan) error {
	info, err := r.disk.Lstat(f.here())
	if err != nil {
		return err
	}
	f.StagedTime = info.ModTime()
	if f.Inner {
		if err := r.far.Create(ctx, path.Join(f.at(f.Box), ".htaccess"), []byte(denyAll), 0o644); err != nil {
			return err
		}
	}
	if err := r.far.Mkdir(ctx, f.setIn(".")); err != nil {
		return err
	}
	job := send.Job{Disk: r.disk, From: f.here(), Place: r.far, Dir: f.setIn("."), Pace: r.observer.Advance, TrustTimes: r.TrustTimes && r.Selection != nil}
	if f.noted != nil {
		job.Noted, job.Links = f.noted.mode, f.noted.links()
	}
	if !f.LiveTime.IsZero() {
		job.Live = f.live(".")
	}
	if err := r.farOwners(ctx, f, &job); err != nil {
		return err
	}
	sent, err := job.Run(ctx)
	if err != nil {
		return err
	}
	if sent.Unset > 0 {
		r.observer.Note(fmt.Sprintf("note: the machine has not taken the rights of %d files as they were", sent.Unset))
	}
	if sent.Copied > 0 {
		r.observer.Note(fmt.Sprintf("note: %d of %d files were there already, the same by their SHA-256, and were copied over there", sent.Copied, sent.Files))
	}
	if sent.TrustedFiles > 0 {
		r.observer.Note(fmt.Sprintf("note: %d of %d files have the archive's length and time over there: they stay as they are, unread", sent.TrustedFiles, sent.Files))
	}
	if err := r.findMoves(ctx, f, sent); err != nil {
		return err
	}
	for rel, target := range sent.Unlinked {
		kept, err := r.sameLink(ctx, f, rel, target)
		if err != nil {
			return err
		}
		if kept {
			f.Links = append(f.Links, rel)
		} else {
			r.result.Unlinked = append(r.result.Unlinked, f.Label+"/"+rel+" → "+target)
		}
	}
	return r.far.Flush(ctx, f.at(f.Box))
}

// sameLink tells whether the live site has a link that the archive has too. It then stays.
func (r *run) sameLink(ctx context.Context, f *FilesPlan, rel, target string) (bool, error) {
	live, err := r.far.Folder(ctx, f.live("."))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer live.Close()
	info, err := live.Lstat(rel)
	if errors.Is(err, fs.ErrNotExist) || err == nil && info.Mode()&fs.ModeSymlink == 0 {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	now, err := live.Readlink(rel)
	return err == nil && now == target, nil
}

// farOwners has what is sent belong, where the account is root's, to whom the archive says:
// if it is of that machine, and else to whom the webroot belongs.
func (r *run) farOwners(ctx context.Context, f *FilesPlan, job *send.Job) error {
	box, err := r.far.Lstat(ctx, f.at(f.Box))
	if err != nil {
		return err
	}
	if st, known := tree.StatOf(box); !known || st.Unowned || st.UID != 0 {
		return nil
	}
	if r.Archive.Origin.Place == f.On {
		owners := map[string][2]int{}
		job.Owner = func(rel string) (uid, gid int) { o := owners[rel]; return o[0], o[1] }
		return r.Archive.ReadList(ctx, func(e archive.Entry) error {
			if rel, ok := strings.CutPrefix(e.Path+"/", f.Label+"/"); ok && e.IsFileTree() {
				owners[path.Clean(rel)] = [2]int{e.UID, e.GID}
			}
			return nil
		})
	}
	live, err := r.far.Lstat(ctx, f.live("."))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if st, known := tree.StatOf(live); err == nil && known {
		job.Owner = func(string) (uid, gid int) { return st.UID, st.GID }
	}
	return err
}

// findMoves finds out which paths change places, and makes the folders that those of a share
// go aside in.
func (r *run) findMoves(ctx context.Context, f *FilesPlan, sent *send.Sent) (err error) {
	switch {
	case r.Selection != nil:
		if f.OldNames, f.NewNames, err = r.movesOfShare(ctx, f, sent); err != nil {
			return err
		}
		if err := r.noteSent(ctx, f); err != nil {
			return err
		}
	case f.Inner:
		live, err := tree.Surveyed(ctx, r.far, f.live("."))
		if err != nil {
			return err
		}
		defer live.Close()
		names, _, err := live.ReadFolder(".", 0)
		if err != nil {
			return err
		}
		f.OldNames = slices.DeleteFunc(names, func(name string) bool {
			info, err := live.Lstat(name)
			folder := err != nil || info.IsDir() // another machine's box may be one
			return strings.HasPrefix(name, site.LeftoverPrefix) && folder || name == r.journal.Switch
		})
		if f.NewNames, err = r.disk.ReadNames(f.here()); err != nil {
			return err
		}
		slices.Sort(f.NewNames)
	default:
		f.NewNames = []string{wholeRoot}
		if !f.LiveTime.IsZero() {
			f.OldNames = []string{wholeRoot}
		}
		return nil
	}
	made := map[string]bool{}
	for _, rel := range append([]string{"x"}, f.OldNames...) {
		if err := r.makeAsideFolder(ctx, f, path.Dir(rel), made); err != nil {
			return err
		}
	}
	return nil
}

func (r *run) makeAsideFolder(ctx context.Context, f *FilesPlan, dir string, made map[string]bool) error {
	if made[dir] {
		return nil
	}
	if dir != "." {
		if err := r.makeAsideFolder(ctx, f, path.Dir(dir), made); err != nil {
			return err
		}
	}
	made[dir] = true
	return r.far.Mkdir(ctx, f.setOut(dir))
}

// movesOfShare are the outermost paths of a share that go aside, and those that come.
func (r *run) movesOfShare(ctx context.Context, f *FilesPlan, sent *send.Sent) (out, in []string, err error) {
	if !r.Selection.reaches(f.Label, ".") {
		return nil, nil, nil
	}
	live, err := tree.SurveyedIn(ctx, r.far, f.live("."), r.Selection.within(f.Label))
	if err != nil {
		return nil, nil, err
	}
	defer live.Close()
	m := &shareMoves{r: r, f: f, live: live, sent: sent}
	if err := m.folder(ctx, "."); err != nil {
		return nil, nil, err
	}
	return m.out, m.in, nil
}

// shareMoves goes through the live tree and the one that was made ready.
type shareMoves struct {
	r       *run
	f       *FilesPlan
	live    tree.Folder
	sent    *send.Sent
	out, in []string
}

func (m *shareMoves) folder(ctx context.Context, dir string) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	live := map[string]fs.FileInfo{}
	names, infos, err := m.live.ReadFolder(dir, 1<<30)
	if err != nil {
		return err
	}
	for i, name := range names {
		if infos[i].Err != nil {
			return infos[i].Err
		}
		live[name] = infos[i].FileInfo
	}
	staged := map[string]fs.FileInfo{}
	found, err := os.ReadDir(filepath.Join(m.f.here(), filepath.FromSlash(dir)))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range found {
		if staged[e.Name()], err = e.Info(); err != nil {
			return err
		}
		if live[e.Name()] == nil {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	for _, name := range names {
		rel := tree.Join(dir, name)
		if dir == "." && strings.HasPrefix(name, site.LeftoverPrefix) || rel == m.r.journal.Switch {
			continue
		}
		if err := m.path(ctx, rel, live[name], staged[name]); err != nil {
			return err
		}
	}
	return nil
}

// path decides about one path: what of it goes aside, and what comes.
func (m *shareMoves) path(ctx context.Context, rel string, live, staged fs.FileInfo) error {
	switch {
	case staged != nil && m.sent.Trusted(rel) && (live == nil || !live.Mode().IsRegular()):
		return fmt.Errorf("%s was there, and is not any more: restore once more", rel)
	case live == nil:
		m.in = append(m.in, rel)
		return nil
	case staged == nil && live.IsDir() && !m.r.Selection.reaches(m.f.Label, rel) && !(m.r.loadsWhole() && m.r.hasDatabase(m.f.Label, rel)):
		return nil
	case staged == nil && m.r.Site.HasDatabaseFile(m.f.Label, rel):
		if !m.r.loadsWhole() {
			return nil // it is not put back with the files
		}
	case staged == nil && (m.r.Selection.Fill || !live.IsDir() && !m.r.takes(m.f, rel)):
		return nil
	case live.IsDir() && (staged == nil || staged.IsDir()):
		apart := m.r.TrustTimes && staged != nil // not all of it was sent
		if m.r.takes(m.f, rel) && !m.r.leads(m.f, rel) && !m.r.hasDatabase(m.f.Label, rel) && !apart {
			break // as a whole
		}
		return m.folder(ctx, rel)
	case staged != nil && staged.IsDir() && !m.r.takes(m.f, rel) && !m.r.Selection.Fill:
		return fmt.Errorf("%s is a folder in the archive, and something else on the site now: move it away first", rel)
	case staged != nil && !staged.IsDir() && (m.sent.Same(rel) || m.sent.Trusted(rel)):
		return nil
	}
	m.out = append(m.out, rel)
	if staged != nil {
		m.in = append(m.in, rel)
	}
	return nil
}

// loadsWhole tells whether database files in the site's folders are put back as a whole, with those.
func (r *run) loadsWhole() bool { return r.Files && r.Database && r.Rows == nil }

// hasDatabase tells whether a database file lies in a folder of one of the site's, which may not be put back with
// the files.
func (r *run) hasDatabase(label, dir string) bool {
	return slices.ContainsFunc(r.Site.Databases, func(db site.Database) bool {
		in, file, inside := r.Site.LiesIn(db)
		return inside && in == label && (dir == "." || strings.HasPrefix(file, dir+"/"))
	})
}
