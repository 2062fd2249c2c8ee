package restore

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"revlet/internal/database"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/state"
	"revlet/internal/site"
)

// SQLJob says which database to restore from an SQL text that is no archive:
// one that a server's own dump client, or a database admin page, has written.
type SQLJob struct {
	Site *site.Site
	// Label names the database.
	Label string
	// Anyway takes values that do not fit their columns as the server changes them.
	Anyway bool
	// Dumped names the database that is meant in a dump of several.
	Dumped string
	// Name is shown as where it came from; Text is the SQL.
	Name     string
	Text     io.Reader
	State    *state.State
	Open     Opener
	Now      func() time.Time
	Observer progress.Observer
}

// dumpLoader is a target that can stage foreign SQL.
type dumpLoader interface {
	LoadDump(ctx context.Context, p *database.Plan, r io.Reader) (rows int64, err error)
}

// CheckSQL tells whether RunSQL would begin. Nothing is changed.
func CheckSQL(ctx context.Context, j SQLJob) error {
	_, target, _, err := j.open(ctx)
	if err != nil {
		return fmt.Errorf("restore %s from %s: %w; the site is unchanged", j.Site.Name, j.Name, err)
	}
	return target.Close()
}

// open opens the database that the text is for.
func (j SQLJob) open(ctx context.Context) (db site.Database, target database.Target, loader dumpLoader, err error) {
	db, ok := j.Site.Database(j.Label)
	if !ok {
		return db, nil, nil, fmt.Errorf("the site has no database %q", j.Label)
	}
	if target, err = j.Open(ctx, db, sqlite.FileMode{}, ""); err != nil {
		return db, nil, nil, err
	}
	if loader, ok = target.(dumpLoader); !ok {
		return db, nil, nil, errors.Join(fmt.Errorf("a %s database cannot be restored from an SQL file here; use its own client", db.Engine), target.Close())
	}
	return db, target, loader, nil
}

// RunSQL stages the text beside the live database and exchanges both, as Run
// does with an archive.
func RunSQL(ctx context.Context, j SQLJob) (*Result, error) {
	start := j.Now()
	fail := func(err error) (*Result, error) {
		return nil, fmt.Errorf("restore %s from %s: %w; the site is unchanged", j.Site.Name, j.Name, err)
	}
	db, target, loader, err := j.open(ctx)
	if err != nil {
		return fail(err)
	}
	defer target.Close()
	journal, err := newJournal(j.State, j.Site.Name, j.Name, start)
	if err != nil {
		return fail(err)
	}
	plan := target.Plan(placeID(journal.ID))
	plan.Label, plan.From, plan.Misfits = j.Label, j.Dumped, j.Anyway
	journal.access(db)
	journal.Databases = []*database.Plan{plan}
	targets := map[string]database.Target{j.Label: target}
	rows, err := stageSQL(ctx, j, journal, target, loader)
	if err != nil {
		return fail(errors.Join(err, revertStage(context.WithoutCancel(ctx), j.State.Disk, journal, targets)))
	}
	ctx = context.WithoutCancel(ctx)
	swapStart := j.Now()
	if err := swapOrTakeBack(ctx, j.State.Disk, journal, targets); err != nil {
		return nil, fmt.Errorf("restore %s from %s: %w", j.Site.Name, j.Name, err)
	}
	if without := notMade(plan); len(without) > 0 {
		few := strings.Join(without[:min(len(without), 5)], ", ")
		plan.Notes = append(plan.Notes, fmt.Sprintf("of what was there, the SQL makes nothing for %s, such as %s: set aside like the rest", english.Plural(len(without), "table", ""), few))
	}
	for _, note := range plan.Notes {
		progress.Or(j.Observer).Note("note: database " + j.Label + ": " + note)
	}
	tables := 0
	for _, m := range plan.Tables {
		if m.Staged != "" {
			tables++
		}
	}
	return &Result{Journal: journal, Rows: rows, Tables: tables, Swap: j.Now().Sub(swapStart), Took: j.Now().Sub(start), Aside: journal.AsidePlaces()}, nil
}

// notMade are the tables that were there and that the text does not make, where the plan tells.
func notMade(p *database.Plan) (names []string) {
	for _, m := range p.Tables {
		if m.Staged == "" && m.Aside != "" {
			names = append(names, m.Name)
		}
	}
	return names
}

func stageSQL(ctx context.Context, j SQLJob, journal *Journal, target database.Target, loader dumpLoader) (int64, error) {
	progress.Or(j.Observer).Phase("staging "+j.Name, 0)
	if err := journal.enter(Staging); err != nil {
		return 0, err
	}
	plan := journal.Databases[0]
	if err := target.Prepare(ctx, plan, nil); err != nil {
		return 0, err
	}
	if err := journal.save(); err != nil {
		return 0, err
	}
	return loader.LoadDump(ctx, plan, j.Text)
}
