package move

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/site/sitepath"
)

// links has links of the staged webroot that name the old one by its whole path lead to the same place in the new one:
// whoever changes or deletes in the copy what lies behind them would do it in the old site. Those that lead out of the
// webroot stay, and are told.
func (p *Plan) links(tree *disk.Root) error {
	var out []string
	err := tree.WalkDir(".", func(rel string, e fs.DirEntry, err error) error {
		if err != nil || e.Type()&fs.ModeSymlink == 0 {
			return err
		}
		target, err := tree.Readlink(rel)
		if err != nil {
			return err
		}
		inside, led := p.ledTo(rel, filepath.ToSlash(target))
		switch {
		case !led:
			out = append(out, rel+" → "+target)
		case sitepath.IsAbs(target):
			return p.relink(tree, rel, inside)
		}
		return nil
	})
	p.noteFiles("links that lead out of the webroot; what is behind them is shared with whatever else uses it, or is not there", out)
	return err
}

// ledTo is where in the webroot a link leads, if it leads there.
func (p *Plan) ledTo(rel, target string) (inside string, led bool) {
	if !sitepath.IsAbs(target) {
		inside = path.Join(path.Dir(rel), target)
		return inside, sitepath.IsLocal(inside)
	}
	inside, err := sitepath.Rel(p.archive.Origin.Roots[site.RootLabel], target)
	return inside, err == nil && sitepath.IsLocal(inside)
}

// relink makes a link anew that leads to a path in the webroot, seen from where the link is.
func (p *Plan) relink(tree *disk.Root, rel, inside string) error {
	to, err := filepath.Rel(filepath.FromSlash(path.Dir(rel)), filepath.FromSlash(inside))
	if err != nil {
		return err
	}
	info, err := tree.Lstat(rel)
	if err != nil {
		return err
	}
	folder, err := tree.Stat(path.Dir(rel))
	if err != nil {
		return err
	}
	if err := errors.Join(tree.Remove(rel), tree.Symlink(to, rel)); err != nil {
		return err
	}
	if a, ok := disk.AttributesOf(info); ok && os.Geteuid() == 0 {
		if err := tree.Lchown(rel, a.UID, a.GID); err != nil {
			return err
		}
	}
	p.note(File{Path: rel, Places: 1})
	return errors.Join(tree.LchtimesIfAble(rel, info.ModTime()), tree.Chtimes(path.Dir(rel), folder.ModTime(), folder.ModTime()))
}
