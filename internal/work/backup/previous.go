package backup

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"iter"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/changes"
	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/site/tree"
	"revlet/internal/store/folder"
)

// previous is what this machine remembers of a site's last archive with files,
// or with databases: enough to name its parts again. It is only ever a help:
// without it, everything is read and written afresh.
type previous struct {
	// Version is that of this form; another one is as good as nothing.
	Version int             `json:"version"`
	Record  *archive.Record `json:"record"`
	// To are those for whom the archive was encrypted.
	To []string `json:"to,omitempty"`
	// Began is when the archive was begun by this machine's own clock, which files'
	// times are compared with.
	Began time.Time `json:"began"`
	// Fresh is when everything was last read.
	Fresh time.Time `json:"fresh"`
	// Scripts is when all scripts were last read, where whoever writes them can set their
	// times as he likes.
	Scripts time.Time `json:"scripts"`
	// Marks are what the database servers vouch for later, by label.
	Marks map[string]*database.Marks `json:"marks,omitempty"`
	// List is the name of the file that holds the open list, ListSHA256 of its bytes.
	List       string `json:"list,omitempty"`
	ListSHA256 string `json:"list_sha256,omitempty"`
	ListBytes  int64  `json:"list_bytes,omitempty"`
	// Whole tells that the list has folders, links and tables, too.
	Whole bool `json:"whole,omitempty"`
	// Stale are the names in each part that the archive does not hold.
	Stale map[string][][]byte `json:"stale,omitempty"`

	dir  string
	disk *disk.Disk
	// rereads tells that scripts are read again in this run.
	rereads bool
	recipe  *site.Recipe
}

// scriptsEvery is how often scripts are read again that a place says nothing of but their
// size and time: who breaks in sets the times back.
const scriptsEvery = 7 * 24 * time.Hour

var scriptEndings = []string{".php", ".phtml", ".phar", ".inc", ".module", ".js", ".cgi", ".pl", ".htaccess", ".user.ini"}

// isScript tells whether a path may be run, or belongs to what the CMS itself is made of.
func (p *previous) isScript(name string) bool {
	return p.recipe.ComponentOfName(name, nil) == "core" || slices.ContainsFunc(scriptEndings, func(end string) bool { return strings.HasSuffix(strings.ToLower(name), end) })
}

const previousVersion = 5

const (
	filesHalf    = "files.json"
	databaseHalf = "database.json"
)

// remembered reads what is remembered of one half of a site. Whatever is wrong
// with it, it is as if there were nothing.
func remembered(ctx context.Context, st *state.State, site, half string) *previous {
	p := &previous{dir: st.Previous(site), disk: st.Disk}
	data, err := st.Disk.ReadFile(filepath.Join(p.dir, half))
	if err != nil || json.Unmarshal(data, p) != nil || p.Record == nil || p.Version != previousVersion {
		return nil
	}
	if p.List == "" {
		return p
	}
	if err := catalog.CheckBytes(ctx, folder.New(st.Disk, p.dir), p.List, p.ListBytes, p.ListSHA256, nil); err != nil {
		return nil
	}
	return p
}

// remember replaces what is remembered of one half; the old list is removed
// once the new one counts.
func (p *previous) remember(half string) error {
	data, err := json.Marshal(p)
	if err != nil {
		return err
	}
	if err := p.disk.MkdirAll(p.dir, 0o700); err != nil {
		return err
	}
	if err := p.disk.WriteFile(filepath.Join(p.dir, half), data, 0o600); err != nil {
		return err
	}
	if p.List == "" {
		return nil
	}
	names, err := p.disk.ReadNames(p.dir)
	for _, name := range names {
		if filepath.Ext(name) == ".zst" && name != p.List {
			err = errors.Join(err, p.disk.Remove(filepath.Join(p.dir, name)))
		}
	}
	return err
}

// errEnough ends the reading of a list.
var errEnough = errors.New("enough")

// entries gives the files of the remembered list, in path order.
func (p *previous) entries() iter.Seq2[archive.Line, error] {
	return func(yield func(archive.Line, error) bool) {
		for l, err := range p.allEntries() {
			if (err != nil || l.File) && !yield(l, err) {
				return
			}
		}
	}
}

