package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/changes"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// Uncovered is a path of the live site that an archive never held, so that it could
// not put it back: a whole restore carries it over, or sets it aside if it is to leave
// nothing behind.
type Uncovered struct {
	// Label is the folder that it lies in, Path where, relative to that.
	Label string `json:"root"`
	Path  string `json:"path"`
	// Why is the rule that left it out, why it was a gap, or whose it is.
	Why   string `json:"why"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
	// Site is whose folder it is, if it is another site's. It always stays.
	Site string `json:"site,omitempty"`
	// TooLong tells that no system call takes its path: it goes with the folder above it.
	TooLong bool `json:"too_long,omitempty"`
	// Scripts are files in it that a web server may run, at most ScriptsNamed of them.
	Scripts []string `json:"scripts"`
}

// Stays tells whether a restore that is clean or not leaves it where it is.
func (u Uncovered) Stays(clean bool) bool { return !u.TooLong && (!clean || u.Site != "") }

// longestPath is shorter than what Linux takes, 4095 bytes, by what the name of a folder
// beside the webroot may add.
const longestPath = 4095 - 300

// ScriptsNamed is how many scripts an Uncovered names.
const ScriptsNamed = 20

// FindUncovered looks through the live folders of a site for what an archive never held:
// what a person's own `skip:` rules left out when it was taken, its gaps, and the
// folders of other sites. others maps those folders to the names of their sites.
// Caches that the recipe knows are not among them, for they are made anew; nor are
// database files, which come back as databases or stay by themselves. A folder that cannot be
// read, and may have any of that in it, is an error, unless all goes: clean. Only where a share
// may lie it is looked; nil is everywhere.
func FindUncovered(ctx context.Context, d *disk.Disk, s *site.Site, h *catalog.Held, share *FileSelection, others map[string]string, clean bool) ([]Uncovered, error) {
	roots := map[string]string{site.RootLabel: s.Root}
	for label := range h.Origin.Roots {
		if dir, ok := s.Roots[label]; ok {
			roots[label] = dir
		}
	}
	gaps, err := missing(ctx, h)
	if err != nil {
		return nil, err
	}
	place := s.At(d)
	var all []Uncovered
	for _, label := range slices.Sorted(maps.Keys(roots)) {
		if !share.reaches(label, ".") {
			continue
		}
		u := uncovered{label: label, clean: clean, gaps: gaps, others: map[string]string{}, partly: map[string]string{}}
		if u.root, err = place.Absolute(ctx, s.PathAt(roots[label])); err == nil {
			u.in, err = tree.SurveyedIn(ctx, place, u.root, share.within(label))
		}
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if label == site.RootLabel { // rules are of the webroot
			u.rules, u.caches = ownRules(s, h.Record)
		}
		for dir, name := range others {
			if strings.HasPrefix(dir, place.Base()) && tree.IsFar(dir) == s.Far() {
				if real, err := place.Absolute(ctx, s.PathAt(dir)); err == nil {
					u.others[real] = name
				}
			}
		}
		u.inBox = func(rel string) bool { return s.InBox(label, rel) }
		for _, db := range s.Databases {
			if in, rel, inside := s.LiesIn(db); inside && in == label {
				u.databases = append(u.databases, rel)
			}
		}
		err = tree.Walk(ctx, u.in, ".", func(rel string, e fs.FileInfo, err error) error {
			if e != nil && e.IsDir() && !share.reaches(label, rel) {
				return fs.SkipDir
			}
			return u.visit(ctx, rel, e, err)
		})
		if err := errors.Join(err, u.in.Close()); err != nil {
			return nil, fmt.Errorf("look for what the archive does not cover: %w", err)
		}
		all = append(all, u.found...)
	}
	return all, nil
}

// missing are the gaps of an archive that it holds nothing of at all, by their names.
func missing(ctx context.Context, h *catalog.Held) (map[string]string, error) {
	gaps := map[string]string{}
	for _, g := range h.Gaps {
		gaps[g.Path] = "it could not be saved: " + g.Why
	}
	if len(gaps) == 0 {
		return gaps, nil
	}
	err := h.ReadList(ctx, func(e archive.Entry) error {
		if e.Type != archive.TypeFolder {
			delete(gaps, e.Path)
		}
		return nil
	})
	return gaps, err
}

// ownRules tells a person's own rules of an archive from those that the recipe knows.
func ownRules(s *site.Site, rec *archive.Record) (own, caches []string) {
	recipe := s.Recipe
	if recipe == nil && rec.Origin.Recipe != "" {
		recipe, _ = site.RecipeNamed(rec.Origin.Recipe) // unknown: every rule is a person's own
	}
	for _, rule := range rec.Origin.Skipped {
		if recipe != nil && slices.Contains(recipe.Skip, rule) {
			caches = append(caches, rule)
		} else {
			own = append(own, rule)
		}
	}
	return own, caches
}

// uncovered is a search in one folder.
type uncovered struct {
	in            tree.Folder
	label, root   string
	rules, caches []string
	gaps, others  map[string]string
	// databases are files inside the folder that are told of elsewhere, partly the
	// folders above them, with why what else lies in those is not covered.
	databases []string
	partly    map[string]string
	// inBox tells what restores have set aside there.
	inBox func(rel string) bool
	found []Uncovered
	// clean tells that what the archive never held does not stay anyway.
	clean bool
}

func (u *uncovered) visit(ctx context.Context, rel string, e fs.FileInfo, err error) error {
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, fs.ErrNotExist):
		return nil // gone meanwhile
	case rel == ".":
		return err
	case errors.Is(err, tree.ErrUnreachable):
		return err
	case err != nil && (e != nil || u.why(path.Join(u.root, rel), rel) == ""):
		if u.mayHide(rel) {
			return fmt.Errorf("%w: what the archive never held of it cannot be told, and would not stay; make it readable first, or have what the archive never held set aside too", err)
		}
		return fs.SkipDir // what lies in it is set aside with it
	case err != nil:
		err = nil // its name is known, and that is enough
	}
	p := path.Join(u.root, rel)
	why := u.why(p, rel)
	switch {
	case u.inBox(rel) || why == "" && matching(u.caches, rel) != "":
	case why == "" || u.isDatabase(rel):
		return err
	case slices.ContainsFunc(u.databases, func(db string) bool { return strings.HasPrefix(db, rel+"/") }):
		u.partly[rel] = why
		return err
	default:
		found, err := u.measure(ctx, rel, why)
		found.Site = u.others[p]
		if err != nil {
			return err
		}
		if found.TooLong = len(p) > longestPath; found.TooLong {
			found.Why += "; its path is too long to be carried over"
		}
		u.found = append(u.found, found)
	}
	if e != nil && e.IsDir() {
		return fs.SkipDir
	}
	return nil
}

// mayHide tells of a folder whether something in it may be what the archive never held.
func (u *uncovered) mayHide(rel string) bool {
	if u.clean {
		return false
	}
	inside := func(prefix string, all map[string]string) bool {
		for p := range all {
			if strings.HasPrefix(p, prefix) {
				return true
			}
		}
		return false
	}
	return len(u.rules) > 0 || inside(u.label+"/"+rel+"/", u.gaps) || inside(path.Join(u.root, rel)+"/", u.others)
}

// why says why an archive does not hold a path; it is empty if it may.
func (u *uncovered) why(p, rel string) string {
	rule := matching(u.rules, rel)
	if rule != "" {
		rule = "left out by the rule " + rule
	}
	other := u.others[p]
	if other != "" {
		other = "it belongs to site " + other
	}
	return cmp.Or(other, u.gaps[u.label+"/"+rel], rule, u.partly[path.Dir(rel)])
}

// isDatabase tells whether a path is a database file or a log of one.
func (u *uncovered) isDatabase(rel string) bool {
	return slices.ContainsFunc(u.databases, func(db string) bool {
		suffix, ok := strings.CutPrefix(rel, db)
		return ok && slices.Contains(databaseFiles, suffix)
	})
}

// matching is the first rule that means a path.
func matching(rules []string, rel string) string {
	for _, rule := range rules {
		if site.Matches(rule, rel) {
			return rule
		}
	}
	return ""
}

// measure counts what lies in a path.
func (u *uncovered) measure(ctx context.Context, rel, why string) (Uncovered, error) {
	found := Uncovered{Label: u.label, Path: rel, Why: why, Scripts: []string{}}
	err := tree.Walk(ctx, u.in, rel, func(inside string, e fs.FileInfo, err error) error {
		if ctx.Err() != nil || errors.Is(err, tree.ErrUnreachable) {
			return errors.Join(ctx.Err(), err)
		}
		if err != nil || e.IsDir() {
			return nil // what cannot be read is carried over all the same
		}
		found.Files++
		if e.Mode().IsRegular() {
			found.Bytes += e.Size()
		}
		if changes.Executable(inside) && len(found.Scripts) < ScriptsNamed {
			found.Scripts = append(found.Scripts, inside)
		}
		return nil
	})
	return found, err
}

// planKept notes in the journal what stays, whatever the archive holds.
func (r *run) planKept(ctx context.Context) error {
	if !r.Files || r.Selection != nil && r.Selection.Fill {
		return nil
	}
	all, err := FindUncovered(ctx, r.disk, r.Site, r.Archive, r.Selection, r.Others, r.Clean)
	if err != nil {
		return err
	}
	if r.Selection != nil {
		// It is carried over like all that is not of the share.
		r.never = map[string][]string{}
		for _, u := range all {
			r.never[u.Label] = append(r.never[u.Label], u.Path)
		}
		r.result.Uncovered = r.Selection.uncovered(all)
		return r.noteArchived(ctx)
	}
	r.result.Uncovered = all
	for _, u := range r.result.Uncovered {
		for _, f := range r.journal.plans() {
			if f.Label != u.Label || !u.Stays(r.Clean) {
				continue
			}
			if f.On == "" { // elsewhere a rename tells, and the site is put back
				at := filepath.Join(f.Root, filepath.FromSlash(u.Path))
				if err := errors.Join(sameFileSystem(r.disk, f.Root, at), carriable(r.disk, at)); err != nil {
					return err
				}
			}
			f.Kept = append(f.Kept, u.Path)
		}
	}
	return r.noteArchived(ctx)
}

// uncovered picks what of the share an archive never held.
func (s *FileSelection) uncovered(all []Uncovered) []Uncovered {
	return slices.DeleteFunc(all, func(u Uncovered) bool { return !s.Keep(u.Label, u.Path) })
}

// UncoveredOf is FindUncovered for a share: what of it the archive never held. It stays.
func UncoveredOf(ctx context.Context, share *FileSelection, d *disk.Disk, s *site.Site, h *catalog.Held, others map[string]string) ([]Uncovered, error) {
	if share.Fill {
		return nil, nil // all that is there stays
	}
	all, err := FindUncovered(ctx, d, s, h, share, others, false)
	return share.uncovered(all), err
}

// takes tells whether a live path is of the share that is restored, so that it goes
// aside: one that the archive never held is not.
func (r *run) takes(f *FilesPlan, rel string) bool {
	return !r.Selection.Fill && r.Selection.Keep(f.Label, rel) && !r.neverHolds(f, func(n string) bool { return rel == n || strings.HasPrefix(rel, n+"/") })
}

// leads tells whether a folder has something in it that the archive never held.
func (r *run) leads(f *FilesPlan, rel string) bool {
	return r.neverHolds(f, func(n string) bool { return strings.HasPrefix(n, rel+"/") })
}

func (r *run) neverHolds(f *FilesPlan, is func(path string) bool) bool {
	return slices.ContainsFunc(r.never[f.Label], is)
}

// carriable refuses a folder of another account: who may not write to it cannot bring it into
// another folder.
func carriable(d *disk.Disk, at string) error {
	info, err := d.Lstat(at)
	if err != nil || !info.IsDir() || closedToOwner(info) && isOwn(info) || disk.Writable(at) {
		return err
	}
	return reason.New(reason.NotCarried, nil, "the archive does not hold %s, which belongs to %s: this account cannot carry it over to what is put back", at, ownerOf(info))
}

// sameFileSystem refuses what cannot be carried over by renaming it.
func sameFileSystem(d *disk.Disk, root, p string) error {
	var devices [2]uint64
	for i, name := range []string{root, p} {
		info, err := d.Lstat(name)
		if err != nil {
			return err
		}
		if a, ok := disk.AttributesOf(info); ok {
			devices[i] = a.Dev
		}
	}
	if devices[0] != devices[1] {
		return fmt.Errorf("%s lies on another file system than the webroot, and the archive does not hold it: it can neither be put back nor carried over; unmount it first", p)
	}
	return nil
}

// noteArchived looks up which folders above what stays the archive holds too. It refuses
// if one of them is no folder there: nothing can stay below a file or a link.
func (r *run) noteArchived(ctx context.Context) error {
	above := map[string]bool{}
	for _, f := range r.journal.plans() {
		for _, rel := range append(slices.Clone(f.Kept), r.never[f.Label]...) {
			for dir := path.Dir(rel); dir != "."; dir = path.Dir(dir) {
				above[f.Label+"/"+dir] = true
			}
		}
	}
	if len(above) == 0 {
		return nil
	}
	r.archived = map[string]bool{}
	return r.Archive.ReadList(ctx, func(e archive.Entry) error {
		if !above[e.Path] {
			return nil
		}
		if e.Type != archive.TypeFolder {
			return fmt.Errorf("%s is a folder with something in it that the archive never held, and no folder in the archive: move it away first", e.Path)
		}
		r.archived[e.Path] = true
		return nil
	})
}

// keeps tells whether a path is one that stays, or lies in one.
func (f *FilesPlan) keeps(rel string) bool {
	return slices.ContainsFunc(f.Kept, func(k string) bool { return rel == k || strings.HasPrefix(rel, k+"/") })
}

// makeParents makes the folders that what stays lies in, in the staged tree. The archive
// gives them what it knows of them; of the others, what they are now is returned.
func (r *run) makeParents(ctx context.Context, f *FilesPlan) (folders []carried, err error) {
	root, err := openTree(r.disk, f.here())
	if err != nil {
		return nil, err
	}
	defer root.Close()
	made := map[string]bool{".": true}
	for _, rel := range f.Kept {
		dir := path.Dir(rel)
		if err := root.MkdirAll(filepath.FromSlash(dir), 0o700); err != nil {
			return nil, err
		}
		for ; !made[dir]; dir = path.Dir(dir) {
			made[dir] = true
			info, err := r.lstatLive(ctx, f, dir)
			if err != nil {
				return nil, err
			}
			folders = append(folders, carried{filepath.FromSlash(dir), info})
		}
	}
	return folders, nil
}

// lstatLive says what a path of the live tree is.
func (r *run) lstatLive(ctx context.Context, f *FilesPlan, rel string) (fs.FileInfo, error) {
	if r.far != nil {
		return r.far.Lstat(ctx, f.live(rel))
	}
	return r.disk.Lstat(filepath.Join(f.Root, filepath.FromSlash(rel)))
}

// bringKept moves what stays from the tree that was the webroot into the one that is.
// What is there already stays: the step was taken, or the site has made it anew.
// Whoever owns the trees may change them meanwhile: no link leads out of them.
func (f *FilesPlan) bringKept(d *disk.Disk, from string) error {
	if len(f.Kept) == 0 {
		return nil
	}
	was, err := openTree(d, from)
	if err != nil {
		return err
	}
	defer was.Close()
	is, err := openTree(d, f.Root)
	if err != nil {
		return err
	}
	defer is.Close()
	touched := map[string]*moved{}
	for _, rel := range f.Kept {
		if err := bringOne(was, is, filepath.FromSlash(rel), touched); err != nil {
			return fmt.Errorf("carry over %s: %w", rel, err)
		}
	}
	for dir, m := range touched {
		if err := m.restore(dir); err != nil {
			return fmt.Errorf("carry over what lies in %s: %w", dir, err)
		}
	}
	return nil
}

// moved are the two folders of one path between which something was moved, with the
// times they had: nobody has changed anything there.
type moved struct {
	trees [2]*disk.Root
	times [2]time.Time
}

func (m *moved) restore(dir string) error {
	for i, tree := range m.trees {
		if err := tree.Chtimes(dir, m.times[i], m.times[i]); err != nil && !errors.Is(err, fs.ErrPermission) {
			return err
		}
		if err := tree.SyncDir(dir); err != nil {
			return err
		}
	}
	return nil
}

// bringOne renames a path, and notes in touched which folders that changes.
func bringOne(was, is *disk.Root, rel string, touched map[string]*moved) error {
	if _, err := is.Lstat(rel); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if _, err := was.Lstat(rel); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	dir := filepath.Dir(rel)
	if touched[dir] == nil {
		m := &moved{trees: [2]*disk.Root{was, is}}
		for i, tree := range m.trees {
			info, err := tree.Stat(dir)
			if err != nil {
				return err
			}
			m.times[i] = info.ModTime()
		}
		touched[dir] = m
	}
	err := was.MoveTo(rel, is, rel)
	if !errors.Is(err, fs.ErrPermission) {
		return err
	}
	// An account that is not root needs rights in the folders, and in one that is moved.
	opened := openFolders(was, dir, rel)
	if opened = append(opened, openFolders(is, dir)...); len(opened) == 0 {
		return err
	}
	moved := was.MoveTo(rel, is, rel)
	err = moved
	// What was moved first: it cannot be reached once the folder above it is closed again.
	for _, itself := range []bool{true, false} {
		for _, o := range opened {
			if (o.rel == rel) != itself {
				continue
			}
			if itself && moved == nil {
				o.tree = is
			}
			err = errors.Join(err, o.tree.Chmod(o.rel, o.mode))
		}
	}
	return err
}

// openedFolder is a folder that was opened to its owner, with the mode that it had.
type openedFolder struct {
	tree *disk.Root
	rel  string
	mode fs.FileMode
}

// openFolders opens those of some paths to their owner that are folders which he may not
// change; what is not his stays as it is.
func openFolders(tree *disk.Root, paths ...string) (opened []openedFolder) {
	for _, rel := range paths {
		info, err := tree.Lstat(rel)
		if err != nil || !closedToOwner(info) {
			continue
		}
		if tree.Chmod(rel, info.Mode()|0o700) == nil {
			opened = append(opened, openedFolder{tree, rel, info.Mode()})
		}
	}
	return opened
}

// closedToOwner tells whether something is a folder that its owner may not change.
func closedToOwner(info fs.FileInfo) bool { return info.IsDir() && info.Mode()&0o700 != 0o700 }

// Stays tells whether a path, which begins with the label of its folder, was carried over
// and is carried back by an undo.
func (j *Journal) Stays(name string) bool {
	return slices.ContainsFunc(j.plans(), func(f *FilesPlan) bool {
		return slices.ContainsFunc(f.Kept, func(kept string) bool {
			kept = f.Label + "/" + kept
			return name == kept || strings.HasPrefix(name, kept+"/")
		})
	})
}
