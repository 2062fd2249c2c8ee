// Package compare tells what differs between an archive and another, or the
// live site, and what of it a person should look at first.
package compare

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"path"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/changes"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// The ways in which a path or table differs.
const (
	Added   = "added"
	Removed = "removed"
	Changed = "changed"
	// Rights is a path with the same content whose mode or owner differs.
	Rights = "rights"
)

// File is a path that differs.
type File struct {
	Path      string `json:"path"`
	Component string `json:"component"`
	// How is added, removed, changed or rights, seen from the first side.
	How string `json:"how"`
	// Before and After are lengths in bytes, -1 where the path is not there.
	Before int64 `json:"before_bytes"`
	After  int64 `json:"after_bytes"`
	// Suspect says why a person should look at it; empty as a rule.
	Suspect string `json:"suspect"`
	// Was and Is say what the path is on either side where it is no file: a folder, or a link and where it leads.
	Was string `json:"was,omitempty"`
	Is  string `json:"is,omitempty"`
	Sighting

	folder bool
	digest func() (string, error)
}

// Folder tells whether the path is a folder.
func (f File) Folder() bool { return f.folder }

// Table is a table that differs.
type Table struct {
	Database string `json:"database"`
	Table    string `json:"table"`
	How      string `json:"how"`
	// Before and After count rows, -1 where the table is not there.
	Before int64 `json:"before_rows"`
	After  int64 `json:"after_rows"`
}

// Report is what differs.
type Report struct {
	Files  []File  `json:"files"`
	Tables []Table `json:"tables"`
	// Definitions are what of the databases' structure differs, Rows the rows that
	// a person should look at.
	Definitions []Definition `json:"definitions"`
	Rows        []SuspectRow `json:"suspect_rows"`
	// Half is `files` or `database` where only that was compared.
	Half string `json:"half,omitempty"`
	// Compared counts paths and tables on the first side.
	Compared int64 `json:"compared"`
	// NotRead counts files that were taken for the same by length and time alone.
	NotRead int64 `json:"not_read"`
	// NotCompared are databases that an archive holds as text of another program: what is
	// in their tables is not known.
	NotCompared []string `json:"not_compared"`
	// Gaps are paths of the live site that cannot be read: whether they differ is
	// not known.
	Gaps []archive.Gap `json:"gaps"`
	// LeftOut are the paths of the live site that its archives leave out: neither they nor what lies below
	// them was looked at.
	LeftOut []LeftOut `json:"left_out"`

	traced []Sighting
	// linked are further names of files, to be followed at the end.
	linked []linked
	// later are pairs of files far away whose content has to be read, many at a time.
	later []linked
}

// LeftOut counts the paths that a rule leaves out.
type LeftOut struct {
	Rule  string `json:"rule"`
	Paths int64  `json:"paths"`
}

// Same tells whether nothing differs.
func (r *Report) Same() bool {
	return len(r.Files) == 0 && len(r.Tables) == 0 && len(r.Definitions) == 0
}

// Unknown tells that something could not be compared, so that whether it differs is not known.
func (r *Report) Unknown() bool { return len(r.Gaps)+len(r.NotCompared) > 0 }

// Side is one of the two states that are compared.
type Side interface {
	// Files visits the paths in the order of a list.
	Files(ctx context.Context) iter.Seq2[Entry, error]
	// Tables returns what is known of each table.
	Tables(ctx context.Context) (map[TableName]Sum, error)
	// Definitions returns the statements that make the tables of a database and
	// what else is in it, by database.
	Definitions(ctx context.Context) (map[string][]string, error)
	// Texts gives the rows of a labelled database's tables, until done is called.
	Texts(ctx context.Context, label string) (texts Texts, done func(), err error)
	// Version is what the CMS says of itself.
	Version() string
}

// Entry is one path of a side.
type Entry struct {
	archive.Entry
	// line is set when the entry is not decoded yet: only its path is known then.
	line *archive.Line
	// Digest reads the file and returns its SHA-256; nil when that is known.
	Digest func() (string, error)
}

// complete decodes an entry of which only the path is known.
func (e *Entry) complete() (err error) {
	if e.line == nil {
		return nil
	}
	e.Entry, err = e.line.Entry()
	e.line = nil
	return err
}

// untouched tells whether a file has not been touched since its line was written:
// whatever is done to a file, rights included, changes one of these.
func (e *Entry) untouched(now *Entry) bool {
	l := e.line
	return l != nil && l.File && !l.Copied && now.Digest != nil && l.Size == now.Size && l.Inode == now.Inode &&
		l.MTime == now.MTime.UnixNano() && l.CTime == now.CTime.UnixNano()
}

