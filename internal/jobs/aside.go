package jobs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"revlet/internal/archives/catalog"
	"revlet/internal/database"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/engine"
	"revlet/internal/site/sitepath"
	"revlet/internal/site/tree"
	"revlet/internal/watch/history"
	"revlet/internal/work/compare"
	"revlet/internal/work/restore"
)

// AsideLine is one aside of a site.
type AsideLine struct {
	Site     string    `json:"site"`
	Archive  string    `json:"archive"`
	Restored time.Time `json:"restored"`
	Places   []string  `json:"places"`
	Files    int64     `json:"files"`
	Bytes    int64     `json:"bytes"`
	// Unknown says why Files and Bytes cannot be told, such as of a machine that is not
	// reached, or that not all of it is there any more.
	Unknown string `json:"unknown,omitempty"`
}

// machine is the one that the files of a restore are on.
func (a *Agent) machine(j *restore.Journal) (tree.Place, error) {
	if j.On() == "" {
		return tree.Local(a.Disk), nil
	}
	return a.placeOn(j.On())
}

// opened are folders of a restore, open for reading, by label.
type opened map[string]tree.Folder

// openFolders opens some of the folders of a restore; one that is gone is left out.
func (a *Agent) openFolders(ctx context.Context, j *restore.Journal, folders map[string]string) (opened, error) {
	place, err := a.machine(j)
	if err != nil {
		return nil, err
	}
	all := opened{}
	for label, dir := range folders {
		in, err := tree.Surveyed(ctx, place, j.Path(dir))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, errors.Join(err, all.Close())
		}
		all[label] = in
	}
	return all, nil
}

// Close closes them.
func (o opened) Close() (err error) {
	for _, in := range o {
		err = errors.Join(err, in.Close())
	}
	return err
}

