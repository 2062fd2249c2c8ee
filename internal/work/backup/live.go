package backup

import (
	"context"
	"fmt"
	"io/fs"
	"iter"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// KnownLines are the lines of an archive's list in the form that this machine keeps
// of the last one; nil for other archives.
func KnownLines(ctx context.Context, st *state.State, site, name string) iter.Seq2[archive.Line, error] {
	p := remembered(ctx, st, site, filesHalf)
	if p == nil || p.Record.Name != name || p.List == "" || !p.Whole {
		return nil
	}
	return p.allEntries()
}

// Folders are the folders of a site, open for reading.
type Folders struct {
	open map[string]tree.Folder
	errs map[string]error
}

// OpenFolders opens the folders of a site. One that cannot be opened gives its error when
// it is asked for. Close lets go of them.
func OpenFolders(ctx context.Context, d *disk.Disk, s *site.Site) *Folders {
	f := &Folders{map[string]tree.Folder{}, map[string]error{}}
	for label, dir := range s.Folders() {
		in, err := s.At(d).Folder(ctx, s.PathAt(dir))
		if err != nil {
			f.errs[label] = fmt.Errorf("read the %s folder %s: %w", label, dir, err)
			continue
		}
		f.open[label] = in
	}
	return f
}

// In is the folder with a label.
func (f *Folders) In(label string) (tree.Folder, error) {
	if in, ok := f.open[label]; ok {
		return in, nil
	}
	if err := f.errs[label]; err != nil {
		return nil, err
	}
	return nil, fmt.Errorf("the site has no folder %q: %w", label, fs.ErrNotExist)
}

// Open opens a regular file by its name in archives, which begins with a label.
func (f *Folders) Open(name string) (tree.File, error) {
	label, rel, _ := strings.Cut(name, "/")
	in, err := f.In(label)
	if err != nil {
		return nil, err
	}
	return in.Open(rel)
}

// Close lets go of the folders.
func (f *Folders) Close() {
	for _, in := range f.open {
		_ = in.Close()
	}
}

// Live visits every path of a site that an archive would hold, in the order of
// an archive's list. Entries are without digests. isDatabase tells database files by their
// first bytes: their logs are no part of an archive. Paths that cannot be read are gaps;
// skip is told of those that a rule leaves out, and of nothing below them.
func Live(ctx context.Context, d *disk.Disk, s *site.Site, isDatabase func([]byte) bool, visit func(archive.Entry) error, skip func(name, rule string)) (gaps []archive.Gap, err error) {
	folders := OpenFolders(ctx, d, s)
	defer folders.Close()
	ahead, stop := newLookout()
	defer stop()
	w := &walker{disk: d, folders: folders, site: s, ahead: ahead, look: true, isDatabase: isDatabase,
		tree: visit,
		gap:  func(g archive.Gap) { gaps = append(gaps, g) },
		skip: skip,
	}
	w.file = func(f planned) error { return visit(entryOf(f.in, archive.TypeFile, f.name, f.info)) }
	err = w.walk(ctx)
	return gaps, err
}
