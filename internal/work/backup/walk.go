package backup

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"syscall"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/memory"
	"revlet/internal/site"
	"revlet/internal/site/sitepath"
	"revlet/internal/site/tree"
)

// planned is a regular file that the walk has met.
type planned struct {
	// in is the folder that the file lies in, rel its name there; name is the one in the
	// archive.
	in        tree.Folder
	rel, name string
	info      fs.FileInfo
	// as is the entry that an imported file had; its content must be the same.
	as *archive.Entry
}

// walker goes through a webroot in path order and hands on what it meets.
type walker struct {
	disk    *disk.Disk
	folders *Folders
	site    *site.Site
	// file takes regular files; tree takes folders and links.
	file func(planned) error
	tree func(archive.Entry) error
	gap  func(archive.Gap)
	skip func(name, rule string)
	// again takes further names of a file; without it, tree does.
	again func(hardlink) error
	// links remembers the first name of files with several.
	links map[[2]uint64]string
	// in is the folder that is walked, label the first path element of what is in it.
	in    tree.Folder
	label string
	// isDatabase tells database files by their first bytes.
	isDatabase func(head []byte) bool
	// ahead, unless nil, reads folders before they are visited; look is set when the site
	// is only looked at, not saved.
	ahead lister
	look  bool
	room  memory.Watch
	// met counts the paths.
	met int64
}

// walk visits everything that belongs to the site, in the order of its labels:
// the order of paths in the archive.
func (w *walker) walk(ctx context.Context) error {
	if w.site.Far() {
		ahead, stop := newPrefetcher(ctx, func(rel string) bool {
			_, skipped := w.site.Skips(rel)
			return skipped
		})
		defer stop()
		w.ahead = ahead
	} else if w.ahead == nil {
		ahead, stop := newLookout()
		defer stop()
		w.ahead = ahead
	}
	labels := append(slices.Collect(maps.Keys(w.site.Roots)), site.RootLabel, site.AboveLabel)
	slices.SortFunc(labels, archive.ComparePaths)
	for _, label := range labels {
		err := error(nil)
		if label == site.AboveLabel {
			err = w.above(ctx)
		} else {
			err = w.root(ctx, label)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// root visits one of the site's folders under its label.
func (w *walker) root(ctx context.Context, label string) error {
	in, err := w.folders.In(label)
	if err != nil {
		return err
	}
	// What has a name in another folder too is saved there as well: folders are put back one by one.
	w.label, w.in, w.links = label, in, map[[2]uint64]string{}
	if far, ok := in.(tree.Surveyor); ok {
		if err := far.Survey("."); err != nil {
			return fmt.Errorf("read the %s folder: %w", label, err)
		}
	}
	info, err := in.Lstat(".")
	if err != nil {
		return fmt.Errorf("read the %s folder: %w", label, err)
	}
	return w.folder(ctx, "", info)
}

// above takes in a settings file that lies beside the webroot.
func (w *walker) above(ctx context.Context) error {
	if w.site.Above == "" {
		return nil
	}
	in := w.site.At(w.disk).Anywhere(ctx)
	file := w.site.PathAt(w.site.Above)
	info, err := in.Lstat(file)
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: w.site.Above, Err: disk.ErrSpecial}
	}
	if err != nil {
		return fmt.Errorf("read the site's settings: %w", err)
	}
	return w.file(planned{in: in, rel: file, name: site.AboveLabel + "/" + path.Base(file), info: info})
}

// mostFar bounds how many paths a site elsewhere may have: its machine may say anything.
const mostFar = 20_000_000

// dot is the name of a path in its folder, where the folder itself is ".".
func dot(rel string) string {
	if rel == "" {
		return "."
	}
	return rel
}

func (w *walker) folder(ctx context.Context, rel string, info fs.FileInfo) error {
	if err := w.beginFolder(ctx, rel, info); err != nil {
		return err
	}
	if w.ahead != nil {
		return w.folderAhead(ctx, rel, w.ahead.look(w.in, rel))
	}
	names, _, err := w.in.ReadFolder(dot(rel), 0)
	if err != nil {
		return w.noFolder(rel, err)
	}
	for _, name := range names {
		if err := w.visit(ctx, joinRel(rel, name)); err != nil {
			return err
		}
	}
	return nil
}

// noFolder says that a folder cannot be read. Without the outermost one there is
// nothing to save.
func (w *walker) noFolder(rel string, err error) error {
	if errors.Is(err, fs.ErrNotExist) && rel != "" {
		return nil // removed while we walk
	}
	if rel == "" {
		return fmt.Errorf("read the %s folder: %w", w.label, err)
	}
	return w.unreadable(rel, err)
}

func joinRel(rel, name string) string {
	if rel == "" {
		return name
	}
	return rel + "/" + name
}

func (w *walker) name(rel string) string { return strings.TrimSuffix(w.label+"/"+rel, "/") }

// ofThisMachine tells whether an error says nothing of a file, but that this machine has no
// more to read it with.
func ofThisMachine(err error) bool {
	return slices.ContainsFunc([]error{syscall.EMFILE, syscall.ENFILE, syscall.ENOMEM}, func(e error) bool { return errors.Is(err, e) })
}

// unreadable notes a gap; a place that cannot be asked says nothing of the file.
func (w *walker) unreadable(rel string, err error) error {
	if errors.Is(err, tree.ErrUnreachable) || ofThisMachine(err) {
		return err
	}
	w.gap(archive.Gap{Path: w.name(rel), Kind: archive.GapUnreadable, Why: reason(err)})
	return nil
}

func (w *walker) visit(ctx context.Context, rel string) error {
	if rule, skipped := w.site.SkipsIn(w.label, rel); skipped {
		w.skip(w.name(rel), rule)
		return nil
	}
	info, err := w.in.Lstat(rel)
	return w.found(rel, info, err, func() error { return w.folder(ctx, rel, info) })
}

// found visits a path of which lstat has said info, or err; folder visits it when
// it is one.
func (w *walker) found(rel string, info fs.FileInfo, err error, folder func() error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return w.unreadable(rel, err)
	}
	if len(rel) > sitepath.Longest {
		w.gap(archive.Gap{Path: w.name(rel), Kind: archive.GapUnreadable, Why: fmt.Sprintf("its path is longer than %d bytes, and could not be put back", sitepath.Longest)})
		return nil
	}
	if err := w.room.One(); err != nil {
		return err
	}
	if w.met++; w.site.Far() && w.met > mostFar {
		return fmt.Errorf("read the %s folder: more than %d paths: it has no end, or is far larger than any site", w.label, mostFar)
	}
	if info.Mode().IsRegular() && w.isLog(rel) {
		return nil
	}
	switch mode := info.Mode(); {
	case mode.IsDir():
		return folder()
	case mode&fs.ModeSymlink != 0:
		return w.symlink(rel, info)
	case mode.IsRegular():
		return w.regular(rel, info)
	default:
		w.gap(archive.Gap{Path: w.name(rel), Kind: archive.GapSpecial, Why: specialKind(mode) + " has no content to save"})
		return nil
	}
}

