// Package unpack writes the file tree of an archive into a folder, and nowhere
// else.
package unpack

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/pkg/xattr"
	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/input"
	"revlet/internal/site"
	"revlet/internal/site/sitepath"
	"revlet/internal/store"
)

// Tree writes an archive's file tree into a folder, confined to it.
type Tree struct {
	Disk *disk.Disk
	// Label is the first path element of what is written; empty means the
	// webroot. Others are passed over.
	Label  string
	Others []string
	// Keep tells which paths, relative to the webroot, are written; nil is all.
	Keep func(rel string) bool
	// Pace is told of stored bytes read.
	Pace func(int64)
	// KeepExisting refuses to replace what lies in the folder already.
	KeepExisting bool
	// Workers is how many parts are unpacked at a time; 0 means 2.
	Workers int
	// Parts are those of files that are needed; nil is all.
	Parts map[string]bool
	// Salvage has what is damaged in every store passed over: see Lost.
	Salvage bool
	// Trusted has files keep rights that they give to whoever runs them: for what this machine has saved itself. Root
	// of another one may have put them there: see Disarmed.
	Trusted bool
	// Owners says to whom things are given, if this account is root; nil is to whom the archive says.
	Owners *Owners
	// Note is told what this system does not keep of each path: see disk.KeepsModes. It is
	// called by several goroutines at once.
	Note func(rel string, mode fs.FileMode, target string)

	// Live, if set, is asked first for the content of files: see there.
	Live *Live

	// standIns are wanted without their files.
	standIns StandIns

	live    liveParts
	names   names
	root    *disk.Root
	made    sync.Map // folders that exist
	mu      sync.Mutex
	folders []*tar.Header
	written int64
	unset   int64
	lost    []string
	// disarmed are paths in this folder.
	disarmed []string
	unmade   map[string]string
}

