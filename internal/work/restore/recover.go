package restore

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"revlet/internal/database"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// Outcome says what Recover, Undo or Settle did with one restore.
type Outcome struct {
	Journal *Journal
	// Did is reverted, finished, undone or settled.
	Did string
	// Notes are what a person should know about how that went.
	Notes []string
	// Left are folders in which something is left that was to be deleted, and belongs to
	// another account.
	Left []string
}

// Recoverer finishes or reverts restores.
type Recoverer struct {
	Site  *site.Site
	State *state.State
	Open  Opener
	// Drain is as in Job.
	Drain time.Duration
	// Place finds the machine with an address that a journal names; an error of it says that
	// none leads there.
	Place func(base string) (tree.Place, error)
	// Mirror is as in Job.
	Mirror *Mirror
	// settling ends a restore whatever is left of it.
	settling bool
}

// reach finds the machine that the files of a restore are on.
func (r Recoverer) reach(ctx context.Context, j *Journal) error {
	if j.Files == nil || j.Files.On == "" || j.far != nil {
		return nil
	}
	if r.Place == nil {
		return fmt.Errorf("its files are on %s, and nothing leads there", j.Files.On)
	}
	place, err := r.Place(j.Files.On)
	if err != nil {
		return err
	}
	w, ok := place.(tree.Writer)
	if !ok || place.Base() != j.Files.On {
		return fmt.Errorf("its files are on %s, and nothing leads there", j.Files.On)
	}
	j.far, j.keys = w, r.Mirror
	return r.sync(ctx, j)
}

// targets opens the databases of a restore, and finds its machine.
func (r Recoverer) targets(ctx context.Context, j *Journal) (map[string]database.Target, func(), error) {
	all := map[string]database.Target{}
	done := func() {
		for _, t := range all {
			_ = t.Close()
		}
	}
	if err := r.reach(ctx, j); err != nil {
		return all, done, err
	}
	for _, p := range j.Databases {
		t, err := r.target(ctx, j, p)
		if err != nil {
			return all, done, err
		}
		all[p.Label] = t
	}
	return all, done, nil
}

// target opens a database as it was reached then. When that account does not open it
// any more, the one of today's settings may, if they mean the same database.
func (r Recoverer) target(ctx context.Context, j *Journal, p *database.Plan) (database.Target, error) {
	then, known := j.Access[p.Label]
	now, there := r.Site.Database(p.Label)
	if !known && !there {
		return nil, fmt.Errorf("the site has no database %q any more", p.Label)
	}
	if !known {
		return r.Open(ctx, now, sqlite.FileMode{}, filepath.Dir(p.Stage))
	}
	t, err := r.Open(ctx, then, sqlite.FileMode{}, filepath.Dir(p.Stage))
	if err == nil || !there {
		return t, err
	}
	then.User, then.Password = now.User, now.Password
	if !then.Same(now) {
		return nil, err
	}
	t, second := r.Open(ctx, now, sqlite.FileMode{}, filepath.Dir(p.Stage))
	if second != nil {
		return nil, errors.Join(err, second)
	}
	return t, nil
}

// Recover brings a restore that died half-way to one of its two ends: back if
// nothing live had changed, to the end otherwise. The caller holds the site's
// lock.
func (r Recoverer) Recover(ctx context.Context) ([]Outcome, error) {
	journals, err := Journals(r.State, r.Site.Name)
	if err != nil {
		return nil, err
	}
	var all []Outcome
	for _, j := range journals {
		if j.Phase == Done {
			continue
		}
		did, err := r.finish(ctx, j)
		if err != nil {
			return all, fmt.Errorf("a restore of %s from %s stopped half-way (%s) and cannot be completed: %w", j.Site, j.Archive, j.Phase, err)
		}
		all = append(all, Outcome{Journal: j, Did: did, Left: j.left})
	}
	return all, nil
}

func (r Recoverer) finish(ctx context.Context, j *Journal) (string, error) {
	targets, done, err := r.targets(ctx, j)
	defer done()
	if err != nil {
		return "", err
	}
	switch j.Phase {
	case Staging, Clearing:
		return "reverted", revertStage(ctx, r.State.Disk, j, targets)
	case Done: // by another computer
		return "finished", nil
	case Swapping:
		return "finished", swap(ctx, r.State.Disk, j, targets)
	case Undoing:
		return "undone", takeBack(ctx, r.State.Disk, j, targets)
	case Settling:
		return "settled", settle(ctx, r.State.Disk, j, targets)
	default:
		return "", fmt.Errorf("the journal says %q, which this Revlet does not know", j.Phase)
	}
}

// ErrNothingAside is wrapped when there is no restore to undo or settle.
var ErrNothingAside = errors.New("no restore has set anything aside")

// Undo takes the newest restore back.
func (r Recoverer) Undo(ctx context.Context) (*Outcome, error) {
	journals, err := Journals(r.State, r.Site.Name)
	if err != nil {
		return nil, err
	}
	if len(journals) == 0 {
		return nil, fmt.Errorf("site %s: %w", r.Site.Name, ErrNothingAside)
	}
	j := journals[0]
	targets, done, err := r.targets(ctx, j)
	defer done()
	if err != nil {
		return nil, err
	}
	if j.Phase == Staging || j.Phase == Clearing || j.Phase == Settling {
		did, err := r.finish(ctx, j)
		return &Outcome{Journal: j, Did: did, Left: j.left}, err
	}
	j.drain = r.Drain
	for _, p := range j.Databases {
		p.Notes = nil // those of the restore
	}
	o := &Outcome{Journal: j, Did: "undone"}
	if j.Phase == Done {
		if o.Notes, err = j.keepSince(ctx, r.State.Disk); err != nil {
			return nil, fmt.Errorf("undo the restore of %s: %w", j.Archive, err)
		}
	}
	if err := takeBack(context.WithoutCancel(ctx), r.State.Disk, j, targets); err != nil {
		return nil, fmt.Errorf("undo the restore of %s: %w", j.Archive, err)
	}
	for _, p := range j.Databases {
		o.Notes = append(o.Notes, p.Notes...)
	}
	o.Left = j.left
	return o, nil
}

// CheckUndo refuses what Undo of a restore would refuse before it changes anything. The caller holds the site's lock.
func (r Recoverer) CheckUndo(ctx context.Context, j *Journal) error {
	targets, done, err := r.targets(ctx, j)
	defer done()
	if err != nil {
		return err
	}
	return j.canTakeBack(ctx, r.State.Disk, targets)
}

// CheckSettle is CheckUndo for Settle.
func (r Recoverer) CheckSettle(ctx context.Context, j *Journal) error {
	r.settling = true
	_, done, err := r.targets(ctx, j)
	defer done()
	if err != nil {
		return err
	}
	return j.canSettle(r.State.Disk)
}

// Settle deletes for good what every restore of the site has set aside.
func (r Recoverer) Settle(ctx context.Context) ([]Outcome, error) {
	journals, err := Journals(r.State, r.Site.Name)
	if err != nil {
		return nil, err
	}
	if len(journals) == 0 {
		return nil, fmt.Errorf("site %s: %w", r.Site.Name, ErrNothingAside)
	}
	var all []Outcome
	r.settling = true
	for _, j := range journals {
		targets, done, err := r.targets(ctx, j)
		if err == nil {
			err = settle(ctx, r.State.Disk, j, targets)
		}
		done()
		if err != nil {
			return all, fmt.Errorf("settle the restore of %s: %w", j.Archive, err)
		}
		all = append(all, Outcome{Journal: j, Did: "settled", Left: j.left})
	}
	return all, nil
}
