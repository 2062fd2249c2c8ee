package restore

import (
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
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/work/unpack"
)

// FileSelection limits a restore of files to some of the webroot. What is not of it is
// carried over from the live site, so that a share is staged, exchanged and
// taken back like a whole.
type FileSelection struct {
	// Keep tells of a path, relative to the webroot, whether it is of the share.
	Keep func(rel string) bool
	// Fill puts back what is missing or differs and leaves what was added since.
	// Without it, the share becomes exactly the archive's.
	Fill bool

	// roots are the folders, or files, in which all of the share lies; none is anywhere.
	roots []string
	// paths and bytes are what of the archive is in the share, parents the folders
	// above it.
	paths, bytes int64
	parents      map[string]bool
	// parts are those that hold any of it.
	parts map[string]bool
	// databases is set for a share of nothing but the database files in the webroot.
	databases bool
}

// planShare looks up what of the archive is in the share.
func (r *run) planShare(ctx context.Context) error {
	r.Selection.parents, r.Selection.parts = map[string]bool{}, map[string]bool{}
	elsewhere := ""
	err := r.Archive.ReadList(ctx, func(e archive.Entry) error {
		label, rel, ok := strings.Cut(e.Path, "/")
		if !ok || !e.IsFileTree() || !r.Selection.Keep(rel) {
			return nil
		}
		if label != site.RootLabel {
			elsewhere = label
			return nil
		}
		r.Selection.paths++
		r.Selection.parts[e.Part] = true
		r.Selection.bytes += e.Size
		for dir := path.Dir(rel); dir != "." && !r.Selection.parents[dir]; dir = path.Dir(dir) {
			r.Selection.parents[dir] = true
		}
		return nil
	})
	if err == nil {
		var needed map[string]bool
		_, needed, err = unpack.FindStandIns(ctx, r.Archive, site.RootLabel, r.Selection.Keep)
		maps.Copy(r.Selection.parts, needed)
	}
	if err == nil && r.Selection.paths == 0 && elsewhere != "" {
		return reason.New(reason.PathNotHeld, reason.Names{"archive": r.Archive.Name}, "archive %s holds nothing of that share in the webroot, and some in the folder %s, which is put back as a whole only; single files can be taken out of it", r.Archive.Name, elsewhere)
	}
	if err == nil && r.Selection.paths == 0 && !r.Selection.databases {
		return reason.New(reason.PathNotHeld, reason.Names{"archive": r.Archive.Name}, "archive %s holds nothing of that share", r.Archive.Name)
	}
	return err
}

// wants tells whether a path of the archive is put back: one of the share, or a
// folder above it that is gone.
func (r *run) wants(ctx context.Context, f *FilesPlan, rel string) bool {
	if r.Selection.Keep(rel) {
		return true
	}
	if !r.Selection.parents[rel] {
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
		if r.takes(f, filepath.ToSlash(rel)) || r.ofDatabase(filepath.ToSlash(rel)) {
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

// ofDatabase tells whether a path is a database file of the site, or its log.
func (r *run) ofDatabase(rel string) bool {
	return slices.ContainsFunc(r.Site.Databases, func(db site.Database) bool {
		file, inside := r.Site.Inside(db)
		suffix, ok := strings.CutPrefix(rel, file)
		return inside && ok && slices.Contains(databaseFiles, suffix)
	})
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
// in a folder that one means. Paths and patterns are relative to the webroot.
func Matching(globs []string, fill bool) *FileSelection {
	return &FileSelection{Fill: fill, roots: rootsOf(globs), Keep: func(rel string) bool {
		return slices.ContainsFunc(globs, func(g string) bool { return covers(g, rel) })
	}}
}

// OfComponents is the share of some of a recipe's components.
func OfComponents(r *site.Recipe, names []string, fill bool) *FileSelection {
	return &FileSelection{Fill: fill, Keep: func(rel string) bool { return slices.Contains(names, r.ComponentOf(rel)) }}
}

// trimmed is a pattern as paths are written.
func trimmed(glob string) string { return strings.Trim(strings.TrimPrefix(glob, "./"), "/") }

// covers tells whether a pattern means a path, or a folder that it lies in.
func covers(glob, rel string) bool {
	glob = trimmed(glob)
	if ok, err := doublestar.Match(glob, rel); err == nil && ok {
		return true
	}
	ok, err := doublestar.Match(glob+"/**", rel)
	return err == nil && ok
}

// metas are what stands for several names in a pattern, or takes that meaning away.
const metas = `*?[]{}\`

// rootsOf are the outermost paths that patterns can mean anything below of; none is anywhere.
func rootsOf(globs []string) (roots []string) {
	for _, glob := range globs {
		root := "."
		for _, part := range strings.Split(trimmed(glob), "/") {
			if strings.ContainsAny(part, metas) {
				break
			}
			root = path.Join(root, part)
		}
		if root == "." || strings.HasPrefix(root, "..") {
			return nil
		}
		roots = append(roots, root)
	}
	return roots
}

// reaches tells whether any of the share may lie in a folder, or the folder in it.
func (s *FileSelection) reaches(dir string) bool {
	return s == nil || s.roots == nil || dir == "." || slices.ContainsFunc(s.roots, func(root string) bool {
		return root == dir || strings.HasPrefix(root, dir+"/") || strings.HasPrefix(dir, root+"/")
	})
}

// within is the one folder in which all of the share lies, "." being the webroot.
func (s *FileSelection) within() string {
	if s == nil || len(s.roots) == 0 {
		return "."
	}
	dir := s.roots[0]
	for _, root := range s.roots[1:] {
		for dir != "." && root != dir && !strings.HasPrefix(root, dir+"/") {
			dir = path.Dir(dir)
		}
	}
	return dir
}