// paths gives the files, folders and links of the remembered list, in path order.
func (p *previous) paths() iter.Seq2[archive.Line, error] {
	return func(yield func(archive.Line, error) bool) {
		for l, err := range p.allEntries() {
			if (err != nil || l.Path != "") && !yield(l, err) {
				return
			}
		}
	}
}

// allEntries gives whatever is in the remembered list: folders, links and tables
// too if it is Whole.
func (p *previous) allEntries() iter.Seq2[archive.Line, error] {
	return func(yield func(archive.Line, error) bool) {
		f, err := p.disk.Open(filepath.Join(p.dir, p.List))
		if err != nil {
			yield(archive.Line{}, err)
			return
		}
		defer f.Close()
		err = archive.ReadLines(f, func(l archive.Line) error {
			if !yield(l, nil) {
				return errEnough
			}
			return nil
		})
		if err != nil && !errors.Is(err, errEnough) {
			yield(archive.Line{}, err)
		}
	}
}

// cursor goes through the remembered files beside a walk in the same order.
type cursor struct {
	next func() (archive.Line, error, bool)
	stop func()
	head archive.Line
	more bool
	// passed is told of files that the walk did not meet.
	passed func(archive.Line)
}

func (p *previous) cursor(passed func(archive.Line)) (*cursor, error) {
	c := &cursor{passed: passed}
	c.next, c.stop = iter.Pull2(p.entries())
	if err := c.advance(); err != nil {
		c.stop()
		return nil, err
	}
	return c, nil
}

func (c *cursor) advance() (err error) {
	c.head, err, c.more = c.next()
	return err
}

// at returns what is remembered of a name, and goes past it.
func (c *cursor) at(name string) (archive.Line, bool, error) {
	for c.more {
		switch order := archive.ComparePaths(c.head.Path, name); {
		case order > 0:
			return archive.Line{}, false, nil
		case order == 0:
			e := c.head
			return e, true, c.advance()
		}
		c.passed(c.head)
		if err := c.advance(); err != nil {
			return archive.Line{}, false, err
		}
	}
	return archive.Line{}, false, nil
}

// rest goes past what the walk did not come to.
func (c *cursor) rest() error {
	for c.more {
		c.passed(c.head)
		if err := c.advance(); err != nil {
			return err
		}
	}
	return nil
}

// racyWindow is how long before an archive a file must have been at rest: a change
// within the same tick of the clock as the one before leaves no trace.
const racyWindow = 2 * time.Second

// unchanged tells whether a file is still the one that was saved: same length,
// times and inode. One that was saved as a copy of a database is never: its
// logs may have changed.
func (p *previous) unchanged(l archive.Line, info fs.FileInfo) bool {
	st, ok := tree.StatOf(info)
	if !ok || l.Copied || l.Size != info.Size() || l.MTime != info.ModTime().UnixNano() || l.Inode != st.Inode {
		return false
	}
	settled := p.Began.Add(-racyWindow).UnixNano()
	if st.CTime.IsZero() {
		return l.CTime == 0 && l.MTime < settled && !(p.rereads && p.isScript(l.Path))
	}
	return l.CTime == st.CTime.UnixNano() && l.CTime < settled
}

// usage is what a part of the last archive is still worth.
type usage struct {
	live, files int64
}

const (
	// entryBytes is about what a file takes in a tar beside its content.
	entryBytes = 1 << 10
	// smallPart is the content below which a part is small; more than mostSmall
	// of those are gathered into fewer.
	smallPart = 8 << 20
	mostSmall = 24
	// mostStale bounds how many names of stale entries an archive carries along.
	mostStale = 100_000
)

