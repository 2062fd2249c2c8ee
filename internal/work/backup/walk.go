package backup

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/pkg/xattr"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/memory"
	"revlet/internal/site"
)

// planned is a regular file that the walk has met.
type planned struct {
	// path is the file's on this machine, name the one in the archive.
	path, name string
	info       fs.FileInfo
	// as is the entry that an imported file had; its content must be the same.
	as *archive.Entry
}

// walker goes through a webroot in path order and hands on what it meets.
type walker struct {
	disk *disk.Disk
	site *site.Site
	// file takes regular files; tree takes folders and links.
	file func(planned) error
	tree func(archive.Entry) error
	gap  func(archive.Gap)
	skip func(name, rule string)
	// links remembers the first name of files with several.
	links map[[2]uint64]string
	names owners
	// label is the first path element of the folder that is walked.
	label string
	// isDatabase tells database files by their first bytes.
	isDatabase func(head []byte) bool
	// ahead, unless nil, reads folders before they are visited.
	ahead *lookout
	room  memory.Watch
}

// walk visits everything that belongs to the site, in the order of its labels:
// the order of paths in the archive.
func (w *walker) walk(ctx context.Context) error {
	w.links = map[[2]uint64]string{}
	roots := map[string]string{site.RootLabel: w.site.Root, site.AboveLabel: w.site.Above}
	maps.Copy(roots, w.site.Roots)
	for _, label := range slices.SortedFunc(maps.Keys(roots), archive.ComparePaths) {
		err := error(nil)
		if label == site.AboveLabel {
			err = w.above()
		} else {
			err = w.root(ctx, label, roots[label])
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// root visits one of the site's folders under its label.
func (w *walker) root(ctx context.Context, label, dir string) error {
	w.label = label
	info, err := w.disk.Stat(dir)
	if err == nil && !info.IsDir() {
		err = errors.New("it is not a folder")
	}
	if err != nil {
		return fmt.Errorf("read the %s folder %s: %w", label, dir, err)
	}
	return w.folder(ctx, dir, "", info)
}

// above takes in a settings file that lies beside the webroot.
func (w *walker) above() error {
	if w.site.Above == "" {
		return nil
	}
	info, err := w.disk.Stat(w.site.Above)
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: w.site.Above, Err: disk.ErrSpecial}
	}
	if err != nil {
		return fmt.Errorf("read the site's settings: %w", err)
	}
	return w.file(planned{path: w.site.Above, name: site.AboveLabel + "/" + filepath.Base(w.site.Above), info: info})
}

func (w *walker) folder(ctx context.Context, dir, rel string, info fs.FileInfo) error {
	if err := w.beginFolder(ctx, dir, rel, info); err != nil {
		return err
	}
	if w.ahead != nil {
		return w.folderAhead(ctx, dir, rel, w.ahead.look(dir))
	}
	names, err := w.disk.ReadNames(dir)
	if err != nil {
		return w.noFolder(rel, err)
	}
	slices.Sort(names)
	for _, name := range names {
		if err := w.visit(ctx, filepath.Join(dir, name), joinRel(rel, name)); err != nil {
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
	w.unreadable(rel, err)
	return nil
}

func joinRel(rel, name string) string {
	if rel == "" {
		return name
	}
	return rel + "/" + name
}

func (w *walker) name(rel string) string { return strings.TrimSuffix(w.label+"/"+rel, "/") }

func (w *walker) unreadable(rel string, err error) {
	var pe *fs.PathError
	why := err.Error()
	if errors.As(err, &pe) {
		why = pe.Err.Error()
	}
	w.gap(archive.Gap{Path: w.name(rel), Kind: archive.GapUnreadable, Why: why})
}

func (w *walker) visit(ctx context.Context, path, rel string) error {
	if rule, skipped := w.site.Skips(rel); skipped && w.label == site.RootLabel {
		w.skip(w.name(rel), rule)
		return nil
	}
	info, err := w.disk.Lstat(path)
	return w.found(path, rel, info, err, func() error { return w.folder(ctx, path, rel, info) })
}

// found visits a path of which lstat has said info, or err; folder visits it when
// it is one.
func (w *walker) found(path, rel string, info fs.FileInfo, err error, folder func() error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		w.unreadable(rel, err)
		return nil
	}
	if err := w.room.One(); err != nil {
		return err
	}
	if info.Mode().IsRegular() && w.isLog(path) {
		return nil
	}
	switch mode := info.Mode(); {
	case mode.IsDir():
		return folder()
	case mode&fs.ModeSymlink != 0:
		return w.symlink(path, rel, info)
	case mode.IsRegular():
		return w.regular(path, rel, info)
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
func (w *walker) isLog(path string) bool {
	for _, suffix := range []string{"-wal", "-shm", "-journal"} {
		base, ok := strings.CutSuffix(path, suffix)
		if !ok || w.isDatabase == nil {
			continue
		}
		f, err := w.disk.Open(base)
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

func (w *walker) symlink(path, rel string, info fs.FileInfo) error {
	target, err := w.disk.Readlink(path)
	if err != nil {
		w.unreadable(rel, err)
		return nil
	}
	e := w.entry(archive.TypeSymlink, rel, info)
	e.Target = target
	return w.tree(e)
}

func (w *walker) regular(path, rel string, info fs.FileInfo) error {
	if st, ok := info.Sys().(*syscall.Stat_t); ok && st.Nlink > 1 {
		id := [2]uint64{uint64(st.Dev), st.Ino}
		if first, seen := w.links[id]; seen {
			e := w.entry(archive.TypeHardlink, rel, info)
			e.Target, e.Size = first, 0
			return w.tree(e)
		}
		w.links[id] = w.name(rel)
	}
	return w.file(planned{path: path, name: w.name(rel), info: info})
}

// entry describes a path for the list, but for what only reading it tells.
func (w *walker) entry(kind, rel string, info fs.FileInfo) archive.Entry {
	return w.names.entry(kind, w.name(rel), info)
}

// passingXAttrs belong to the machine, not to the site.
var passingXAttrs = []string{"security.selinux", "security.ima", "security.evm"}

// readXAttrs reads a path's extended attributes. A file system without any, or
// one that hides them, gives none.
func readXAttrs(d *disk.Disk, path string) map[string][]byte {
	var all map[string][]byte
	_ = d.Handle(path, func(path string) error {
		names, err := xattr.LList(path)
		if err != nil || len(names) == 0 {
			return err
		}
		all = map[string][]byte{}
		for _, name := range names {
			if slices.Contains(passingXAttrs, name) {
				continue
			}
			if value, err := xattr.LGet(path, name); err == nil {
				all[name] = value
			}
		}
		return nil
	})
	return all
}

// owners looks up the names of accounts and groups, once each.
type owners struct {
	mu            sync.Mutex
	users, groups map[uint32]string
}

func (o *owners) entry(kind, name string, info fs.FileInfo) archive.Entry {
	e := archive.Entry{Type: kind, Path: name, Mode: octal(unixMode(info.Mode())), MTime: info.ModTime().UTC()}
	if kind == archive.TypeFile {
		e.Size = info.Size()
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		e.UID, e.GID, e.Inode = int(st.Uid), int(st.Gid), st.Ino
		e.CTime = time.Unix(st.Ctim.Sec, st.Ctim.Nsec).UTC()
		e.User, e.Group = o.names(st.Uid, st.Gid)
		e.Sparse = kind == archive.TypeFile && st.Blocks*512 < info.Size()
	}
	return e
}

func (o *owners) names(uid, gid uint32) (string, string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.users == nil {
		o.users, o.groups = map[uint32]string{}, map[uint32]string{}
	}
	if _, ok := o.users[uid]; !ok {
		o.users[uid] = ""
		if u, err := user.LookupId(strconv.Itoa(int(uid))); err == nil {
			o.users[uid] = u.Username
		}
	}
	if _, ok := o.groups[gid]; !ok {
		o.groups[gid] = ""
		if g, err := user.LookupGroupId(strconv.Itoa(int(gid))); err == nil {
			o.groups[gid] = g.Name
		}
	}
	return o.users[uid], o.groups[gid]
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