// TableName names a table of a labelled database.
type TableName struct{ Database, Table string }

// Sum is what tells whether two tables are the same.
type Sum struct {
	Rows int64
	// Digests are those of the table's slices, as SQL text.
	Digests []string
}

// Job is a comparison.
type Job struct {
	A, B Side
	// Recipe knows the site's components; nil knows none.
	Recipe *site.Recipe
	// Read compares every file by its content; without it, files of the same
	// length and time are taken for the same, unless they are scripts, or parts of
	// the CMS itself, that were touched since: times can be set back. ReadTouched
	// reads every file that was touched.
	Read, ReadTouched bool
	// Files and Tables choose what is compared.
	Files, Tables bool
	// through are names of other folders of the site, with the links that lead there in what is compared.
	through map[string][]string
}

// Run compares.
func (j Job) Run(ctx context.Context) (*Report, error) {
	r := &Report{Files: []File{}, Tables: []Table{}, Definitions: []Definition{}, Rows: []SuspectRow{}, NotCompared: []string{}, Gaps: []archive.Gap{}, LeftOut: []LeftOut{}}
	switch {
	case !j.Tables:
		r.Half = "files"
	case !j.Files:
		r.Half = "database"
	}
	if j.Files {
		if err := j.findLinks(ctx); err != nil {
			return nil, err
		}
		if err := j.files(ctx, r); err != nil {
			return nil, err
		}
		if err := errors.Join(j.readLater(r), j.follow(ctx, r)); err != nil {
			return nil, err
		}
		slices.SortStableFunc(r.Files, func(a, b File) int { return archive.ComparePaths(a.Path, b.Path) })
		j.lonelyScripts(r)
	}
	if j.Tables {
		if err := j.tables(ctx, r); err != nil {
			return nil, err
		}
	}
	if live, ok := j.B.(*Live); ok {
		r.Gaps = append(r.Gaps, live.gaps...)
		for _, rule := range slices.Sorted(maps.Keys(live.leftOut)) {
			r.LeftOut = append(r.LeftOut, LeftOut{rule, live.leftOut[rule]})
		}
	}
	return r, nil
}

// findLinks finds out what leads from the webroot to other folders of the site, as far as archives tell.
func (j *Job) findLinks(ctx context.Context) error {
	j.through = map[string][]string{}
	for _, side := range []Side{j.A, j.B} {
		h, ok := side.(Archive)
		if !ok {
			continue
		}
		through, err := h.Through(ctx, site.RootLabel)
		if err != nil {
			return err
		}
		for real, links := range through {
			j.through[real] = append(j.through[real], links...)
		}
	}
	return nil
}

// files merges both lists, which are in the same order.
func (j Job) files(ctx context.Context, r *Report) error {
	next, stop := iter.Pull2(j.A.Files(ctx))
	defer stop()
	a, err, more := next()
	for b, readErr := range j.B.Files(ctx) {
		if err := errors.Join(err, readErr); err != nil {
			return err
		}
		for more && archive.ComparePaths(a.Path, b.Path) < 0 {
			r.Compared++
			if err := a.complete(); err != nil {
				return err
			}
			j.note(r, Removed, &a, nil)
			if a, err, more = next(); err != nil {
				return err
			}
		}
		if !more || a.Path != b.Path {
			j.note(r, Added, nil, &b)
			continue
		}
		r.Compared++
		if err := j.both(r, &a, &b); err != nil {
			return err
		}
		if a, err, more = next(); err != nil {
			return err
		}
	}
	for ; more && err == nil; a, err, more = next() {
		r.Compared++
		if err := a.complete(); err != nil {
			return err
		}
		j.note(r, Removed, &a, nil)
	}
	return err
}

// both compares two entries of the same path.
func (j Job) both(r *Report, a, b *Entry) error {
	if !j.Read && a.untouched(b) {
		r.NotRead++
		return nil
	}
	if err := a.complete(); err != nil {
		return err
	}
	if a.Type == archive.TypeHardlink && b.Type == archive.TypeFile || a.Type == archive.TypeFile && b.Type == archive.TypeHardlink {
		r.linked = append(r.linked, linked{*a, *b})
		return nil
	}
	if live, ok := j.B.(*Live); ok && live.Site.Far() && a.Type == archive.TypeFile && b.Type == archive.TypeFile && !a.Copied && !b.Copied && a.Size == b.Size && !j.trusts(*a, *b) {
		if r.later = append(r.later, linked{*a, *b}); len(r.later) == mostLater {
			return j.readLater(r)
		}
		return nil
	}
	how, err := j.differ(r, *a, *b)
	if err == nil && how != "" {
		j.note(r, how, a, b)
	}
	return err
}

