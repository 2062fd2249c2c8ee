package restore

import (
	"bufio"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"revlet/internal/platform/disk"
)

// This file keeps, when the restore of a share is taken back, what was made of the rest
// of the site since: of a restore of the themes, undo brings the themes back, and takes
// no picture away that somebody has uploaded meanwhile.
//
// When everything is staged, a list is written beside the journal of what the restore
// puts into the tree, and of what it takes out. Before the trees change places again,
// the one that comes back is given everything else that the live one has: what is in
// neither list, and is not the same file in both, was made, replaced or deleted since.

// shareList is what a restore of a share puts into the webroot, with inodes, and what it
// takes out. Paths are told by digests: they may be many, and may be any bytes.
type shareList struct {
	put  map[pathDigest]uint64
	gone map[pathDigest]bool
}

type pathDigest [12]byte

func digestOf(label, rel string) (d pathDigest) {
	sum := sha256.Sum256([]byte(label + "/" + rel))
	copy(d[:], sum[:])
	return d
}

// listPath is where the list lies.
func (j *Journal) listPath() string { return strings.TrimSuffix(j.path, ".json") + ".share" }

// noteShare writes the list of a share that is staged.
func (j *Journal) noteShare(d *disk.Disk) (err error) {
	f, err := d.OpenFile(j.listPath(), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("note what the restore changes: %w", err)
	}
	w := bufio.NewWriter(f)
	for _, p := range j.plans() {
		err = errors.Join(err, eachOfBoth(d, p, p.staged(), p.Root, func(rel string, staged, live fs.FileInfo) (bool, error) {
			switch {
			case staged == nil:
				_, err := fmt.Fprintf(w, "gone %x\n", digestOf(p.Label, rel))
				return true, err
			case live == nil, !staged.IsDir() && inodeOf(staged) != inodeOf(live), staged.IsDir() != live.IsDir():
				_, err := fmt.Fprintf(w, "put %x %d\n", digestOf(p.Label, rel), inodeOf(staged))
				return true, err
			}
			return true, nil
		}))
	}
	if err = errors.Join(err, w.Flush(), f.Sync(), f.Close()); err == nil {
		err = d.SyncDir(filepath.Dir(j.listPath()))
	}
	if err != nil {
		return fmt.Errorf("note what the restore changes: %w", err)
	}
	return nil
}

// readShare reads the list; nil if there is none.
func (j *Journal) readShare(d *disk.Disk) (*shareList, error) {
	f, err := d.Open(j.listPath())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	l := &shareList{put: map[pathDigest]uint64{}, gone: map[pathDigest]bool{}}
	in := bufio.NewReader(f)
	for {
		line, err := in.ReadString('\n')
		if errors.Is(err, io.EOF) && line == "" {
			return l, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s is cut off: %w", j.listPath(), err)
		}
		var digest []byte
		var number uint64
		if _, err := fmt.Sscanf(line, "put %x %d\n", &digest, &number); err == nil && len(digest) == len(pathDigest{}) {
			l.put[pathDigest(digest)] = number
		} else if _, err := fmt.Sscanf(line, "gone %x\n", &digest); err == nil && len(digest) == len(pathDigest{}) {
			l.gone[pathDigest(digest)] = true
		} else {
			return nil, fmt.Errorf("%s is damaged", j.listPath())
		}
	}
}

// eachOfBoth visits every path that is in one of two trees, with what lstat says of it
// in each, nil where it is not: a folder before what is in it, which is visited if
// descend is returned. Links are not followed. What this restore has put into a tree itself
// is passed over, and nothing else that is called like it.
func eachOfBoth(d *disk.Disk, f *FilesPlan, a, b string, visit func(rel string, a, b fs.FileInfo) (descend bool, err error)) error {
	d, done, err := d.Confined(a, b)
	if err != nil {
		return err
	}
	defer done()
	var folder func(rel string, inA, inB bool) error
	folder = func(rel string, inA, inB bool) error {
		names := map[string]*[2]fs.FileInfo{}
		for i, tree := range []string{a, b} {
			if i == 0 && !inA || i == 1 && !inB {
				continue
			}
			if err := readInto(d, filepath.Join(tree, filepath.FromSlash(rel)), i, names); err != nil {
				return err
			}
		}
		order := make([]string, 0, len(names))
		for name := range names {
			if rel != "." || name != behindDoor && name != filepath.Base(f.Box) {
				order = append(order, name)
			}
		}
		slices.Sort(order)
		for _, name := range order {
			p, of := path.Join(rel, name), names[name]
			descend, err := visit(p, of[0], of[1])
			if err != nil {
				return err
			}
			inA, inB := of[0] != nil && of[0].IsDir(), of[1] != nil && of[1].IsDir()
			if descend && (inA || inB) {
				if err := folder(p, inA, inB); err != nil {
					return err
				}
			}
		}
		return nil
	}
	in := [2]bool{}
	for i, tree := range []string{a, b} {
		if in[i], err = d.Exists(tree); err != nil {
			return err
		}
	}
	return folder(".", in[0], in[1])
}

