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
	"syscall"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/pkg/xattr"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/work/unpack"
)

// FileSelection limits a restore of files to some of the site's folders. What is not of it is
// carried over from the live site, so that a share is staged, exchanged and
// taken back like a whole.
type FileSelection struct {
	// Keep tells of a path, relative to the folder of the site that has the label, whether it is of the share.
	Keep func(label, rel string) bool
	// Fill puts back what is missing or differs and leaves what was added since.
	// Without it, the share becomes exactly the archive's.
	Fill bool

	// globs are the patterns that Keep was made of, if it was; components the recipe's.
	globs      []string
	recipe     *site.Recipe
	components []string
	// roots are the folders, or files, in which all of the share lies, by their names in lists of archives; none is anywhere.
	roots []string
	// looked is the archive that what follows is known of.
	looked *catalog.Held
	// linked are names of what links of the share lead to in other folders of the site, or links on the way to it: it is of the
	// share, too.
	linked []string
	// paths and bytes are what of the archive is in the share, labels the folders that it is in, above tells of a settings
	// file above the webroot, which is not put back so; parents are the names of the folders above it.
	paths, bytes int64
	labels       map[string]bool
	above        bool
	parents      map[string]bool
	// parts are those that hold any of it.
	parts map[string]bool
	// databases is set for a share of nothing but the database files in the site's folders.
	databases bool
}

// Look finds out what of an archive is in the share. Links belong to it with what they lead to in other folders of the site:
// whoever wants the uploads back does not mean the link to them.
func (s *FileSelection) Look(ctx context.Context, h *catalog.Held) error {
	if s.looked == h {
		return nil
	}
	links, err := h.Links(ctx)
	if err != nil {
		return err
	}
	if s.components != nil {
		s.Keep = ofComponents(s.recipe, s.components, links.Through(site.RootLabel))
	}
	s.throughLinks(links)
	s.follow(links)
	s.parents, s.parts, s.labels = map[string]bool{}, map[string]bool{}, map[string]bool{}
	err = h.ReadList(ctx, func(e archive.Entry) error {
		label, rel, ok := strings.Cut(e.Path, "/")
		if !ok || !e.IsFileTree() || !s.Keep(label, rel) {
			return nil
		}
		if label == site.AboveLabel {
			s.above = true
			return nil
		}
		s.paths++
		s.labels[label], s.parts[e.Part] = true, true
		s.bytes += e.Size
		for dir := path.Dir(e.Path); dir != label && !s.parents[dir]; dir = path.Dir(dir) {
			s.parents[dir] = true
		}
		return nil
	})
	for label := range s.labels {
		if err == nil {
			var needed map[string]bool
			_, needed, err = unpack.FindStandIns(ctx, h, label, func(rel string) bool { return s.Keep(label, rel) })
			maps.Copy(s.parts, needed)
		}
	}
	if err == nil {
		s.looked = h
	}
	return err
}

// of is the share of an archive, which is looked at for it.
func (s *FileSelection) of(ctx context.Context, h *catalog.Held) (*FileSelection, error) {
	if s.looked == h {
		return s, nil
	}
	own := &FileSelection{Keep: s.Keep, Fill: s.Fill, globs: s.globs, recipe: s.recipe, components: s.components, roots: slices.Clone(s.roots), databases: s.databases}
	return own, own.Look(ctx, h)
}

// throughLinks adds what the patterns mean where there are links on the way to it.
func (s *FileSelection) throughLinks(links *catalog.Links) {
	var more []string
	for _, glob := range s.globs {
		for _, m := range links.Meant(glob) {
			more = append(more, m.Pattern)
			s.leadsTo(strings.TrimPrefix(m.Name, site.RootLabel+"/"), m.Name)
		}
	}
	if len(more) > 0 {
		keep, also := s.Keep, Matching(more, s.Fill).Keep
		s.Keep = func(label, rel string) bool { return keep(label, rel) || also(label, rel) }
	}
}