const (
	// mostLater is how many pairs are gathered, readAtOnce how many of their files are read at a
	// time: each takes some journeys there and back.
	mostLater  = 1024
	readAtOnce = 32
)

// readLater compares the pairs that were gathered.
func (j Job) readLater(r *Report) error {
	found, how := make([]Report, len(r.later)), make([]string, len(r.later))
	var g errgroup.Group
	g.SetLimit(readAtOnce)
	for i, l := range r.later {
		g.Go(func() (err error) {
			how[i], err = j.differ(&found[i], l.a, l.b)
			return err
		})
	}
	err := g.Wait()
	for i, l := range r.later {
		r.Gaps = append(r.Gaps, found[i].Gaps...)
		if err == nil && how[i] != "" {
			j.note(r, how[i], &l.a, &l.b)
		}
	}
	r.later = nil
	return err
}

// linked is a path that is a further name of a file on one side, and a file on the other:
// not every place tells which names are of one file.
type linked struct{ a, b Entry }

// follow compares such paths by the content of the file that they are names of.
func (j Job) follow(ctx context.Context, r *Report) error {
	for i, side := range []Side{j.A, j.B} {
		wanted := map[string][]linked{}
		for _, l := range r.linked {
			if e := [...]Entry{l.a, l.b}[i]; e.Type == archive.TypeHardlink {
				wanted[e.Target] = append(wanted[e.Target], l)
			}
		}
		if len(wanted) == 0 {
			continue
		}
		for e, err := range side.Files(ctx) {
			if err == nil && wanted[e.Path] != nil {
				err = e.complete()
			}
			if err != nil {
				return err
			}
			for _, l := range wanted[e.Path] {
				a, b := l.a, l.b
				which := [...]*Entry{&a, &b}[i]
				*which = e
				which.Path = l.a.Path
				how, err := j.differ(r, a, b)
				if err != nil {
					return err
				}
				if how != "" {
					j.note(r, how, &l.a, &l.b)
				}
			}
			delete(wanted, e.Path)
		}
		for _, all := range wanted { // what it is a name of is not there
			for _, l := range all {
				j.note(r, Changed, &l.a, &l.b)
			}
		}
	}
	r.linked = nil
	return nil
}

// differ tells how two entries of the same path differ, if they do.
func (j Job) differ(r *Report, a, b Entry) (string, error) {
	switch {
	case a.Type != b.Type, a.Target != b.Target:
		return Changed, nil
	case a.Type == archive.TypeFile && !a.Copied && !b.Copied:
		same, err := j.sameContent(r, a, b)
		if err != nil || !same {
			return Changed, err
		}
	}
	if a.Mode != b.Mode || a.UID != b.UID || a.GID != b.GID {
		return Rights, nil
	}
	return "", nil
}

func (j Job) sameContent(r *Report, a, b Entry) (bool, error) {
	if a.Size != b.Size {
		return false, nil
	}
	if j.trusts(a, b) {
		r.NotRead++
		return true, nil
	}
	for _, e := range []*Entry{&a, &b} {
		if e.Digest != nil {
			var err error
			if e.SHA256, err = e.Digest(); errors.Is(err, tree.ErrUnreachable) {
				return false, err
			}
			if err != nil {
				r.Gaps = append(r.Gaps, archive.Gap{Path: e.Path, Kind: archive.GapUnreadable, Why: err.Error()})
				return true, nil // nobody knows
			}
		}
	}
	return a.SHA256 == b.SHA256, nil
}

// trusts tells whether a file of the same length is taken for the same without being read.
func (j Job) trusts(a, b Entry) bool {
	return !j.Read && b.Digest != nil && a.MTime.Equal(b.MTime) && (a.CTime.Equal(b.CTime) && !(j.ReadTouched && b.CTime.IsZero()) || !j.readTouched(b.Path))
}

// readTouched tells whether a file is read because something was done to it since,
// though its time of modification says otherwise.
func (j Job) readTouched(p string) bool {
	rel := strings.TrimPrefix(p, site.RootLabel+"/")
	return j.ReadTouched || changes.Executable(rel) || slices.Contains(changes.ServerSettings, path.Base(rel)) || j.Recipe.ComponentOfName(p, j.through) == "core"
}