// readInto notes what is in a folder as that of the first or second tree.
func readInto(d *disk.Disk, dir string, tree int, names map[string]*[2]fs.FileInfo) error {
	found, infos, err := d.ReadFolder(dir, math.MaxInt)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // gone meanwhile
	}
	if err != nil {
		return err
	}
	for i, name := range found {
		if infos[i].Err != nil {
			if errors.Is(infos[i].Err, fs.ErrNotExist) {
				continue
			}
			return infos[i].Err
		}
		if names[name] == nil {
			names[name] = &[2]fs.FileInfo{}
		}
		names[name][tree] = infos[i].FileInfo
	}
	return nil
}

// keepSince gives the trees that are set aside what was made of the rest of the live
// ones since the restore of a share, and returns notes for people. It can be called
// again: nothing live changes.
func (j *Journal) keepSince(ctx context.Context, d *disk.Disk) (notes []string, err error) {
	if !j.Partial || j.Files == nil {
		return nil, nil
	}
	if j.isFar() {
		return j.keepSinceFar(ctx)
	}
	list, err := j.readShare(d)
	if err != nil || list == nil {
		return nil, err
	}
	all := &sinceRun{j: j, d: d, list: list}
	for _, f := range j.plans() {
		now, err := inode(d, f.Root)
		if err != nil {
			return nil, err
		}
		if now == 0 || !f.Inner && now != f.StagedInode {
			continue // it is another folder: nothing of it is known
		}
		if err := all.tree(f); err != nil {
			return nil, fmt.Errorf("keep what was made since: %w; nothing was changed", err)
		}
	}
	if err := j.save(); err != nil {
		return nil, err
	}
	return all.notes(), nil
}

// sinceRun goes through the trees.
type sinceRun struct {
	j    *Journal
	d    *disk.Disk
	list *shareList
	// stays counts paths that stay as they are now, lost names those of the share that
	// give way.
	stays int
	lost  []string

	f         *FilesPlan
	was, live *disk.Root
	// touched are folders of the tree that comes back whose content was changed, empty
	// ones of its folders that the live tree does not have, innermost last.
	touched map[string]bool
	empty   []string
}