// each visits every file in them by label and path, folders left out.
func (o opened) each(ctx context.Context, visit func(label, rel string, info fs.FileInfo) error) error {
	for label, in := range o {
		err := tree.Walk(ctx, in, ".", func(rel string, info fs.FileInfo, err error) error {
			if err != nil || info.IsDir() {
				return err
			}
			return visit(label, rel, info)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// measure counts what is set aside.
func (a *Agent) measure(ctx context.Context, aside *restore.Aside, l *AsideLine) error {
	in, err := a.openFolders(ctx, aside.Journal, aside.Folders)
	if err != nil {
		return err
	}
	defer in.Close()
	return in.each(ctx, func(_, _ string, info fs.FileInfo) error {
		if info.Mode().IsRegular() {
			l.Files++
			l.Bytes += info.Size()
		}
		return nil
	})
}

// newestAside is what the last restore of a site has set aside.
func (a *Agent) newestAside(ctx context.Context, name string) (*restore.Aside, error) {
	if _, err := a.SiteConfig(name); err != nil {
		return nil, err
	}
	a.lookForRestores(ctx, name)
	all, err := restore.Asides(a.State, name)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, reason.BadUsage("nothing is set aside for %s", name)
	}
	return &all[0], nil
}

// compareAside tells how the files that are set aside differ from an archive; touched is
// as compare.Job.ReadTouched.
func (a *Agent) compareAside(ctx context.Context, h *catalog.Held, aside *restore.Aside, touched bool) (*compare.Report, error) {
	recipe, err := a.recipeOf(h)
	if err != nil {
		return nil, err
	}
	was := &site.Site{Name: aside.Site, Root: aside.Folders[site.RootLabel], Recipe: recipe, Skip: h.Origin.Skipped, Roots: map[string]string{}}
	if aside.On() != "" {
		if was.Place, err = a.placeOn(aside.On()); err != nil {
			return nil, err
		}
	}
	maps.Copy(was.Roots, aside.Folders)
	delete(was.Roots, site.RootLabel)
	for label, o := range h.Origin.Databases {
		for folder, dir := range aside.Folders {
			if rel, err := sitepath.Rel(h.Origin.Roots[folder], o.Where); o.Engine == "sqlite" && err == nil && sitepath.IsLocal(rel) {
				was.Databases = append(was.Databases, site.Database{Label: label, Engine: o.Engine, Path: dir + "/" + rel})
			}
		}
	}
	r, err := compare.Job{A: compare.Archive{Held: h}, B: &compare.Live{Site: was, Disk: a.Disk, IsDatabase: engine.IsFile}, Recipe: recipe, Files: true, ReadTouched: touched}.Run(ctx)
	if err != nil {
		return nil, err
	}
	r.Files = slices.DeleteFunc(r.Files, func(f compare.File) bool { return strings.HasPrefix(f.Path, site.AboveLabel) })
	return r, nil
}

// strangers are the files that a whole restore has taken out of the webroot,
// because the archive does not have them, or not so. That they cannot be told is no reason
// to call the restore failed.
func (a *Agent) strangers(ctx context.Context, h *catalog.Held, r *restore.Result) []compare.File {
	aside := restore.Aside{Journal: r.Journal, Folders: r.Journal.AsideFolders()}
	if _, ok := aside.Folders[site.RootLabel]; !ok || r.Journal.Partial {
		return nil
	}
	report, err := a.compareAside(ctx, h, &aside, false)
	if err != nil {
		a.warnf("what was taken out of the webroot cannot be told: %w", err)
		return nil
	}
	return slices.DeleteFunc(report.Files, func(f compare.File) bool { return f.How == compare.Removed || f.How == compare.Rights || f.Folder() })
}

// siteForAside opens the site; when its webroot is broken, its settings are
// read from the archive that was restored.
func (a *Agent) siteForAside(ctx context.Context, name string, j *restore.Journal) (*site.Site, error) {
	s, err := a.openSite(ctx, name, a.Config.Sites[name])
	if err == nil && (len(s.Databases) > 0 || len(j.Databases) == 0) {
		return s, nil
	}
	h, second := a.Find(ctx, j.Archive, time.Time{})
	if second != nil {
		return s, errors.Join(err, second)
	}
	return a.openForRestore(ctx, h)
}

// Asides lists what restores of sites have set aside, newest first.
func (a *Agent) Asides(ctx context.Context, names []string) ([]AsideLine, error) {
	all := []AsideLine{}
	for _, name := range names {
		a.lookForRestores(ctx, name)
		asides, err := restore.Asides(a.State, name)
		if err != nil {
			return nil, err
		}
		for _, one := range asides {
			l := AsideLine{Site: name, Archive: one.Archive, Restored: one.Started, Places: nonNil(one.AsidePlaces())}
			if err := a.measure(ctx, &one, &l); err != nil && one.On() != "" && ctx.Err() == nil {
				l.Files, l.Bytes, l.Unknown = 0, 0, err.Error()
			} else if err != nil {
				return nil, err
			}
			if err := a.CheckUndo(ctx, one.Journal); reason.Is(err, reason.AsideGone) {
				l.Files, l.Bytes, l.Unknown = 0, 0, err.Error()
			}
			all = append(all, l)
		}
	}
	return all, nil
}

// AsideReport is how the newest aside differs from the archive that was restored.
type AsideReport struct {
	Archive *catalog.Held
	Root    string
	Report  *compare.Report
	// Tables are set aside in database servers.
	Tables []string
}

// CompareAside tells how the newest aside of a site differs from the archive that
// was restored.
func (a *Agent) CompareAside(ctx context.Context, name string) (*AsideReport, error) {
	aside, err := a.newestAside(ctx, name)
	if err != nil {
		return nil, err
	}
	h, err := a.FindOpen(ctx, aside.Archive, time.Time{}, Need{})
	if err != nil {
		return nil, err
	}
	root, ok := aside.Folders[site.RootLabel]
	if !ok {
		return nil, reason.BadUsage("no files are set aside for %s, only %s", name, strings.Join(aside.AsidePlaces(), ", "))
	}
	r, err := a.compareAside(ctx, h, aside, false)
	return &AsideReport{h, root, r, aside.Tables}, err
}

// ExportAside packs the newest aside of a site, files and tables, into a new
// .tar.zst file that only its owner may read.
func (a *Agent) ExportAside(ctx context.Context, name, file string) error {
	aside, err := a.newestAside(ctx, name)
	if err != nil {
		return err
	}
	s, err := a.siteForAside(ctx, aside.Site, aside.Journal)
	if err != nil {
		return err
	}
	f, err := a.Disk.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return reason.BadUsage("%s is there already; choose another name", file)
	}
	if err != nil {
		return err
	}
	pack, err := zstd.NewWriter(f)
	if err == nil {
		err = errors.Join(a.recoverer(s).ExportAside(ctx, aside, pack), pack.Close())
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, a.Disk.Remove(file))
	}
	return nil
}

// ToTakeBack are the restores of a site that have something set aside, newest
// first.
func (a *Agent) ToTakeBack(ctx context.Context, name string) ([]*restore.Journal, error) {
	a.lookForRestores(ctx, name)
	journals, err := restore.Journals(a.State, name)
	if err == nil && len(journals) == 0 {
		if _, unknown := a.SiteConfig(name); unknown != nil {
			return nil, unknown
		}
		err = fmt.Errorf("site %s: %w", name, restore.ErrNothingAside)
	}
	return journals, err
}

// lookForRestores takes over what other computers have restored of a site that lives
// elsewhere, unless another run is at work on it. That it cannot be told is said.
func (a *Agent) lookForRestores(ctx context.Context, name string) {
	if !a.Config.Sites[name].Far() {
		return
	}
	unlock, err := a.State.Lock(name)
	if err != nil {
		return
	}
	defer unlock()
	if err := a.importJournals(ctx, name); err != nil {
		a.warn(err)
	}
}

// WrittenSince is what undo of a whole restore deletes beside what was restored: files
// that are not as the archive has them, and tables that it does not have in a database
// that is a file. Of a share, and in database servers, what was made since stays.
type WrittenSince struct {
	Files  []compare.File `json:"files"`
	Tables []ExtraTable   `json:"tables"`
	// Unknown says why it cannot be told.
	Unknown string `json:"unknown,omitempty"`
	// Elsewhere says that another folder serves the site now than the one that undo takes back, as by a link that
	// was changed since.
	Elsewhere string `json:"elsewhere,omitempty"`
}

// Empty tells that nothing of the kind is known.
func (w *WrittenSince) Empty() bool { return len(w.Files)+len(w.Tables) == 0 && w.Unknown == "" }

// WrittenSince looks for what was written to a site since a restore. That it cannot be
// told stops nobody: Unknown then says why.
func (a *Agent) WrittenSince(ctx context.Context, j *restore.Journal) *WrittenSince {
	w := &WrittenSince{Files: []compare.File{}, Tables: []ExtraTable{}, Elsewhere: j.Elsewhere()}
	whole := j.Files != nil && !j.Partial
	if !whole && !slices.ContainsFunc(j.Databases, wholeFile) {
		return w
	}
	var databases []site.Database
	for _, p := range j.Databases {
		if wholeFile(p) {
			databases = append(databases, j.Access[p.Label])
		}
	}
	h, err := a.FindOpen(ctx, j.Archive, time.Time{}, Need{})
	if err == nil && whole {
		var inside []site.Database
		w.Files, inside, err = a.filesSince(ctx, h, j)
		databases = append(databases, inside...)
	}
	for _, db := range databases {
		if err != nil || h.HasDump(db.Label) {
			break
		}
		var live []database.TableInfo
		live, err = a.tablesIn(ctx, db)
		for _, t := range live {
			if !h.Knows(db.Label, t.Name) {
				w.Tables = append(w.Tables, ExtraTable{db.Label, t.Name, t.Bytes})
			}
		}
	}
	if err != nil {
		w.Unknown = err.Error()
	}
	return w
}

// wholeFile tells whether a database is a file that changed places as a whole.
func wholeFile(p *database.Plan) bool { return p.Engine == "sqlite" && p.Rows == nil }

// filesSince are the live files that an archive does not have, or not so; inside are the
// databases in the webroot that changed places with it.
func (a *Agent) filesSince(ctx context.Context, h *catalog.Held, j *restore.Journal) (files []compare.File, inside []site.Database, err error) {
	live, err := a.liveSide(ctx, h.Site)
	if err != nil {
		return nil, nil, err
	}
	if j.Elsewhere() != "" {
		was := *live.Site
		was.Root, was.Databases = j.Files.Root, slices.Clone(was.Databases)
		for i, db := range was.Databases {
			if rel, inside := live.Site.Inside(db); inside {
				was.Databases[i].Path = was.PathIn(site.RootLabel, rel)
			}
		}
		live.Site = &was
	}
	for _, db := range live.Site.Databases {
		if label, rel, ok := live.Site.LiesIn(db); ok && j.Exchanged(label, rel) {
			inside = append(inside, db)
		}
	}
	r, err := compare.Job{A: compare.Archive{Held: h}, B: live, Recipe: live.Site.Recipe, Files: true}.Run(ctx)
	if err != nil {
		return nil, nil, err
	}
	return slices.DeleteFunc(r.Files, func(f compare.File) bool {
		return f.How == compare.Removed || f.How == compare.Rights || f.Folder() || j.Stays(f.Path)
	}), inside, nil
}

// siteIfKnown is the site of a restore as far as today's configuration and settings
// tell of it. What takes a restore back, or ends it, does not depend on them.
func (a *Agent) siteIfKnown(ctx context.Context, j *restore.Journal) *site.Site {
	if _, err := a.SiteConfig(j.Site); err == nil {
		if s, err := a.siteForAside(ctx, j.Site, j); err == nil {
			return s
		}
	}
	return &site.Site{Name: j.Site}
}

// Undo puts back what the restore set aside that newest names; if another restore
// was made since, nothing is done.
func (a *Agent) Undo(ctx context.Context, newest *restore.Journal) ([]restore.Outcome, error) {
	return a.onAside(ctx, newest, "undo", func(r restore.Recoverer) ([]restore.Outcome, error) {
		o, err := r.Undo(ctx)
		if err != nil {
			return nil, err
		}
		return []restore.Outcome{*o}, nil
	})
}

// Settle deletes for good what the restores of a site have set aside, the newest of
// which is given; if another restore was made since, nothing is done. Nor is it when no
// archive holds some of that, unless lose says that it may be lost.
func (a *Agent) Settle(ctx context.Context, newest *restore.Journal, lose bool) ([]restore.Outcome, error) {
	if !lose {
		u, err := a.Unsaved(ctx, newest.Site)
		if err != nil {
			return nil, err
		}
		if !u.Empty() {
			return nil, refuseUnsaved(newest.Site, u)
		}
	}
	return a.onAside(ctx, newest, "settle", func(r restore.Recoverer) ([]restore.Outcome, error) { return r.Settle(ctx) })
}

// CheckUndo refuses what Undo would refuse before it changes anything, such as that what restores of one site have set aside is
// gone.
func (a *Agent) CheckUndo(ctx context.Context, restores ...*restore.Journal) error {
	return a.checkAside(ctx, restores, restore.Recoverer.CheckUndo)
}

// CheckSettle is CheckUndo for Settle, but for what no archive holds, which Unsaved tells.
func (a *Agent) CheckSettle(ctx context.Context, restores ...*restore.Journal) error {
	return a.checkAside(ctx, restores, restore.Recoverer.CheckSettle)
}

func (a *Agent) checkAside(ctx context.Context, restores []*restore.Journal, check func(restore.Recoverer, context.Context, *restore.Journal) error) error {
	if len(restores) == 0 {
		return nil
	}
	unlock, err := a.State.Lock(restores[0].Site)
	if err != nil {
		return err
	}
	defer unlock()
	for _, j := range restores {
		if err := check(a.recoverer(a.siteIfKnown(ctx, j)), ctx, j); err != nil {
			return err
		}
	}
	return nil
}

// onAside runs undo or settle, which begin and end alike. An interrupted restore is
// theirs to end.
func (a *Agent) onAside(ctx context.Context, newest *restore.Journal, command string, do func(restore.Recoverer) ([]restore.Outcome, error)) (done []restore.Outcome, err error) {
	run := history.Run{Site: newest.Site, Command: command, Archive: newest.Archive}
	err = a.workUnder(ctx, newest.Site, &run, func(ctx context.Context, _ *history.Run) error {
		journals, err := restore.Journals(a.State, newest.Site)
		if err != nil {
			return err
		}
		if len(journals) == 0 || journals[0].ID != newest.ID {
			return fmt.Errorf("site %s: another run has changed what is set aside; nothing was done", newest.Site)
		}
		done, err = do(a.recoverer(a.siteIfKnown(ctx, newest)))
		return err
	})
	return done, err
}
