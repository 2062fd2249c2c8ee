package move

import (
	"context"
	"errors"
	"io/fs"
	"slices"

	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/work/restore"
)

// Settings that lay one folder above the webroot come into the webroot itself: the folder
// above it at the new place may be anybody's. Every CMS that looks there looks in the webroot
// first.

// FromArchive reads the files of the webroot in an archive, with settings of above as if
// they lay in it.
func FromArchive(ctx context.Context, h *catalog.Held, r *site.Recipe) site.ReadFunc {
	return func(rel string) ([]byte, error) {
		data, err := h.ReadFile(ctx, site.RootLabel+"/"+rel)
		if errors.Is(err, fs.ErrNotExist) && fromAbove(h, r, rel) {
			return h.ReadFile(ctx, site.AboveLabel+"/"+rel)
		}
		return data, err
	}
}

// fromAbove tells whether a file of the webroot may have lain above it.
func fromAbove(h *catalog.Held, r *site.Recipe, rel string) bool {
	if _, above := h.Origin.Roots[site.AboveLabel]; !above {
		return false
	}
	return r != nil && slices.Contains(r.Settings.Files, "../"+rel)
}

// bringDown writes settings of above into the staged webroot, if there are none.
func (p *Plan) bringDown(ctx context.Context, tree *disk.Root) error {
	for _, name := range p.recipe.Settings.Files {
		if !fromAbove(p.archive, p.recipe, name) {
			continue
		}
		if _, err := tree.Lstat(name); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		data, err := p.archive.ReadFile(ctx, site.AboveLabel+"/"+name)
		if err != nil {
			return err
		}
		like, err := ordinary(tree)
		if err != nil {
			return err
		}
		p.notes = append(p.notes, Note{Text: name + " lay above the old webroot, and lies in the new one"})
		return restore.Put(tree, name, data, like)
	}
	return nil
}