func specialKind(mode fs.FileMode) string {
	switch {
	case mode&fs.ModeSocket != 0:
		return "a socket"
	case mode&fs.ModeNamedPipe != 0:
		return "a named pipe"
	default:
		return "a device"
	}
}

// isLog tells the logs that belong to a database file beside them: what they
// hold is in the copy that is saved.
func (w *walker) isLog(rel string) bool {
	for _, suffix := range []string{"-wal", "-shm", "-journal"} {
		base, ok := strings.CutSuffix(rel, suffix)
		if !ok || w.isDatabase == nil {
			continue
		}
		f, err := w.in.Open(base)
		if err != nil {
			continue
		}
		var head [16]byte
		_, err = f.ReadAt(head[:], 0)
		_ = f.Close()
		if err == nil && w.isDatabase(head[:]) {
			return true
		}
	}
	return false
}

func (w *walker) symlink(rel string, info fs.FileInfo) error {
	target, err := w.in.Readlink(rel)
	if err != nil {
		return w.unreadable(rel, err)
	}
	e := w.entry(archive.TypeSymlink, rel, info)
	e.Target = target
	return w.tree(e)
}

func (w *walker) regular(rel string, info fs.FileInfo) error {
	f := planned{in: w.in, rel: rel, name: w.name(rel), info: info}
	if several(info) {
		st, _ := tree.StatOf(info)
		id := [2]uint64{st.Dev, st.Inode}
		if first, seen := w.links[id]; seen {
			e := w.entry(archive.TypeHardlink, rel, info)
			e.Target, e.Size = first, 0
			if w.again != nil {
				return w.again(hardlink{e, f})
			}
			return w.tree(e)
		}
		w.links[id] = f.name
	}
	return w.file(f)
}

// several tells whether a file has several names.
func several(info fs.FileInfo) bool {
	st, ok := tree.StatOf(info)
	return ok && st.Links > 1
}

// entry describes a path for the list, but for what only reading it tells.
func (w *walker) entry(kind, rel string, info fs.FileInfo) archive.Entry {
	return entryOf(w.in, kind, w.name(rel), info)
}

// entryOf describes a path in a folder under its name in the archive.
func entryOf(in tree.Folder, kind, name string, info fs.FileInfo) archive.Entry {
	e := archive.Entry{Type: kind, Path: name, Mode: octal(unixMode(info.Mode())), MTime: info.ModTime().UTC()}
	if kind == archive.TypeFile {
		e.Size = info.Size()
	}
	if st, ok := tree.StatOf(info); ok {
		e.UID, e.GID, e.Inode, e.CTime = st.UID, st.GID, st.Inode, st.CTime
		e.User, e.Group = in.Owner(st.UID, st.GID)
		e.Sparse = kind == archive.TypeFile && st.HasBlocks && st.Blocks*512 < info.Size()
	}
	return e
}

// octal writes a mode in four digits.
func octal(mode int64) string {
	return string([]byte{'0' + byte(mode>>9&7), '0' + byte(mode>>6&7), '0' + byte(mode>>3&7), '0' + byte(mode&7)})
}

// unixMode is the permission bits as chmod takes them, set-id and sticky too.
func unixMode(m fs.FileMode) int64 {
	bits := int64(m.Perm())
	if m&fs.ModeSetuid != 0 {
		bits |= 0o4000
	}
	if m&fs.ModeSetgid != 0 {
		bits |= 0o2000
	}
	if m&fs.ModeSticky != 0 {
		bits |= 0o1000
	}
	return bits
}
