package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"strings"

	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
)

// This file changes what was staged: for a new place, and by the database files that lie in the webroot.

// moveStaged changes what was staged for its new place.
func (r *run) moveStaged(ctx context.Context) error {
	return r.inMoving(func(m *Moving, trees map[string]*disk.Root) error { return m.Staged(ctx, trees) })
}

// moveLinks changes the links in it.
func (r *run) moveLinks() error {
	return r.inMoving(func(m *Moving, trees map[string]*disk.Root) error { return m.Links(trees) })
}

func (r *run) inMoving(change func(m *Moving, trees map[string]*disk.Root) error) error {
	if r.Moving == nil {
		return nil
	}
	trees := map[string]*disk.Root{}
	for _, f := range r.journal.plans() {
		tree, err := openTree(r.disk, f.here())
		if err != nil {
			return err
		}
		defer tree.Close()
		trees[f.Label] = tree
	}
	return change(r.Moving, trees)
}

// LinkOnWay is the first link on the way to a path in a tree, or at its end, and where it leads.
func LinkOnWay(tree *disk.Root, rel string) (at, to string, is bool) {
	for _, part := range strings.Split(rel, "/") {
		at = path.Join(at, part)
		if to, err := tree.Readlink(at); err == nil {
			return at, to, true
		}
	}
	return "", "", false
}

// ledOut explains why the folder of a database file is none, where a link is to blame; one that is not there is no error.
func ledOut(tree *disk.Root, file string, err error) error {
	if at, to, is := LinkOnWay(tree, path.Dir(file)); is {
		return reason.New(reason.LinkedDatabase, reason.Names{"path": at}, "the database file %s is to lie behind the link %s, which leads out of the webroot (to %s)", file, at, to)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// throughLink explains why something of a share cannot be put in its place, where a link of the live site is to blame.
func (r *run) throughLink(tree *disk.Root, err error) error {
	var of *fs.PathError
	if r.Selection == nil || !errors.As(err, &of) {
		return err
	}
	at, to, is := LinkOnWay(tree, filepath.ToSlash(of.Path))
	if _, inside := tree.Stat(at); !is || inside == nil {
		return err
	}
	return reason.New(reason.LinkedShare, reason.Names{"path": at, "archive": r.Archive.Name}, "%s is a link on the site now, and leads out of it (to %s): a share is not put there", at, to)
}

// stageInside loads databases that lie in the webroot into the staged tree,
// once its folders stand.
func (r *run) stageInside(ctx context.Context, ix *catalog.Index) error {
	for _, d := range r.inside {
		tree, err := openTree(r.disk, d.plan.here())
		if err != nil {
			return err
		}
		if err := errors.Join(r.stageOne(ctx, ix, d, tree), tree.Close()); err != nil {
			return err
		}
	}
	return nil
}

// stageOne loads one of them.
func (r *run) stageOne(ctx context.Context, ix *catalog.Index, d insideDatabase, tree *disk.Root) error {
	folder := path.Dir(d.rel)
	if _, err := tree.Stat(folder); err != nil {
		if err = ledOut(tree, d.rel, err); err != nil {
			return err
		}
	}
	plan := d.target.Plan(placeID(r.journal.ID))
	plan.Label = d.db.Label
	if err := d.target.Prepare(ctx, plan, nil); err != nil { // it makes a folder that damage has left out
		return err
	}
	before, err := tree.Stat(folder)
	if err != nil {
		return err
	}
	if err := r.loadDatabase(ctx, ix, d.db.Label, d.target, plan); err != nil {
		return err
	}
	if err := d.target.Swap(ctx, plan); err != nil {
		return err
	}
	if d.plan.Inner && r.far == nil {
		if err := r.moveIn(d.db.Path, tree, d.rel); err != nil {
			return fmt.Errorf("database %s: %w", d.db.Label, err)
		}
	}
	// Putting the file in has changed its folder's time.
	return tree.Chtimes(folder, before.ModTime(), before.ModTime())
}