// worthKeeping chooses the parts to name again: those that are mostly current.
// Small ones are written anew together once there are many.
func (p *previous) worthKeeping(usages map[string]usage, present func(archive.Part) bool) map[string]archive.Part {
	kept := map[string]archive.Part{}
	var small []string
	stale := int64(0)
	for _, part := range p.Record.Parts {
		s := usages[part.Name]
		if part.Kind != archive.KindFiles || s.files == 0 || s.live*2 < part.AllContentBytes() || !present(part) {
			continue
		}
		if stale += part.Entries - s.files; stale > mostStale {
			stale -= part.Entries - s.files
			continue
		}
		kept[part.Name] = part
		if s.live < smallPart {
			small = append(small, part.Name)
		}
	}
	if len(small) > mostSmall {
		for _, name := range small {
			delete(kept, name)
		}
	}
	return kept
}

// reuse is one run's use of the last archive's files.
type reuse struct {
	*previous
	kept  map[string]archive.Part
	used  map[string]bool
	stale map[string][]string
	c     *cursor
}

// plan walks the site without reading a file, and chooses the parts that are
// named again.
func (r *run) plan(ctx context.Context, p *previous) (*reuse, error) {
	usages := map[string]usage{}
	p.recipe, p.rereads = r.Site.Recipe, r.Now().Sub(p.Scripts) >= scriptsEvery
	c, err := p.cursor(func(archive.Line) {})
	if err != nil {
		return nil, err
	}
	defer c.stop()
	r.walked = &recording{}
	w := r.walked.walker()
	w.disk, w.folders, w.site, w.isDatabase = r.disk, r.folders, r.Site, r.IsDatabase
	record := w.file
	w.file = func(f planned) error {
		l, ok, err := c.at(f.name)
		if ok && p.unchanged(l, f.info) {
			s := usages[l.Part]
			usages[l.Part] = usage{s.live + l.Size + entryBytes, s.files + 1}
		}
		return errors.Join(err, record(f))
	}
	if err := w.walk(ctx); err != nil {
		return nil, err
	}
	kept := p.worthKeeping(usages, r.present)
	stale := map[string][]string{}
	for name := range kept {
		for _, raw := range p.Stale[name] {
			stale[name] = append(stale[name], string(raw))
		}
	}
	u := &reuse{previous: p, kept: kept, used: map[string]bool{}, stale: stale}
	if u.c, err = p.cursor(u.pass); err != nil {
		return nil, err
	}
	return u, nil
}

// present tells whether every store that is written to has a part, with its
// length.
func (r *run) present(part archive.Part) bool {
	live := r.live()
	for o := range part.Objects() {
		name := archive.PartPath(r.Site.Name, o.Name)
		if slices.ContainsFunc(live, func(t *target) bool {
			bytes, ok := t.has[name]
			return !ok || bytes != o.Bytes || t.damaged[name]
		}) {
			return false
		}
	}
	return true
}

// pass notes that a file of a part that is kept is no longer the site's.
func (u *reuse) pass(e archive.Line) {
	if _, ok := u.kept[e.Part]; ok {
		u.stale[e.Part] = append(u.stale[e.Part], e.Path)
	}
}

// take returns the line of a file that need not be read again.
func (u *reuse) take(f planned) (archive.Line, bool, error) {
	e, ok, err := u.c.at(f.name)
	if !ok || err != nil {
		return e, false, err
	}
	if _, kept := u.kept[e.Part]; !kept || !u.unchanged(e, f.info) {
		u.pass(e)
		return e, false, nil
	}
	u.used[e.Part] = true
	return e, true, nil
}

// finish drops what turned out not to be used, and returns the parts that are
// named again, in their old order.
func (u *reuse) finish() ([]archive.Part, error) {
	err := u.c.rest()
	var parts []archive.Part
	for _, part := range u.Record.Parts {
		if u.used[part.Name] {
			parts = append(parts, part)
		}
	}
	maps.DeleteFunc(u.stale, func(part string, _ []string) bool { return !u.used[part] })
	return parts, err
}

// usable tells whether the last archive may serve this run at all.
func (r *run) usable(p *previous) bool {
	return p != nil && !r.Fresh && slices.Equal(p.To, r.RecipientNames) && p.Record.Encrypted == (len(r.To) > 0) &&
		(r.FreshEvery == 0 || r.Now().Sub(p.Fresh) < r.FreshEvery)
}