func (s *sinceRun) tree(f *FilesPlan) (err error) {
	s.f, s.touched, s.empty = f, map[string]bool{}, nil
	if s.was, err = openTree(s.d, f.aside()); err != nil {
		return err
	}
	defer s.was.Close()
	if s.live, err = openTree(s.d, f.Root); err != nil {
		return err
	}
	defer s.live.Close()
	if err := eachOfBoth(s.d, f, f.Root, f.aside(), s.visit); err != nil {
		return err
	}
	for _, dir := range slices.Backward(s.empty) {
		switch err := s.was.Remove(dir); {
		case err == nil:
			s.touched[path.Dir(dir)] = true
		case !errors.Is(err, syscall.ENOTEMPTY) && !errors.Is(err, fs.ErrExist) && !errors.Is(err, fs.ErrNotExist):
			return err
		}
	}
	for dir := range s.touched {
		if info, err := s.live.Lstat(dir); err == nil {
			if err := s.was.Chtimes(dir, info.ModTime(), info.ModTime()); err != nil && !errors.Is(err, fs.ErrPermission) && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	return s.d.SyncFS(f.Box)
}

// visit decides about one path.
func (s *sinceRun) visit(rel string, live, was fs.FileInfo) (descend bool, err error) {
	digest := digestOf(s.f.Label, rel)
	inode, put := s.list.put[digest]
	switch {
	case s.elsewhere(rel) || was == nil && s.f.keeps(rel):
		return false, nil
	case live != nil && was != nil && live.IsDir() && was.IsDir():
		return true, nil
	case live != nil && was != nil && inodeOf(live) == inodeOf(was):
		return false, nil
	case live == nil && (s.list.gone[digest] || put):
		return false, nil // it comes back
	case live == nil:
		return true, s.remove(rel, was)
	case put && (live.IsDir() || inode == inodeOf(live)):
		return live.IsDir() && was == nil, nil // the restore's own; of a folder, see what is in it
	case put || was != nil && s.list.gone[digest]:
		s.lost = append(s.lost, rel)
		return false, nil
	}
	return true, s.bring(rel, live, was)
}

// elsewhere tells whether others look after a path: database files, the file that closes
// the site.
func (s *sinceRun) elsewhere(rel string) bool {
	if rel == s.j.Switch && s.f == s.j.Files {
		return true
	}
	isDatabase := func(file string) bool {
		suffix, ok := strings.CutPrefix(rel, file)
		return ok && file != "" && slices.Contains(databaseFiles, suffix)
	}
	if slices.ContainsFunc(s.f.Carried, isDatabase) {
		return true
	}
	for _, p := range s.j.Databases {
		if inside, err := filepath.Rel(s.f.Root, p.Live); p.Engine == "sqlite" && err == nil && isDatabase(filepath.ToSlash(inside)) {
			return true
		}
	}
	// What lies directly in a mount point and was not there then is not exchanged: it stays.
	first, _, deeper := strings.Cut(rel, "/")
	return s.f.Inner && !deeper && !slices.Contains(s.f.NewNames, first) && !slices.Contains(s.f.OldNames, first)
}

// remove takes a path out of the tree that comes back: it was deleted since.
func (s *sinceRun) remove(rel string, was fs.FileInfo) error {
	if was.IsDir() {
		s.empty = append(s.empty, rel)
		return nil
	}
	s.stays++
	s.touched[path.Dir(rel)] = true
	return s.was.Remove(rel)
}

// bring gives the tree that comes back a path of the live one.
func (s *sinceRun) bring(rel string, live, was fs.FileInfo) error {
	if was != nil && was.IsDir() {
		s.lost = append(s.lost, rel) // a folder comes back there
		return nil
	}
	if err := s.makeWay(path.Dir(rel)); err != nil {
		return err
	}
	s.touched[path.Dir(rel)] = true
	if was != nil {
		if err := s.was.Remove(rel); err != nil {
			return err
		}
	}
	s.stays++
	if live.IsDir() {
		return s.makeFolder(rel, live)
	}
	err := s.live.LinkTo(rel, s.was, rel)
	switch {
	case errors.Is(err, fs.ErrNotExist): // deleted while we look
		return nil
	case disk.LinkUnsupported(err): // it has one name only: it moves once the trees have changed places
		s.f.Kept = append(s.f.Kept, rel)
		return nil
	}
	return err
}

// makeWay makes the folders above a path that the tree does not have, such as those
// that the restore has brought.
func (s *sinceRun) makeWay(dir string) error {
	if _, err := s.was.Lstat(dir); dir == "." || !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := s.makeWay(path.Dir(dir)); err != nil {
		return err
	}
	info, err := s.live.Lstat(dir)
	if err != nil {
		return err
	}
	return s.makeFolder(dir, info)
}

// makeFolder makes a folder like a live one.
func (s *sinceRun) makeFolder(rel string, like fs.FileInfo) error {
	if err := s.was.Mkdir(rel, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	s.touched[rel] = true
	if a, ok := disk.AttributesOf(like); ok {
		if err := s.was.Lchown(rel, a.UID, a.GID); err != nil && !errors.Is(err, fs.ErrPermission) {
			return err
		}
	}
	return s.was.Chmod(rel, like.Mode().Perm()|like.Mode()&(fs.ModeSetuid|fs.ModeSetgid|fs.ModeSticky))
}

// notes say in words what stays and what does not.
func (s *sinceRun) notes() (all []string) {
	if s.stays > 0 {
		all = append(all, fmt.Sprintf("made, changed or deleted beside the share since the restore, and left so: %d", s.stays))
	}
	if len(s.lost) > 0 {
		all = append(all, fmt.Sprintf("changed in the share since the restore, and gone for what was there before: %d (%s)", len(s.lost), firstOf(s.lost)))
	}
	return all
}

// firstOf names the first few.
func firstOf(names []string) string {
	text := strings.Join(names[:min(3, len(names))], ", ")
	if len(names) > 3 {
		text += " …"
	}
	return text
}
