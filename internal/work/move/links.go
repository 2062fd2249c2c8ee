package move

import (
	"cmp"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

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
		switch to, led := p.ledTo(rel, filepath.ToSlash(target)); {
		case !led:
			out = append(out, rel+" → "+target)
		case to != "":
			return p.relink(tree, rel, to)
		}
		return nil
	})
	p.noteFiles("links that lead out of the webroot; what is behind them is shared with whatever else uses it, or is not there", out)
	return err
}

// ledTo tells whether a link leads to something of the site's, and what it is to lead to, if it cannot stay.
func (p *Plan) ledTo(rel, target string) (to string, led bool) {
	name := p.archive.Origin.LinkTo(path.Join(site.RootLabel, rel), target)
	label, inside, _ := strings.Cut(name, "/")
	switch {
	case name == "":
		return "", false
	case label != site.RootLabel && p.to.Roots[label] == "":
		return "", false
	case label != site.RootLabel:
		return sitepath.Join(p.to.PathAt(p.to.Roots[label]), inside), true
	case !sitepath.IsAbs(target) && sitepath.IsLocal(path.Join(path.Dir(rel), target)):
		return "", true
	}
	seen, err := filepath.Rel(filepath.FromSlash(path.Dir(rel)), filepath.FromSlash(cmp.Or(inside, ".")))
	return seen, err == nil
}

// relink makes a link anew, with its owner and its time.
func (p *Plan) relink(tree *disk.Root, rel, to string) error {
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