// note adds a difference.
func (j Job) note(r *Report, how string, a, b *Entry) {
	f := File{How: how, Before: -1, After: -1}
	for _, side := range []struct {
		e  *Entry
		to *int64
	}{{a, &f.Before}, {b, &f.After}} {
		if side.e != nil {
			f.Path, *side.to = side.e.Path, side.e.Size
		}
	}
	rel := strings.TrimPrefix(f.Path, site.RootLabel+"/")
	f.Component = j.Recipe.ComponentOfName(f.Path, j.through)
	entry := b
	if entry == nil {
		entry = a
	}
	if how != Rights {
		switch entry.Type {
		case archive.TypeFile, archive.TypeHardlink: // a further name is a name
			f.Suspect = j.suspect(how, rel, f.Component)
		case archive.TypeSymlink:
			f.Suspect = cmp.Or(j.suspect(how, rel, f.Component), j.suspectLink(how, rel, entry.Target))
		}
	}
	f.Was, f.Is = what(a), what(b)
	f.folder = entry.Type == archive.TypeFolder
	if b != nil {
		f.digest = b.Digest
	}
	r.Files = append(r.Files, f)
}

// tables compares the databases.
func (j Job) tables(ctx context.Context, r *Report) error {
	before, err := j.A.Tables(ctx)
	if err != nil {
		return err
	}
	after, err := j.B.Tables(ctx)
	if err != nil {
		return err
	}
	r.NotCompared = j.dumped()
	for _, tables := range []map[TableName]Sum{before, after} {
		maps.DeleteFunc(tables, func(name TableName, _ Sum) bool { return slices.Contains(r.NotCompared, name.Database) })
	}
	r.Compared += int64(len(before))
	for name, a := range before {
		b, there := after[name]
		switch {
		case !there:
			r.Tables = append(r.Tables, Table{name.Database, name.Table, Removed, a.Rows, -1})
		case !slices.Equal(a.Digests, b.Digests):
			r.Tables = append(r.Tables, Table{name.Database, name.Table, Changed, a.Rows, b.Rows})
		}
	}
	for name, b := range after {
		if _, there := before[name]; !there {
			r.Tables = append(r.Tables, Table{name.Database, name.Table, Added, -1, b.Rows})
		}
	}
	slices.SortFunc(r.Tables, func(a, b Table) int {
		return strings.Compare(a.Database+"\x00"+a.Table, b.Database+"\x00"+b.Table)
	})
	if live, ok := j.B.(*Live); ok && live.Statements == nil {
		return nil // a copy, not a site that somebody gets into
	}
	if err := j.definitions(ctx, r); err != nil {
		return err
	}
	return j.watch(ctx, r, before, after)
}

// dumped names the databases that one of the sides holds as text of another program.
func (j Job) dumped() []string {
	labels := []string{}
	for _, side := range []Side{j.A, j.B} {
		if live, ok := side.(*Live); ok {
			for _, db := range live.Site.Databases {
				if db.Dump != "" && !slices.Contains(labels, db.Label) {
					labels = append(labels, db.Label)
				}
			}
		}
		a, ok := side.(Archive)
		if !ok {
			continue
		}
		for label := range a.Origin.Databases {
			if a.HasDump(label) && !slices.Contains(labels, label) {
				labels = append(labels, label)
			}
		}
	}
	slices.Sort(labels)
	return labels
}

// watch judges the rows that differ. Only archives know how a database is made.
func (j Job) watch(ctx context.Context, r *Report, before, after map[TableName]Sum) error {
	a, ok := j.A.(Archive)
	if !ok || j.Recipe == nil || len(j.Recipe.Watch) == 0 {
		return nil
	}
	changed := map[string][]string{}
	for _, t := range r.Tables {
		if t.How == Changed {
			changed[t.Database] = append(changed[t.Database], t.Table)
		}
	}
	for label, tables := range changed {
		origin := a.Origin.Databases[label]
		var all []string
		for _, side := range []map[TableName]Sum{before, after} {
			for name := range side {
				if name.Database == label && !slices.Contains(all, name.Table) {
					all = append(all, name.Table)
				}
			}
		}
		w := Watcher{Recipe: j.Recipe, Tables: all, Database: label, Engine: origin.Engine, Prefix: origin.Prefix, Count: func(table string) int64 {
			name := TableName{label, table}
			return max(before[name].Rows, after[name].Rows)
		}}
		found, err := j.suspectRows(ctx, w, tables)
		if err != nil {
			return fmt.Errorf("database %s: %w", label, err)
		}
		r.Rows = append(r.Rows, found...)
	}
	return nil
}