// follow adds what links of the share lead to in other folders.
func (s *FileSelection) follow(links *catalog.Links) {
	keep, behind := s.Keep, map[string]bool{}
	s.Keep = func(label, rel string) bool {
		if keep(label, rel) {
			return true
		}
		for name := path.Join(label, rel); !behind[name]; name = path.Dir(name) {
			if name == label {
				return false
			}
		}
		return true
	}
	for range mostFollowed {
		found := false
		for _, name := range links.Names() {
			label, rel, _ := strings.Cut(name, "/")
			if label == site.AboveLabel || !s.Keep(label, rel) {
				continue
			}
			real, err := links.Real(name)
			in, rest, _ := strings.Cut(real, "/")
			if err != nil || in == label || s.Keep(in, rest) {
				continue
			}
			behind[real], found = true, true
			s.leadsTo(real, real)
		}
		if !found {
			return
		}
	}
}

// leadsTo notes what is of the share because of links, as it is shown, and by its name.
func (s *FileSelection) leadsTo(shown, name string) {
	if !slices.Contains(s.linked[:min(len(s.linked), mostLinked)], shown) {
		s.linked = append(s.linked, shown)
	}
	switch {
	case len(s.linked) > mostLinked:
		s.roots = nil // anywhere
	case s.roots != nil:
		s.roots = append(s.roots, name)
	}
}

// mostLinked is how many places that links lead to are told apart: an archive may have any number of links.
const mostLinked = 100

// mostFollowed is how many of the site's folders links can lead through, one after the other.
const mostFollowed = 10

// Folders are the labels of the site's folders that the share lies in, the webroot's first, and Linked the names of what is of
// it because links of it lead there. Both are known after Look.
func (s *FileSelection) Folders() []string {
	all := slices.Sorted(maps.Keys(s.labels))
	if i := slices.Index(all, site.RootLabel); i > 0 {
		all = slices.Insert(slices.Delete(all, i, i+1), 0, site.RootLabel)
	}
	return all
}

// Linked are the names of what links of the share lead to: see Folders.
func (s *FileSelection) Linked() []string { return s.linked }

// planShare looks up what of the archive is in the share.
func (r *run) planShare(ctx context.Context) error {
	s, err := r.Selection.of(ctx, r.Archive)
	if err != nil {
		return err
	}
	r.Selection = s
	if s.paths == 0 && s.above {
		return reason.New(reason.PathNotHeld, reason.Names{"archive": r.Archive.Name}, "archive %s holds nothing of that share in the webroot, and some in the folder %s, which is put back as a whole only; single files can be taken out of it", r.Archive.Name, site.AboveLabel)
	}
	if s.paths == 0 && !s.databases {
		return reason.New(reason.PathNotHeld, reason.Names{"archive": r.Archive.Name}, "archive %s holds nothing of that share", r.Archive.Name)
	}
	return nil
}

// plans tells whether a folder of the site changes with the share: one that has something of it, or a database file that comes
// back as a whole on another machine.
func (r *run) plans(label string) bool {
	return r.Selection == nil || label == site.RootLabel || r.Selection.labels[label] || r.far != nil && r.loadsWhole() && r.hasDatabase(label, ".")
}

// wants tells whether a path of the archive is put back: one of the share, or a
// folder above it that is gone.
func (r *run) wants(ctx context.Context, f *FilesPlan, rel string) bool {
	if r.Selection.Keep(f.Label, rel) {
		return true
	}
	if !r.Selection.parents[f.Label+"/"+rel] {
		return false
	}
	_, err := r.lstatLive(ctx, f, rel)
	return errors.Is(err, fs.ErrNotExist)
}

// carried is a folder of the live site that is made again in the staged tree.
type carried struct {
	rel  string
	info fs.FileInfo
}