// keep remembers the archive for the next run. That this fails costs time then,
// no more.
func (r *run) keep(ctx context.Context, list *summer, listName string) error {
	p := &previous{Version: previousVersion, Record: &r.record, To: r.RecipientNames, Began: r.beganThere, Fresh: r.record.Taken, Scripts: r.record.Taken, dir: r.State.Previous(r.Site.Name), disk: r.disk}
	var err error
	if r.Scope.HasDatabase() {
		p.Marks = r.marks
		err = p.remember(databaseHalf)
		p.Marks = nil
	}
	if !r.Scope.HasFiles() {
		return err
	}
	p.Whole = true
	p.List, p.ListSHA256, p.ListBytes, p.Stale = listName, list.hex(), list.n, map[string][][]byte{}
	if r.reuse != nil {
		if p.Fresh = r.reuse.Fresh; !r.reuse.rereads {
			p.Scripts = r.reuse.Scripts
		}
		for part, names := range r.reuse.stale {
			for _, name := range names {
				p.Stale[part] = append(p.Stale[part], []byte(name))
			}
		}
	}
	if r.before != nil && err == nil {
		// That they cannot be compared spoils no archive.
		r.changes, _ = r.compare(ctx, r.before, p)
	}
	return errors.Join(err, p.remember(filesHalf))
}

// compare tells what differs from the archive before.
func (r *run) compare(ctx context.Context, before, now *previous) (*changes.Changes, error) {
	judge := changes.Judge{
		ComponentOf: func(name string) string { return r.Site.Recipe.ComponentOfName(name, r.through) },
		Open: func(name string) (io.ReadCloser, error) {
			return r.folders.Open(name)
		},
	}
	if r.Site.Far() { // what has changed was read, and is not fetched again
		judge.Scrambled = func(name string) bool { return r.scrambled[name] }
	}
	c, err := &changes.Changes{Files: before.Record.Totals.Files}, error(nil)
	if before.ListSHA256 != now.ListSHA256 { // else each line is what it was
		c, err = judge.Between(before.paths(), now.paths())
	}
	if err != nil {
		return nil, err
	}
	c.Before = before.Record.Name
	c.SameVersion = before.Record.Origin.Version == r.record.Origin.Version
	if r.Restored == nil {
		return c, nil
	}
	again, err := judge.Between(pathsOf(ctx, r.Restored), now.paths())
	if err != nil || again.Added+again.Changed+again.Removed > c.Added+c.Changed+c.Removed {
		return c, nil // an encrypted list needs a key
	}
	again.Before = r.Restored.Name
	again.SameVersion = r.Restored.Origin.Version == r.record.Origin.Version
	return again, nil
}

// pathsOf gives the paths in an archive's list.
func pathsOf(ctx context.Context, h *catalog.Held) iter.Seq2[archive.Line, error] {
	return func(yield func(archive.Line, error) bool) {
		err := h.ReadList(ctx, func(e archive.Entry) error {
			if !e.IsFileTree() {
				return nil
			}
			if l, err := e.Line(); !yield(l, err) {
				return errEnough
			}
			return nil
		})
		if err != nil && !errors.Is(err, errEnough) {
			yield(archive.Line{}, err)
		}
	}
}

// keepOpen keeps the record of an encrypted archive readable on this machine,
// which holds the site itself in the clear anyway.
func keepOpen(st *state.State, rec *archive.Record) error {
	open := *rec
	data, err := open.Encode(nil)
	if err != nil {
		return err
	}
	dir := st.Records(rec.Site)
	if err := st.Disk.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	return st.Disk.WriteFile(filepath.Join(dir, rec.Name+".json"), data, 0o600)
}

// KeptOpen returns the copy of an archive's record that this machine has kept
// readable, or nil.
func KeptOpen(st *state.State, site, name string) *archive.Record {
	data, err := st.Disk.ReadFile(filepath.Join(st.Records(site), name+".json"))
	if err != nil {
		return nil
	}
	rec, err := archive.DecodeRecord(data)
	if err != nil {
		return nil
	}
	return rec
}
