package jobs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"revlet/internal/database"

	"revlet/internal/archives/catalog"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/loopback"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/engine"
	"revlet/internal/watch/history"
	"revlet/internal/work/rehearse"
)

// Rehearse puts an archive back into scratch space, compares every byte and row,
// throws the copy away and remembers what came of it. The live site is not
// touched.
func (a *Agent) Rehearse(ctx context.Context, h *catalog.Held, watch progress.Observer) (*rehearse.Result, error) {
	r, _, err := a.rehearse(ctx, h, watch, "", "")
	return r, err
}

// rehearse does so for a person or a duty, and returns the number of the run too.
func (a *Agent) rehearse(ctx context.Context, h *catalog.Held, watch progress.Observer, origin, duty string) (r *rehearse.Result, id int64, err error) {
	if err := h.Unseal(h.Keys); err != nil {
		return nil, 0, err
	}
	run := history.Run{Site: h.Site, Command: "rehearse", Archive: h.Name, Origin: origin, Duty: duty}
	err = a.workUnder(ctx, ".rehearse-"+h.Site, &run, func(ctx context.Context, run *history.Run) error {
		job, err := a.rehearsal(ctx, h, watch)
		if err != nil {
			return err
		}
		if r, err = rehearse.Run(ctx, job); err != nil {
			return err
		}
		if !r.Passed() {
			run.Outcome, run.Detail = history.Damage, strings.Join(r.Trouble, "\n")
		}
		run.Log = a.Words(Rehearsed{h, r})
		return a.History.AddRehearsal(ctx, history.Rehearsal{Archive: h.Name, At: run.Started, Passed: r.Passed(), Took: r.Total, Detail: run.Detail})
	})
	return r, run.ID, err
}

// rehearsal is the job that tries an archive, with what the configuration says
// about the site's rehearsals.
func (a *Agent) rehearsal(ctx context.Context, h *catalog.Held, watch progress.Observer) (rehearse.Job, error) {
	if h.Encrypted && !a.Keys.Given() { // before a server is started in vain
		return rehearse.Job{}, fmt.Errorf("archive %s: %w", h.Name, encryption.ErrNoKey)
	}
	s, err := a.openForRehearsal(ctx, h)
	if err != nil {
		return rehearse.Job{}, err
	}
	job := rehearse.Job{Site: s, Archive: h, Scratch: filepath.Join(a.State.Dir, "rehearsal", h.Site), Temporary: os.TempDir(), Disk: a.Disk,
		Open: a.openTarget, Live: a.databases().Live, Tables: a.tableNames, Version: a.versionOf, Observer: watch, Now: a.Now}
	return job, a.completeRehearsal(&job)
}

// openForRehearsal opens the site as it is now; one elsewhere as the archive has it, so
// that it can be rehearsed when its machine is gone.
func (a *Agent) openForRehearsal(ctx context.Context, h *catalog.Held) (*site.Site, error) {
	if cfg := a.Config.Sites[h.Site]; cfg.Far() && h.Scope.HasFiles() {
		return a.openFromArchive(ctx, h, cfg)
	} else if cfg.Far() {
		return a.openSite(ctx, h.Site, cfg)
	}
	return a.openForRestore(ctx, h)
}

// completeRehearsal adds what the configuration says about a site's rehearsals.
func (a *Agent) completeRehearsal(job *rehearse.Job) error {
	s := job.Site
	cfg := a.Config.Sites[s.Name].Rehearse
	if cfg == nil {
		return nil
	}
	var err error
	if job.Databases, err = site.Described(cfg.Databases); err != nil {
		return fmt.Errorf("`rehearse: {databases: …}` of site %s: %w", s.Name, err)
	}
	for label := range job.Databases {
		if _, ok := s.Database(label); !ok {
			return reason.BadUsage("`rehearse: {databases: …}` of site %s: the site has no database %q", s.Name, label)
		}
	}
	if cfg.Serve == "" {
		return nil
	}
	if i := slices.IndexFunc(s.Databases, func(db site.Database) bool { return !a.pointable(s, db) }); i >= 0 {
		return reason.BadUsage("`rehearse: {serve: …}` of site %s: the copy would use the live database %s, for no recipe knows where its settings are; remove `serve:`", s.Name, s.Databases[i].Where())
	}
	if !strings.Contains(cfg.Serve, "{port}") || !strings.Contains(cfg.Serve, "{root}") {
		return reason.BadUsage("`rehearse: {serve: …}` of site %s needs {port} and {root} in its command", s.Name)
	}
	if job.Guest, err = a.serves(s.Name, cfg.As); err != nil {
		return err
	}
	job.Settings = a.Config.Sites[s.Name].Settings
	job.Serve = func() (rehearse.Place, error) {
		l, err := loopback.Hold()
		if err != nil {
			return nil, err
		}
		return &servedCopy{Listener: l, command: cfg.Serve, mark: rehearse.Mark(job.Scratch), guest: job.Guest}, nil
	}
	return nil
}

// pointable tells whether a copy can be made to use a copy of a database: it is a
// file that goes along, or the recipe knows the setting that leads to it.
func (a *Agent) pointable(s *site.Site, db site.Database) bool {
	if _, inside := s.Inside(db); inside {
		return true
	}
	if s.Recipe == nil {
		return false
	}
	_, own := s.Recipe.Databases[db.Label]
	return own && !a.Config.Sites[s.Name].NamesDatabases()
}

// tablesIn lists the tables of a database; none where it is a file that is not there.
func (a *Agent) tablesIn(ctx context.Context, db site.Database) ([]database.TableInfo, error) {
	source, err := engine.Untouched(ctx, a.Disk, db, a.State.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer source.Close()
	return source.Tables(ctx)
}

// versionOf is the version of a database's server.
func (a *Agent) versionOf(ctx context.Context, db site.Database) (string, error) {
	source, err := engine.Source(ctx, a.Disk, db, a.State.Dir)
	if err != nil {
		return "", err
	}
	defer source.Close()
	return source.Info().Version, nil
}

// tableNames names the tables of a database.
func (a *Agent) tableNames(ctx context.Context, db site.Database) (names []string, err error) {
	tables, err := a.tablesIn(ctx, db)
	for _, t := range tables {
		names = append(names, t.Name)
	}
	return names, err
}
