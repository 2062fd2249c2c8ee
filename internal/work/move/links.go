package move

import (
	"cmp"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"revlet/internal/platform/disk"
	"revlet/internal/site/sitepath"
)

// links has links of the staged folders that name the old ones by their whole paths lead to the same place in the new ones:
// whoever changes or deletes in the copy what lies behind them would do it in the old site. Those that lead out of the
// site stay, and are told.
func (p *Plan) links(trees map[string]*disk.Root) error {
	var out []string
	for _, label := range slices.Sorted(maps.Keys(trees)) {
		more, err := p.linksIn(label, trees[label])
		if err != nil {
			return err
		}
		out = append(out, more...)
	}
	p.noteFiles("links that lead out of the webroot; what is behind them is shared with whatever else uses it, or is not there", out)
	return nil
}

// linksIn is links for one of the folders; it returns those that lead out.
func (p *Plan) linksIn(label string, tree *disk.Root) (out []string, err error) {
	err = tree.WalkDir(".", func(rel string, e fs.DirEntry, err error) error {
		if err != nil || e.Type()&fs.ModeSymlink == 0 {
			return err
		}
		target, err := tree.Readlink(rel)
		if err != nil {
			return err
		}
		switch to, led := p.ledTo(label, rel, filepath.ToSlash(target)); {
		case !led:
			out = append(out, shown(label, rel)+" → "+target)
		case to != "":
			return p.relink(tree, rel, to, shown(label, rel))
		}
		return nil
	})
	return out, err
}

// ledTo tells whether a link leads to something of the site's, and what it is to lead to, if it cannot stay.
func (p *Plan) ledTo(label, rel, target string) (to string, led bool) {
	name := p.archive.Origin.LinkTo(path.Join(label, rel), target)
	in, inside, _ := strings.Cut(name, "/")
	switch {
	case name == "" || p.to.FolderOf(in) == "":
		return "", false
	case in != label:
		return sitepath.Join(p.to.PathAt(p.to.FolderOf(in)), inside), true
	case !sitepath.IsAbs(target) && sitepath.IsLocal(path.Join(path.Dir(rel), target)):
		return "", true
	}
	seen, err := filepath.Rel(filepath.FromSlash(path.Dir(rel)), filepath.FromSlash(cmp.Or(inside, ".")))
	return seen, err == nil
}

// relink makes a link anew, with its owner and its time.
func (p *Plan) relink(tree *disk.Root, rel, to, name string) error {
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
	p.note(File{Path: name, Places: 1, Leads: to})
	return errors.Join(tree.LchtimesIfAble(rel, info.ModTime()), tree.Chtimes(path.Dir(rel), folder.ModTime(), folder.ModTime()))
}