// carryRest makes the staged tree out of the live one: folders anew, everything
// else as another name of the same file. Left out are the share itself, unless
// only gaps are filled, and database files: those are carried at the exchange,
// or loaded.
func (r *run) carryRest(ctx context.Context, f *FilesPlan) ([]carried, error) {
	root, err := openTree(r.disk, f.staged())
	if err != nil {
		return nil, err
	}
	defer root.Close()
	live, err := openTree(r.disk, f.Root)
	if err != nil {
		return nil, err
	}
	defer live.Close()
	var folders []carried
	err = r.disk.WalkDir(f.Root, func(p string, e fs.DirEntry, err error) error {
		if err != nil || ctx.Err() != nil {
			return errors.Join(err, ctx.Err())
		}
		rel, err := filepath.Rel(f.Root, p)
		if err != nil {
			return err
		}
		if f.isBox(r.Site, filepath.ToSlash(rel)) { // what a restore has set aside inside a mount point
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if e.IsDir() {
			return r.carryFolder(f, root, rel, e, &folders)
		}
		if r.takes(f, filepath.ToSlash(rel)) || r.Site.HasDatabaseFile(f.Label, filepath.ToSlash(rel)) {
			return nil
		}
		return r.carryFile(f, live, root, rel)
	})
	if err != nil {
		return nil, fmt.Errorf("carry over the rest of the site: %w", err)
	}
	return folders, nil
}

func (r *run) carryFolder(f *FilesPlan, root *disk.Root, rel string, e fs.DirEntry, folders *[]carried) error {
	info, err := e.Info()
	if errors.Is(err, fs.ErrNotExist) {
		return fs.SkipDir
	}
	if err != nil {
		return err
	}
	if rel != "." {
		// One of the share that the archive lacks is made only for what is in it.
		if slashed := filepath.ToSlash(rel); r.takes(f, slashed) && !r.leads(f, slashed) {
			return nil
		}
		if err := root.MkdirAll(rel, 0o700); err != nil {
			return err
		}
	}
	*folders = append(*folders, carried{rel, info})
	return nil
}

// carryFile gives a file another name in the staged tree, whatever links lie there. One that can have only one
// stays in whatever tree is the webroot: it is moved at the exchange.
func (r *run) carryFile(f *FilesPlan, live, staged *disk.Root, rel string) error {
	if err := staged.MkdirAll(filepath.Dir(rel), 0o700); err != nil {
		return err
	}
	err := live.LinkTo(rel, staged, rel)
	switch {
	case errors.Is(err, fs.ErrNotExist): // removed while we walk
		return nil
	case disk.LinkUnsupported(err):
		f.Kept = append(f.Kept, filepath.ToSlash(rel))
		return sameFileSystem(r.disk, f.Root, filepath.Join(f.Root, rel))
	}
	return err
}

// finishCarried gives carried folders what they had, innermost first. Those of
// the share have what the archive says.
func (r *run) finishCarried(f *FilesPlan, folders []carried) error {
	root, err := openTree(r.disk, f.here())
	if err != nil {
		return err
	}
	defer root.Close()
	for _, c := range slices.Backward(folders) {
		if c.rel != "." && r.described(f, filepath.ToSlash(c.rel)) {
			continue
		}
		if a, ok := disk.AttributesOf(c.info); ok && r.far == nil {
			if err := root.Lchown(c.rel, a.UID, a.GID); err != nil && !errors.Is(err, syscall.EPERM) {
				return err
			}
		}
		if r.far == nil {
			copyXAttrs(filepath.Join(f.Root, c.rel), filepath.Join(f.staged(), c.rel))
		}
		if err := root.Chmod(c.rel, c.info.Mode().Perm()|c.info.Mode()&(fs.ModeSetuid|fs.ModeSetgid|fs.ModeSticky)); err != nil {
			return err
		}
		if err := root.Chtimes(c.rel, c.info.ModTime(), c.info.ModTime()); err != nil {
			return err
		}
	}
	return nil
}

// described tells whether the archive says what a folder is like.
func (r *run) described(f *FilesPlan, rel string) bool {
	if r.Selection == nil {
		return r.archived[f.Label+"/"+rel]
	}
	return r.takes(f, rel) && (!r.leads(f, rel) || r.archived[f.Label+"/"+rel])
}

// copyXAttrs copies a folder's extended attributes, such as the rules of access
// for what is made in it, as far as this account may.
func copyXAttrs(from, to string) {
	names, err := xattr.LList(from)
	if err != nil {
		return
	}
	for _, name := range names {
		if value, err := xattr.LGet(from, name); err == nil {
			_ = xattr.LSet(to, name, value)
		}
	}
}

// Matching is the share of the paths that a pattern (doublestar's) means, or that lie
// in a folder that one means. Paths and patterns are relative to the webroot; those of other folders begin with the folder's
// label.
func Matching(globs []string, fill bool) *FileSelection {
	return &FileSelection{Fill: fill, globs: globs, roots: rootsOf(globs), Keep: func(label, rel string) bool {
		if label != site.RootLabel && label != site.AboveLabel {
			rel = label + "/" + rel
		}
		return slices.ContainsFunc(globs, func(g string) bool { return covers(g, rel) })
	}}
}

// OfComponents is the share of some of a recipe's components.
func OfComponents(r *site.Recipe, names []string, fill bool) *FileSelection {
	return &FileSelection{Fill: fill, recipe: r, components: names, Keep: ofComponents(r, names, nil)}
}

// ofComponents are paths of components. A link that leads to a component in another folder of the site is of it.
func ofComponents(r *site.Recipe, names []string, through map[string][]string) func(label, rel string) bool {
	links := map[string]bool{}
	for _, from := range through {
		for _, link := range from {
			rel := strings.TrimPrefix(link, site.RootLabel+"/")
			links[rel] = slices.Contains(names, r.LinkOf(rel))
		}
	}
	return func(label, rel string) bool {
		if label == site.AboveLabel {
			label = site.RootLabel
		}
		return label == site.RootLabel && links[rel] || slices.Contains(names, r.ComponentOfName(label+"/"+rel, through))
	}
}

// covers tells whether a pattern means a path, or a folder that it lies in.
func covers(glob, rel string) bool {
	glob = catalog.Trimmed(glob)
	if ok, err := doublestar.Match(glob, rel); err == nil && ok {
		return true
	}
	ok, err := doublestar.Match(glob+"/**", rel)
	return err == nil && ok
}

// rootsOf are the names of the outermost paths that patterns can mean anything below of; none is anywhere.
func rootsOf(globs []string) (roots []string) {
	for _, glob := range globs {
		root := catalog.RootOf(glob)
		if root == "." {
			return nil
		}
		roots = append(roots, site.RootLabel+"/"+root, root) // it can begin with the label of another folder
	}
	return roots
}

// reaches tells whether any of the share may lie in a folder, or the folder in it.
func (s *FileSelection) reaches(label, dir string) bool {
	name := path.Join(label, dir)
	return s == nil || s.roots == nil || slices.ContainsFunc(s.roots, func(root string) bool {
		return root == name || strings.HasPrefix(root, name+"/") || strings.HasPrefix(name, root+"/")
	})
}

// within is the one folder in which all that the share has of a folder of the site lies, "." being that one itself.
func (s *FileSelection) within(label string) string {
	if s == nil {
		return "."
	}
	dir := ""
	for _, root := range s.roots {
		rel, in := strings.CutPrefix(root, label+"/")
		switch {
		case root == label:
			return "."
		case !in:
		case dir == "":
			dir = rel
		default:
			for dir != "." && rel != dir && !strings.HasPrefix(rel, dir+"/") {
				dir = path.Dir(dir)
			}
		}
	}
	return cmp.Or(dir, ".")
}