// Write unpacks every part of files and then the tree part into root, which is empty. Every digest is checked as it is written. What is damaged in one
// store is taken from the next; what nobody wants may be damaged.
func (t *Tree) Write(ctx context.Context, h *catalog.Held, ix *catalog.Index, root *disk.Root) error {
	t.root, t.names.system, t.unmade = root, here(), map[string]string{}
	if t.Label == "" {
		t.Label = site.RootLabel
	}
	if t.Owners == nil {
		t.Owners = &Owners{}
	}
	if t.Keep != nil {
		var err error
		if t.standIns, _, err = FindStandIns(ctx, h, t.Label, t.Keep); err != nil {
			return err
		}
	}
	workers := t.Workers
	if workers == 0 {
		workers = 2
	}
	if err := t.takeLive(ctx, h, workers); err != nil {
		return err
	}
	t.live.settle()
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(workers)
	for _, p := range h.Parts {
		if p.Kind != archive.KindFiles || !ix.Holds(p.Name, t.Label) || t.Parts != nil && !t.Parts[p.Name] {
			continue
		}
		g.Go(func() error { return t.filesPart(gctx, h, ix, p) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for _, p := range h.Parts {
		if p.Kind == archive.KindTree {
			if err := t.part(ctx, h, ix, p); err != nil {
				return err
			}
		}
	}
	return t.finishFolders()
}

// Unset is how many extended attributes could not be set.
func (t *Tree) Unset() int64 { return t.unset }

// Renamed are the paths that this system cannot have under their names, and what they are
// called instead.
func (t *Tree) Renamed() map[string]string { return t.names.renamed() }

// Disarmed are the files that would have given rights to whoever runs them, in order: the bits for another account or group
// (chmod(2)) and capabilities (capabilities(7)) were left off.
func (t *Tree) Disarmed() []string { return slices.Compact(slices.Sorted(slices.Values(t.disarmed))) }

// arms tells whether a file's attribute gives rights, or means something to the system alone. What a site needs are
// those of users and the rules of access.
func arms(attribute string) bool {
	return strings.HasPrefix(attribute, "security.") || strings.HasPrefix(attribute, "trusted.")
}

// setsIDs are the bits that run a file as another account or group.
const setsIDs = 0o6000

// disarm is a file as it comes back: without the rights that it gives to whoever runs it, unless they are trusted.
func (t *Tree) disarm(rel string, h *tar.Header) *tar.Header {
	bits := int64(setsIDs)
	if h.Typeflag != tar.TypeReg { // of a folder they say whose what is made there will be
		bits = 0
	}
	gives := h.Mode&bits != 0
	for key := range h.PAXRecords {
		name, ok := strings.CutPrefix(key, archive.PAXXAttr)
		gives = gives || ok && arms(name)
	}
	if t.Trusted || !gives {
		return h
	}
	t.mu.Lock()
	t.disarmed = append(t.disarmed, rel)
	t.mu.Unlock()
	harmless := *h
	harmless.Mode &^= bits
	harmless.PAXRecords = maps.Clone(h.PAXRecords)
	maps.DeleteFunc(harmless.PAXRecords, func(key, _ string) bool {
		name, ok := strings.CutPrefix(key, archive.PAXXAttr)
		return ok && arms(name)
	})
	return &harmless
}

// Unmade are symbolic links that could not be made on this system, and where they lead.
func (t *Tree) Unmade() map[string]string { return t.unmade }

// Written is how many paths were written.
func (t *Tree) Written() int64 { return t.written }

// Lost are the names of what was wanted and is damaged in every store, in order.
func (t *Tree) Lost() []string {
	slices.Sort(t.lost)
	return t.lost
}

// unpacking is one part on its way into the tree.
type unpacking struct {
	*Tree
	h    *catalog.Held
	ix   *catalog.Index
	part archive.Part
	// good are the names that were written and are what was saved, begun those that
	// were begun.
	good, begun map[string]bool
}

func (t *Tree) part(ctx context.Context, h *catalog.Held, ix *catalog.Index, part archive.Part) error {
	u := &unpacking{Tree: t, h: h, ix: ix, part: part, good: map[string]bool{}, begun: map[string]bool{}}
	var failed error
	damage := true
	for _, s := range h.Stores {
		err := u.from(ctx, s)
		if err == nil {
			return nil
		}
		damage = damage && catalog.IsDamage(err)
		failed = errors.Join(failed, err)
		u.dropBad()
	}
	lacking, err := u.lacking(ctx)
	switch {
	case err != nil:
		return errors.Join(failed, err)
	case len(lacking) == 0 && damage:
		return nil // what is damaged is not wanted
	}
	if !t.Salvage || !damage {
		return failed
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.lost = append(t.lost, lacking...)
	return nil
}

// from unpacks what is still lacking from one store, as far as it can be read.
func (u *unpacking) from(ctx context.Context, s store.Named) error {
	p, err := u.h.OpenPart(ctx, s, u.part, u.Pace)
	if err != nil {
		return err
	}
	defer p.Close()
	var bad error
	err = u.ix.Sift(p, u.part, func(hdr *tar.Header, content io.Reader) (bool, error) {
		if err := ctx.Err(); err != nil {
			return false, err
		}
		name := strings.TrimSuffix(hdr.Name, "/")
		rel, wanted, err := u.place(hdr)
		if err != nil || !wanted || u.good[name] || u.live.has(u.part.Name, name) {
			return false, err
		}
		err = u.entry(rel, hdr, content)
		if err == nil || errors.Is(err, archive.ErrDamaged) {
			u.begun[name] = true
		}
		if hdr.Typeflag == tar.TypeLink && u.Salvage && errors.Is(err, fs.ErrNotExist) {
			return false, nil // another name of a file that is lost
		}
		return err == nil, err
	}, func(hdr *tar.Header, sound bool) error {
		name := strings.TrimSuffix(hdr.Name, "/")
		if !sound {
			bad = fmt.Errorf("part %s: %w: the content of %q is not what was saved", u.part.Name, archive.ErrDamaged, hdr.Name)
			return nil
		}
		u.good[name] = true
		u.mu.Lock()
		defer u.mu.Unlock()
		u.written++
		return nil
	})
	if err = errors.Join(err, bad); err != nil {
		return err
	}
	return p.Finish()
}

// dropBad removes what was begun and is not what was saved, or only half of it.
func (u *unpacking) dropBad() {
	for name := range u.begun {
		at := name
		if link := u.standIns[name]; link != "" {
			at = link
		}
		if rel, err := u.relative(at); err == nil && !u.good[name] {
			_ = u.root.Remove(rel)
		}
	}
	u.begun = map[string]bool{}
}

// lacking are the names in the list of what is wanted of the part and was not written.
func (u *unpacking) lacking(ctx context.Context) (names []string, err error) {
	err = u.h.ReadList(ctx, func(e archive.Entry) error {
		if e.Part != u.part.Name || u.good[e.Path] || u.live.has(e.Part, e.Path) {
			return nil
		}
		if link := u.standIns[e.Path]; link != "" {
			names = append(names, link)
			return nil
		}
		_, wanted, err := u.wants(&tar.Header{Name: e.Path})
		if wanted && e.Path != u.Label {
			names = append(names, e.Path)
		}
		return err
	})
	return names, err
}

// longestName is the kernel's limit on a path (PATH_MAX): nothing longer can
// have been archived.
const longestName = 4096

// relative takes the label off a name and refuses what could lead out.
func (t *Tree) relative(name string) (string, error) {
	if len(name) > longestName {
		return "", fmt.Errorf("the name %.60q… is longer than any path can be: refused", name)
	}
	clean := strings.TrimSuffix(name, "/")
	if clean == t.Label {
		return ".", nil
	}
	rel, ok := strings.CutPrefix(clean, t.Label+"/")
	if !ok || !sitepath.IsLocal(rel) || path.Clean(rel) != rel {
		return "", fmt.Errorf("the name %q leads out of the folder: refused", name)
	}
	return t.names.of(rel), nil
}

// wants tells whether an entry is to be written, and where.
func (t *Tree) wants(h *tar.Header) (rel string, wanted bool, err error) {
	if label, _, _ := strings.Cut(h.Name, "/"); slices.Contains(t.Others, label) {
		return "", false, nil
	}
	if rel, err = t.relative(h.Name); err != nil {
		return "", false, err
	}
	// With a choice, the folder to extract into keeps its own permissions.
	return rel, t.Keep == nil || rel != "." && t.Keep(strings.TrimPrefix(strings.TrimSuffix(h.Name, "/"), t.Label+"/")), nil
}

func (t *Tree) entry(rel string, h *tar.Header, content io.Reader) error {
	h = t.disarm(rel, h)
	if t.Note != nil {
		target := ""
		if h.Typeflag == tar.TypeSymlink {
			target = h.Linkname
		}
		t.Note(rel, goMode(h.Mode), target)
	}
	switch h.Typeflag {
	case tar.TypeReg:
		return t.file(rel, h, content)
	case tar.TypeDir:
		if err := t.folder(rel); err != nil {
			return err
		}
		t.folders = append(t.folders, h)
		return nil
	case tar.TypeSymlink:
		return t.symlink(rel, h)
	case tar.TypeLink:
		return t.hardlink(rel, h)
	default:
		return fmt.Errorf("%q is of a kind (%q) that is never restored: refused", h.Name, h.Typeflag)
	}
}

func (t *Tree) folder(rel string) error {
	if _, ok := t.made.Load(rel); ok || rel == "." {
		return nil
	}
	if err := t.root.MkdirAll(rel, 0o700); err != nil {
		return err
	}
	t.made.Store(rel, true)
	return nil
}

// fresh removes what an earlier, damaged copy of the part has left under a name.
func (t *Tree) fresh(rel string, make func() error) error {
	err := make()
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	if t.KeepExisting {
		return fmt.Errorf("%s is there already and is not replaced; choose an empty folder", rel)
	}
	if err := t.root.Remove(rel); err != nil {
		return err
	}
	return make()
}

// buffers are what content is copied through: few calls of the system for a file of the usual size.
var buffers = sync.Pool{New: func() any { b := make([]byte, 256<<10); return &b }}

func (t *Tree) file(rel string, h *tar.Header, content io.Reader) error {
	if err := t.folder(path.Dir(rel)); err != nil {
		return err
	}
	var f *disk.File
	err := t.fresh(rel, func() (err error) {
		f, err = t.root.Create(rel, 0o600)
		return err
	})
	if err != nil {
		return err
	}
	if err = t.fill(f, h, content); err == nil {
		err = t.Owners.apply(h, f.Chown)
	}
	if err == nil {
		err = f.Chmod(goMode(h.Mode))
	}
	if err == nil {
		t.setXAttrs(h, f.File)
		f.StartWriteback()
		if f.SetTimes(h.ModTime) != nil { // without /proc it takes the name
			err = t.root.Chtimes(rel, h.ModTime, h.ModTime)
		}
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("write %s: %w", rel, err)
	}
	return nil
}

// fill gives a new file its content.
func (t *Tree) fill(f *disk.File, h *tar.Header, content io.Reader) error {
	if l, ok := content.(*liveContent); ok && t.cloned(f, l) {
		return nil
	}
	if h.PAXRecords[archive.PAXSparse] != "" {
		return copySparse(f, content, h.Size)
	}
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	_, err := io.CopyBuffer(struct{ io.Writer }{f}, content, *buf)
	return err
}

func (t *Tree) symlink(rel string, h *tar.Header) error {
	if err := t.folder(path.Dir(rel)); err != nil {
		return err
	}
	err := t.fresh(rel, func() error { return t.root.Symlink(h.Linkname, rel) })
	if err != nil && !disk.KeepsModes {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.unmade[rel] = h.Linkname
		return nil
	}
	if err != nil {
		return err
	}
	err = t.Owners.apply(h, func(uid, gid int) error { return t.root.Lchown(rel, uid, gid) })
	if err == nil && !h.ModTime.IsZero() {
		err = t.root.LchtimesIfAble(rel, h.ModTime)
	}
	return err
}

func (t *Tree) hardlink(rel string, h *tar.Header) error {
	target, err := t.relative(h.Linkname)
	if err != nil {
		return err
	}
	if err := t.folder(path.Dir(rel)); err != nil {
		return err
	}
	return t.fresh(rel, func() error { return t.root.LinkOrCopy(target, rel) })
}

// finishFolders gives folders their owners, permissions and times, innermost
// first: writing into one changes its time, and it may end up read-only.
func (t *Tree) finishFolders() error {
	for i := len(t.folders) - 1; i >= 0; i-- {
		h := t.folders[i]
		rel, err := t.relative(h.Name)
		if err != nil {
			return err
		}
		if err := t.finishFolder(rel, h); err != nil {
			return fmt.Errorf("folder %s: %w", rel, err)
		}
	}
	return nil
}

// finishFolder opens a folder first: one that its owner may not enter cannot be opened
// afterwards. Its attributes come after its permissions, which change access control lists.
func (t *Tree) finishFolder(rel string, h *tar.Header) error {
	f, err := t.root.Open(rel)
	if err != nil {
		return err
	}
	err = t.Owners.apply(h, func(uid, gid int) error { return t.root.Lchown(rel, uid, gid) })
	if err == nil {
		err = t.root.Chmod(rel, goMode(h.Mode))
	}
	if err == nil {
		t.setXAttrs(h, f)
		err = t.root.Chtimes(rel, h.ModTime, h.ModTime)
	}
	return errors.Join(err, f.Close())
}

// setXAttrs sets a path's extended attributes. What this account or file
// system may not have is counted, not fatal: the content is there.
func (t *Tree) setXAttrs(h *tar.Header, f *os.File) {
	for key, value := range h.PAXRecords {
		name, ok := strings.CutPrefix(key, archive.PAXXAttr)
		if !ok {
			continue
		}
		data, whole := []byte(value), true
		if archive.IsACL(name) {
			data, whole = t.Owners.acl(data)
		}
		if data == nil || xattr.FSet(f, name, data) != nil || !whole {
			t.mu.Lock()
			t.unset++
			t.mu.Unlock()
		}
	}
}

// copySparse writes content with holes for what is nothing but zeros.
func copySparse(f *disk.File, content io.Reader, size int64) error {
	block := make([]byte, 64<<10)
	zeros := make([]byte, len(block))
	for {
		n, err := input.Fill(content, block)
		if n > 0 && bytes.Equal(block[:n], zeros[:n]) {
			if _, err := f.Seek(int64(n), io.SeekCurrent); err != nil {
				return err
			}
		} else if n > 0 {
			if _, err := f.Write(block[:n]); err != nil {
				return err
			}
		}
		switch {
		case err != nil:
			return err
		case n < len(block):
			return f.Truncate(size)
		}
	}
}

func goMode(unix int64) fs.FileMode {
	m := fs.FileMode(unix & 0o777)
	if unix&0o4000 != 0 {
		m |= fs.ModeSetuid
	}
	if unix&0o2000 != 0 {
		m |= fs.ModeSetgid
	}
	if unix&0o1000 != 0 {
		m |= fs.ModeSticky
	}
	return m
}
