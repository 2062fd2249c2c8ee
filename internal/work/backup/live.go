package backup

import (
	"context"
	"iter"
	"maps"
	"slices"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/state"
	"revlet/internal/site"
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

// Confined is a disk on which a site's folders are read without following links.
func Confined(d *disk.Disk, s *site.Site) (*disk.Disk, func(), error) {
	return d.Confined(append(slices.Collect(maps.Values(s.Roots)), s.Root)...)
}

// Live visits every path of a site that an archive would hold, in the order of
// an archive's list. Entries are without digests; file is where a regular file
// lies, to be read through Confined. isDatabase tells database files by their first bytes: their logs are no
// part of an archive. Paths that cannot be read are gaps.
func Live(ctx context.Context, d *disk.Disk, s *site.Site, isDatabase func([]byte) bool, visit func(e archive.Entry, file string) error) (gaps []archive.Gap, err error) {
	d, done, err := Confined(d, s)
	if err != nil {
		return nil, err
	}
	defer done()
	ahead, stop := newLookout(d)
	defer stop()
	w := &walker{disk: d, site: s, ahead: ahead, isDatabase: isDatabase,
		tree: func(e archive.Entry) error { return visit(e, "") },
		gap:  func(g archive.Gap) { gaps = append(gaps, g) },
		skip: func(string, string) {},
	}
	w.file = func(f planned) error { return visit(w.names.entry(archive.TypeFile, f.name, f.info), f.path) }
	err = w.walk(ctx)
	return gaps, err
}
