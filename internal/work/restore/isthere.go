package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"golang.org/x/sync/errgroup"

	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
)

// canTakeBack refuses to begin to take back what cannot be: whatever was set aside has to be there, all of it. Nothing is
// changed. What has begun is only looked at on its way.
func (j *Journal) canTakeBack(ctx context.Context, d *disk.Disk, targets map[string]database.Target) error {
	if j.Phase != Done {
		return nil
	}
	for _, f := range j.plans() {
		if err := f.asideIsThere(ctx, d, j); err != nil {
			return err
		}
		if f.On == "" {
			if err := NoMountsBelow(d, j.Site, f.Root); err != nil {
				return err
			}
		}
	}
	for _, p := range j.Databases {
		err := targets[p.Label].AsideThere(ctx, p)
		if errors.Is(err, database.ErrAsideGone) {
			err = j.gone(fmt.Errorf("database %s: %w", p.Label, err))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// gone is an error that says that something set aside is there no more.
func (j *Journal) gone(err error) error {
	return reason.Because(reason.AsideGone, reason.Names{"site": j.Site}, err)
}

// stagedIsThere refuses to begin to put live what is not all there.
func (j *Journal) stagedIsThere(ctx context.Context, d *disk.Disk, targets map[string]database.Target) error {
	for _, f := range j.plans() {
		if err := f.stagedIsThere(ctx, d, j); err != nil {
			return err
		}
	}
	for _, p := range j.Databases {
		if err := targets[p.Label].StageThere(ctx, p); err != nil {
			return fmt.Errorf("database %s: %w", p.Label, err)
		}
	}
	return nil
}

// tablesFree refuses to begin an exchange for which tables would have to be waited for, with the site closed.
func (j *Journal) tablesFree(ctx context.Context, targets map[string]database.Target) error {
	for _, p := range j.Databases {
		if err := targets[p.Label].Free(ctx, p); err != nil {
			return fmt.Errorf("database %s: %w", p.Label, err)
		}
	}
	return nil
}

// canSettle refuses to begin to delete what something is mounted in.
func (j *Journal) canSettle(d *disk.Disk) error {
	if j.Phase != Done {
		return nil
	}
	for _, f := range j.plans() {
		if f.On != "" {
			continue
		}
		if err := noMounts(d, reason.MountedAside, j.Site, f.Box); err != nil {
			return err
		}
	}
	return nil
}

// asideIsThere refuses to begin to take back what cannot be: the tree that was live is known by its number, which changes when
// a machine is copied. Where single paths changed places, each of them has to be there, but for those that stay in whatever tree is live.
func (f *FilesPlan) asideIsThere(ctx context.Context, d *disk.Disk, j *Journal) error {
	switch {
	case f.On != "":
		return f.pathsAreThere(j, func(rel string) (bool, error) { return isThere(ctx, j.far, f.setOut(rel)) })
	case f.Inner && j.Partial: // what was deleted beside the share since is not there either: see keepSince
		there, err := d.Exists(f.aside())
		if err != nil || there {
			return err
		}
		return j.gone(database.Gone(database.ErrAsideGone, []string{filepath.Base(f.aside())}, f.Box))
	case f.Inner:
		return f.pathsAreThere(j, func(rel string) (bool, error) { return d.Exists(filepath.Join(f.aside(), rel)) })
	case f.LiveInode == 0:
		return nil
	}
	if now, err := inode(d, f.Root); err != nil || now == f.LiveInode {
		return err
	}
	if _, err := f.find(d, f.LiveInode); err != nil {
		return j.gone(err)
	}
	return nil
}

// pathsAreThere looks for each path that went aside.
func (f *FilesPlan) pathsAreThere(j *Journal, isThere func(rel string) (bool, error)) error {
	gone, err := f.lacking(f.OldNames, isThere)
	if err == nil {
		err = j.gone(database.Gone(database.ErrAsideGone, gone, f.aside()))
	}
	return err
}

// stagedIsThere refuses to begin to put live what is not all there: whoever owns the folder, or the account on another machine,
// may have taken some of it away. The exchange itself takes what is not there for what it has put live before.
func (f *FilesPlan) stagedIsThere(ctx context.Context, d *disk.Disk, j *Journal) error {
	look := func(rel string) (bool, error) { return d.Exists(filepath.Join(f.staged(), rel)) }
	switch {
	case f.On != "":
		look = func(rel string) (bool, error) { return isThere(ctx, j.far, f.setIn(rel)) }
	case !f.Inner:
		return nil // told by its number
	}
	gone, err := f.lacking(f.NewNames, look)
	return cmp.Or(err, database.Gone(database.ErrStageGone, gone, f.staged()))
}

// lacking asks for each of some paths, several at a time, and returns those that are not there, but for what stays in whatever
// tree is live.
func (f *FilesPlan) lacking(names []string, isThere func(rel string) (bool, error)) (gone []string, err error) {
	stays := slices.Concat(f.Kept, f.Links)
	for _, file := range f.Carried {
		for _, suffix := range databaseFiles {
			stays = append(stays, file+suffix)
		}
	}
	missing := make([]bool, len(names))
	var g errgroup.Group
	g.SetLimit(farMoves)
	for i, rel := range names {
		if slices.Contains(stays, rel) {
			continue
		}
		g.Go(func() error {
			there, err := isThere(rel)
			missing[i] = !there
			return err
		})
	}
	err = g.Wait()
	for i, rel := range names {
		if missing[i] {
			gone = append(gone, rel)
		}
	}
	return gone, err
}
