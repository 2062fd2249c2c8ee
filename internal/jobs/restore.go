package jobs

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/portable"
	"revlet/internal/config"
	"revlet/internal/database"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/check"
	"revlet/internal/site/engine"
	"revlet/internal/store"
	"revlet/internal/watch/history"
	"revlet/internal/work/compare"
	"revlet/internal/work/restore"
)

// openForRestore opens the site as it is now; when its webroot or its settings
// are gone, the settings inside the archive serve.
func (a *Agent) openForRestore(ctx context.Context, h *catalog.Held) (*site.Site, error) {
	cfg := a.Config.Sites[h.Site]
	s, err := a.openSite(ctx, h.Site, cfg)
	if err == nil && (s.Recipe != nil || h.Origin.Recipe == "" || cfg.NamesDatabases()) {
		return s, nil
	}
	if !h.Scope.HasFiles() {
		return s, err
	}
	fromArchive, second := a.openFromArchive(ctx, h, cfg)
	if second != nil {
		return nil, errors.Join(err, second)
	}
	if !cfg.NamesDatabases() && len(fromArchive.Databases) > 0 {
		a.Tell(SettingsFromArchive{})
	}
	return fromArchive, nil
}

// openFromArchive opens a site with the settings that an archive of it holds. The site's
// machine is not asked.
func (a *Agent) openFromArchive(ctx context.Context, h *catalog.Held, cfg config.Site) (*site.Site, error) {
	if cfg.Recipe == "" || cfg.Recipe == "auto" {
		cfg.Recipe = h.Origin.Recipe
	}
	place, err := a.place(cfg)
	if err != nil {
		return nil, err
	}
	s, err := site.OpenFromAt(h.Site, cfg, place, func(rel string) ([]byte, error) {
		if name, above := strings.CutPrefix(rel, "../"); above {
			return h.ReadFile(ctx, site.AboveLabel+"/"+name)
		}
		return h.ReadFile(ctx, site.RootLabel+"/"+rel)
	})
	if err != nil {
		return s, err
	}
	s.Boxes = restore.BoxesIn(a.State, a.Config.SiteNames(), s)
	for i, db := range s.Databases {
		if s.Databases[i], err = restore.BehindLinks(ctx, h, s, db); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// RestoreOrder is what to put back of an archive: see restore.Job.
type RestoreOrder struct {
	Archive   *catalog.Held
	Site      *site.Site
	Files     bool
	Database  bool
	Selection *restore.FileSelection
	Rows      map[string]*database.RowSelection
	Anyway    bool
	// Clean sets aside, too, what the archive never held.
	Clean bool
	// TrustTimes is restore.Job's: for a share of the files of a site elsewhere.
	TrustTimes bool
	// KeepSettings keeps the present settings file instead of the archive's.
	KeepSettings bool
	// Salvage restores what damage has left.
	Salvage bool
	// Root is the webroot as a person has typed it, for a site whose place is known from
	// an archive only; empty if nobody has.
	Root string
	// Dumped names the database that is meant in a dump of several.
	Dumped   string
	Observer progress.Observer
}

// Restored is what came of a restore.
type Restored struct {
	*restore.Result
	Archive *catalog.Held
	Site    *site.Site
	// Answers are the site's to its checks, TakenOut the files that are gone from the
	// webroot because the archive does not have them, or not so.
	Answers  []check.Result
	TakenOut []compare.File
	// Clean tells that what the archive never held was set aside, too.
	Clean bool
	// ExtraTables are live tables that the archive does not have; they were set aside.
	ExtraTables []ExtraTable
}

// ExtraTable is a live table that an archive does not have, such as one of another
// program in the same database: a restore of the database sets it aside.
type ExtraTable struct {
	Database string `json:"database"`
	Table    string `json:"table"`
	// Bytes is how much room the server gives it, 0 where it does not say.
	Bytes int64 `json:"bytes"`
}

// ExtraTables are the live tables that a restore of whole databases sets aside though
// the archive has nothing to put in their place. Of a share, or of a copy made by hand,
// there is nothing to tell.
func (a *Agent) ExtraTables(ctx context.Context, o RestoreOrder) (extra []ExtraTable, err error) {
	if !o.Database || o.Rows != nil {
		return nil, nil
	}
	for _, db := range o.Site.Databases {
		if _, held := o.Archive.Origin.Databases[db.Label]; !held || o.Archive.HasDump(db.Label) {
			continue
		}
		live, second := a.tablesIn(ctx, db)
		err = errors.Join(err, second)
		for _, t := range live {
			if !o.Archive.Knows(db.Label, t.Name) {
				extra = append(extra, ExtraTable{db.Label, t.Name, t.Bytes})
			}
		}
	}
	return extra, err
}

// OpenForRestore opens the site of an archive as it is now; when its webroot or its
// settings are gone, the settings inside the archive serve.
func (a *Agent) OpenForRestore(ctx context.Context, h *catalog.Held) (*site.Site, error) {
	return a.openForRestore(ctx, h)
}

// Uncovered is what of the live site, or of a share of it, an archive never held: a
// restore of the files carries it over, or a whole one sets it aside if it is to be clean.
func (a *Agent) Uncovered(ctx context.Context, o RestoreOrder) ([]restore.Uncovered, error) {
	switch {
	case !o.Files:
		return nil, nil
	case o.Selection != nil:
		return restore.UncoveredOf(ctx, o.Selection, a.Disk, o.Site, o.Archive, a.otherSites(o.Archive.Site))
	}
	return restore.FindUncovered(ctx, a.Disk, o.Site, o.Archive, nil, a.otherSites(o.Archive.Site), o.Clean)
}

// GoneAbove are settings files above the webroot that a restore puts back, for they are
// gone.
func (a *Agent) GoneAbove(ctx context.Context, o RestoreOrder) ([]string, error) {
	if err := a.canBeThere(o); err != nil || !o.Files || o.Selection != nil {
		return nil, err
	}
	return restore.GoneAbove(ctx, a.Disk, o.Site, o.Archive)
}

// otherSites maps the folders of the other configured sites to their names.
func (a *Agent) otherSites(name string) map[string]string {
	all := map[string]string{}
	for other, cfg := range a.Config.Sites {
		if other == name {
			continue
		}
		all[cfg.Root] = other
		for _, dir := range cfg.Roots {
			all[dir] = other
		}
	}
	return all
}

// canBeThere refuses to put another folder in the place of one of the system's, to write into a database that is a file on another machine, or, for root, in a folder of somebody
// else's. One in a folder of the site comes back as a whole.
func (a *Agent) canBeThere(o RestoreOrder) error {
	if o.Files {
		for _, dir := range o.Site.Folders() {
			if err := restore.MayReplace(o.Site.PathAt(dir)); err != nil {
				return ofSite(o.Site.Name, err)
			}
		}
	}
	for _, db := range o.Site.Databases {
		_, held := o.Archive.Origin.Databases[db.Label]
		if o.Database && held && o.Rows[db.Label] != nil && db.Place == nil {
			if err := asOwner(db); err != nil {
				return err
			}
		}
		if !o.Database || !held || db.Engine != "sqlite" || db.Place == nil {
			continue
		}
		if label, _, inside := o.Site.LiesIn(db); !inside || o.Archive.Origin.Roots[label] == "" || o.Rows != nil {
			return reason.BadUsage("database %s: %w; one in a folder of the site that the archive holds can be put back as a whole", db.Label, engine.ErrFarFile)
		}
	}
	return nil
}

func (a *Agent) restoreJob(o RestoreOrder) restore.Job {
	name := o.Archive.Site
	return restore.Job{Site: o.Site, Archive: o.Archive, Files: o.Files, Database: o.Database, Selection: o.Selection, Rows: o.Rows, State: a.State, Open: a.openTarget, Mirror: a.mirror(name), Observer: o.Observer, Now: a.Now,
		Drain: a.Drain, Anyway: o.Anyway, Clean: o.Clean, TrustTimes: o.TrustTimes, Dumped: o.Dumped, KeepSettings: o.KeepSettings, Salvage: o.Salvage, Own: a.isOwn(o.Archive.Record), Others: a.otherSites(name),
		Confirm: func() error { return a.confirmTargets(name, o.Site, o.Archive.Origin.Databases) }}
}

// CheckRestore tells whether a restore would begin. Nothing is changed. Where an earlier one has not come to its end, which is
// ended first then, that is not known, and no error.
func (a *Agent) CheckRestore(ctx context.Context, o RestoreOrder) error {
	if restore.Interrupted(a.State, o.Archive.Site) {
		return nil
	}
	return catalog.BecauseDamaged(o.Archive, errors.Join(a.canBeThere(o), restore.Check(ctx, a.restoreJob(o))))
}

// Restore puts a site back, asks it whether it works, and tells what is gone from
// the webroot.
func (a *Agent) Restore(ctx context.Context, o RestoreOrder) (*Restored, error) {
	if err := errors.Join(a.canBeThere(o), a.confirmPlace(o.Archive.Site, o.Root)); err != nil {
		return nil, err
	}
	r := &Restored{Archive: o.Archive, Site: o.Site, Clean: o.Clean}
	run := history.Run{Site: o.Archive.Site, Command: "restore", Archive: o.Archive.Name}
	extra, extraErr := a.ExtraTables(ctx, o)
	if !o.Files || o.Selection != nil {
		run.Detail = onlyShare
	}
	err := a.work(ctx, &run, func(ctx context.Context, _ *history.Run) (err error) {
		r.Result, err = restore.Run(ctx, a.restoreJob(o))
		return err
	})
	if err != nil {
		return nil, catalog.BecauseDamaged(o.Archive, err)
	}
	a.placeConfirmed(o.Archive.Site)
	if r.ExtraTables = extra; extraErr != nil {
		a.warnf("tables that the archive does not have cannot be told: %w", extraErr)
	}
	r.Answers = a.checkRestored(ctx, o.Site)
	r.TakenOut = a.strangers(ctx, o.Archive, r.Result)
	return r, nil
}

// RowShares makes shares of an archive's databases, by label, out of names of tables and
// of rows as a person gives them. dumped names the database that is meant in a text of
// another program that holds several.
func (a *Agent) RowShares(ctx context.Context, h *catalog.Held, s *site.Site, tables []string, rows []database.RowPick, dumped string) (map[string]*database.RowSelection, error) {
	held, err := restore.TablesByLabel(h, func(p archive.Part) (made []string, err error) {
		origin := h.Origin.Databases[p.Database]
		err = h.EachStore(func(st store.Named) error {
			part, err := h.OpenPart(ctx, st, p, func(int64) {})
			if err != nil {
				return err
			}
			defer part.Close()
			made, err = engine.DumpTables(origin.Engine, part, origin.Name, dumped)
			return err
		})
		return made, err
	})
	if err != nil {
		return nil, fmt.Errorf("look for tables in archive %s: %w", h.Name, err)
	}
	return restore.RowShares(s, h, held, tables, rows)
}

// OpenForSQL opens a site whose only database is to be restored from SQL text in a file, and makes sure that there is such a
// file, and that the site's settings lead to the database that it had at the last backup: an intruder's may lead to somebody
// else's.
func (a *Agent) OpenForSQL(ctx context.Context, name, file string) (*site.Site, site.Database, error) {
	cfg, err := a.SiteConfig(name)
	if err != nil {
		return nil, site.Database{}, err
	}
	s, err := a.openSite(ctx, name, cfg)
	if err != nil {
		return nil, site.Database{}, err
	}
	if len(s.Databases) != 1 {
		return nil, site.Database{}, reason.BadUsage("an SQL file is for a site with one database; %s has %d", name, len(s.Databases))
	}
	if err := a.confirmDatabases(name, s, cfg); err != nil {
		return nil, site.Database{}, err
	}
	_, done, err := portable.OpenSQL(file)
	if err != nil {
		return nil, site.Database{}, err
	}
	done()
	return s, s.Databases[0], restore.CheckSQL(ctx, restore.SQLJob{Site: s, Label: s.Databases[0].Label, Name: filepath.Base(file), State: a.State, Open: a.openTarget, Now: a.Now})
}

// RestoreSQL puts a site's only database back from an SQL file that is no archive.
// dumped names the database that is meant if the file holds several; anyway takes values that do not fit their columns.
func (a *Agent) RestoreSQL(ctx context.Context, s *site.Site, file, dumped string, anyway bool, watch progress.Observer) (*Restored, error) {
	text, closeText, err := portable.OpenSQL(file)
	if err != nil {
		return nil, err
	}
	defer closeText()
	if err := a.confirmPlace(s.Name, ""); err != nil {
		return nil, err
	}
	name := filepath.Base(file)
	r := &Restored{Site: s, Archive: &catalog.Held{Record: &archive.Record{Site: s.Name, Name: name, Taken: a.Now()}}}
	run := history.Run{Site: s.Name, Command: "restore", Archive: file, Detail: onlyShare}
	err = a.work(ctx, &run, func(ctx context.Context, _ *history.Run) (err error) {
		r.Result, err = restore.RunSQL(ctx, restore.SQLJob{Site: s, Label: s.Databases[0].Label, Name: name, Dumped: dumped, Anyway: anyway, Text: text, State: a.State, Open: a.openTarget, Now: a.Now, Observer: watch})
		return err
	})
	if err != nil {
		return nil, err
	}
	r.Answers = a.checkRestored(ctx, s)
	return r, nil
}
