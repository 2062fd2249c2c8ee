package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"

	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
)

// swap lets the staged and the live state change places. It can be called
// again after a crash at any point.
func swap(ctx context.Context, d *disk.Disk, j *Journal, targets map[string]database.Target) error {
	if err := closeSite(ctx, d, j, Swapping); err != nil {
		return err
	}
	for _, p := range j.Databases {
		if err := targets[p.Label].Swap(ctx, p); err != nil {
			return fmt.Errorf("database %s: %w", p.Label, err)
		}
	}
	for _, f := range j.plans() {
		if err := f.swap(ctx, d, j); err != nil {
			return fmt.Errorf("files: %w", err)
		}
	}
	if err := openSite(ctx, d, j); err != nil {
		return err
	}
	for _, p := range j.Databases {
		if err := dropEmptyStage(ctx, targets[p.Label], p); err != nil {
			return fmt.Errorf("database %s: %w", p.Label, err)
		}
	}
	return j.enter(Done)
}

// swapOrTakeBack swaps; when that fails it puts the site back as it was.
func swapOrTakeBack(ctx context.Context, d *disk.Disk, j *Journal, targets map[string]database.Target) error {
	err := swap(ctx, d, j, targets)
	if err == nil || errors.Is(err, ErrTakenOver) {
		return err // it is another computer's to end
	}
	if back := takeBack(ctx, d, j, targets); back != nil {
		return reason.New(reason.HalfRestored, reason.Names{"site": j.Site, "archive": j.Archive}, "%w; putting the site back failed too: %w", err, back)
	}
	return fmt.Errorf("%w; the site was put back as it was", err)
}

// dropEmptyStage removes the staging place once nothing is in it.
func dropEmptyStage(ctx context.Context, t database.Target, p *database.Plan) error {
	if p.Stage == p.Live && p.Rows == nil {
		return nil
	}
	return t.DropStage(ctx, p)
}

// takeBack puts back what a restore set aside and deletes what it had staged.
func takeBack(ctx context.Context, d *disk.Disk, j *Journal, targets map[string]database.Target) error {
	if err := j.canTakeBack(ctx, d, targets); err != nil {
		return err
	}
	if j.Phase == Done {
		if err := j.tablesFree(ctx, targets); err != nil {
			return err
		}
	}
	if err := closeSite(ctx, d, j, Undoing); err != nil {
		return err
	}
	for _, p := range j.Databases {
		if err := targets[p.Label].Revert(ctx, p); err != nil {
			return fmt.Errorf("database %s: %w", p.Label, err)
		}
	}
	for _, f := range j.plans() {
		if err := f.revert(ctx, d, j); err != nil {
			return fmt.Errorf("files: %w", err)
		}
	}
	if err := errors.Join(j.revertAbove(ctx, d), openSite(ctx, d, j)); err != nil {
		return err
	}
	// Once something is deleted, where things are no longer tells what was done.
	if err := j.enter(Clearing); err != nil {
		return err
	}
	return revertStage(ctx, d, j, targets)
}

// revertStage deletes everything that is staged or, after takeBack, left over.
func revertStage(ctx context.Context, d *disk.Disk, j *Journal, targets map[string]database.Target) error {
	var failed error
	for _, p := range j.Databases {
		t, ok := targets[p.Label]
		if !ok {
			continue
		}
		if err := errors.Join(t.DropStage(ctx, p), t.DropAside(ctx, p)); err != nil {
			failed = errors.Join(failed, fmt.Errorf("database %s: %w", p.Label, err))
		}
	}
	// The journal goes last: as long as it stands, a later run tries again.
	if failed = errors.Join(failed, removeBoxes(ctx, d, j)); failed != nil {
		return failed
	}
	return j.close()
}

// settle deletes what a restore set aside.
func settle(ctx context.Context, d *disk.Disk, j *Journal, targets map[string]database.Target) error {
	if err := j.canSettle(d); err != nil {
		return err
	}
	if err := j.enter(Settling); err != nil {
		return err
	}
	return revertStage(ctx, d, j, targets)
}

func removeBoxes(ctx context.Context, d *disk.Disk, j *Journal) error {
	boxes := map[string]bool{}
	for _, f := range j.plans() {
		if f.On == "" {
			boxes[f.Box] = true
		} else if err := f.removeFarBox(ctx, j); err != nil {
			return err
		}
	}
	for _, p := range j.Databases {
		if p.Engine == "sqlite" {
			boxes[filepath.Dir(p.Stage)] = true
		}
	}
	for box := range boxes {
		if err := safeBox(box); err != nil {
			return err
		}
		if err := noMounts(d, reason.MountedAside, j.Site, box); err != nil {
			return err
		}
		if err := j.remove(box, func() error { return d.RemoveAll(box) }); err != nil {
			return fmt.Errorf("remove %s: %w", box, err)
		}
	}
	return nil
}

// remove removes a box. One of which something can still not be removed when it is tried
// again, for it belongs to another account, is noted: the site is as it should be, and no
// later job is to fail of that.
func (j *Journal) remove(box string, all func() error) error {
	err := all()
	if errors.Is(err, fs.ErrPermission) {
		err = all()
	}
	if !errors.Is(err, fs.ErrPermission) {
		return err
	}
	j.left = append(j.left, box)
	return nil
}

// AsidePlaces names, for people, where the replaced state lies.
func (j *Journal) AsidePlaces() []string {
	var all []string
	for _, f := range j.plans() {
		if f.replaced() {
			all = append(all, f.aside())
		}
	}
	for _, p := range j.Databases {
		tables := slices.ContainsFunc(p.Tables, func(m database.TableMove) bool { return m.Aside != "" })
		if p.Vacant || p.Engine == "mysql" && p.Rows == nil && !tables && len(p.Views) == 0 {
			continue // there was nothing
		}
		all = append(all, placeOf(p))
	}
	return all
}

// placeOf names, for people, where a database's replaced tables lie.
func placeOf(p *database.Plan) string {
	switch {
	case p.Engine == "sqlite" && p.Rows != nil:
		return "tables " + database.AsideNames + " in " + p.Live
	case p.Engine == "sqlite":
		return p.Aside
	case p.Engine == "postgres":
		return "schema " + p.Aside
	case p.Aside != p.Live:
		return "database " + p.Aside
	default:
		return "tables " + database.AsideNames + " in database " + p.Live
	}
}
