package jobs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/portable"
	"revlet/internal/config"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/sitepath"
	"revlet/internal/store"
	"revlet/internal/store/folder"
	"revlet/internal/watch/history"
	"revlet/internal/work/backup"
)

// unpack unpacks files into a scratch folder, which done removes.
func (a *Agent) unpack(ctx context.Context, files []string, what string) (*portable.Opened, func(), error) {
	scratch, err := a.State.Spool(what)
	if err != nil {
		return nil, nil, err
	}
	done := func() { _ = a.Disk.RemoveAll(scratch) }
	inner := filepath.Join(scratch, "unpacked")
	if err := a.Disk.Mkdir(inner, 0o700); err != nil {
		done()
		return nil, nil, err
	}
	opened, err := portable.Open(ctx, a.Disk, files, inner)
	if err != nil {
		done()
		return nil, nil, err
	}
	return opened, done, nil
}

// ImportOrder says what to take in.
type ImportOrder struct {
	// Files are a portable file or its pieces, or a copy made by hand: a file archive
	// and an SQL file.
	Files []string
	// Site is what a copy made by hand is of, Note why it was made.
	Site, Note string
	// Store is where a site that is not configured yet has its archives: a store's
	// name, or a folder.
	Store    string
	Observer progress.Observer
}

// Import makes an archive of a portable file, or of a copy made by hand.
func (a *Agent) Import(ctx context.Context, o ImportOrder) (*Delivered, error) {
	opened, done, err := a.unpack(ctx, o.Files, "import")
	if err != nil {
		return nil, err
	}
	defer done()
	name := o.Site
	if opened.Record != nil {
		name = opened.Record.Site
	}
	if name == "" {
		return nil, reason.Because(reason.SiteUnnamed, nil, reason.BadUsage("this is no portable file of Revlet's"))
	}
	if err := a.siteToImport(o.Store, name, opened); err != nil {
		return nil, err
	}
	cfg, err := a.SiteConfig(name)
	if err != nil {
		return nil, err
	}
	to, err := a.recipients()
	if err != nil {
		return nil, err
	}
	var d *Delivered
	run := history.Run{Site: name, Command: "import"}
	err = a.work(ctx, &run, func(ctx context.Context, run *history.Run) error {
		key, err := a.sign(ctx, name)
		if err != nil {
			return err
		}
		r, err := a.takeIn(ctx, opened, name, cfg, backup.Job{Stores: a.Stores(cfg), Note: o.Note, Observer: o.Observer, To: to.all, RecipientNames: to.names, KeyFile: to.locked, Key: key})
		if err != nil {
			return err
		}
		d = a.delivered(ctx, r)
		run.Archive, run.Bytes, run.NewBytes, run.Gaps, run.Stores = r.Record.Name, r.Record.Totals.StoredBytes, r.Record.Totals.NewBytes, len(r.Record.Gaps), d.Stores
		return a.knowArchive(ctx, archiveLine(r.Record), d.Stores)
	})
	return d, err
}

// siteToImport makes sure that the site is in the configuration: one that is
// not is described by its archive.
func (a *Agent) siteToImport(store, name string, opened *portable.Opened) error {
	if _, ok := a.Config.Sites[name]; ok {
		return nil
	}
	if opened.Record == nil {
		_, err := a.SiteConfig(name)
		return err
	}
	found := &Adopted{}
	stores, err := a.chooseStore(store, found, opened.Record.Origin.Roots[site.RootLabel])
	if err != nil {
		return err
	}
	if store == "" && stores != nil {
		return reason.Because(reason.SeveralStores, nil, reason.BadUsage("site %s is not in %s, and nobody said where its archives are to be", name, a.Config.Path))
	}
	f, err := a.describeFound(name, &catalog.Listing{Archives: []catalog.Held{{Record: opened.Record}}})
	if err != nil {
		return err
	}
	if f.Refused != "" {
		return reason.BadUsage("the archive would have site %s at %s, where no site can be", name, f.Refused)
	}
	for _, s := range stores {
		if err := a.Disk.MkdirAll(s.Folder, 0o700); err != nil {
			return fmt.Errorf("make the store folder: %w", err)
		}
	}
	f.Entry.Stores = []string{found.Store}
	if err := a.noteUnconfirmed(map[string]config.Site{name: f.Entry}); err != nil {
		return err
	}
	added, err := config.Add(a.Disk, a.Config.Path, stores, map[string]config.Site{name: f.Entry})
	if err != nil {
		return err
	}
	a.Tell(SiteDescribed{name, a.Config.Path, added})
	a.Config, err = config.Load(a.Config.Path)
	return err
}

// takeIn makes an archive of what was unpacked, in the stores and for the
// recipients of job.
func (a *Agent) takeIn(ctx context.Context, opened *portable.Opened, name string, cfg config.Site, job backup.Job) (*backup.Result, error) {
	job.State, job.Scope, job.Program, job.Now, job.Records = a.State, archive.Full, a.Program, a.Now, &a.records
	if rec := opened.Record; rec != nil {
		job.Site, job.Scope = &site.Site{Name: name, Root: cfg.Root}, rec.Scope
		job.Imported = &backup.Imported{Record: rec, List: opened.List, File: opened.File, Database: opened.Database}
		return backup.Run(ctx, job)
	}
	var err error
	if job.Site, job.HandMade, err = handMade(opened, name, cfg); err != nil {
		return nil, err
	}
	if job.Scope = archive.FullByHand; opened.SQL == "" {
		job.Scope = archive.FilesByHand
	}
	job.Note = cmp.Or(job.Note, "made by hand, imported")
	return backup.Run(ctx, job)
}

// handMade describes a copy that was made by hand: a site whose webroot is
// where the copy was unpacked.
func handMade(opened *portable.Opened, name string, cfg config.Site) (*site.Site, *backup.HandMade, error) {
	here := cfg
	here.Root, here.Roots = opened.Root, nil
	s, err := site.Open(name, here)
	if err != nil {
		return nil, nil, err
	}
	if cfg.Recipe != "none" && s.Recipe == nil {
		return nil, nil, reason.BadUsage("no known CMS is in the file archive (its top holds: %s); is it the webroot of %s? `recipe: none` in the configuration takes anything", strings.Join(topOf(opened.Root), ", "), name)
	}
	h := &backup.HandMade{Taken: opened.Made.UTC().Truncate(time.Second), Root: strings.TrimPrefix(cfg.Root, cfg.Base()), Place: cfg.Base(), Own: ownerOf(cfg), SQL: opened.SQL}
	if opened.SQL == "" {
		return s, h, nil
	}
	if len(s.Databases) != 1 {
		return nil, nil, reason.BadUsage("the SQL file could be of any of %d databases of %s; one is wanted", len(s.Databases), name)
	}
	db := s.Databases[0]
	if db.Engine == "sqlite" {
		return nil, nil, reason.BadUsage("the site's database is an SQLite file inside its webroot; it needs no SQL file")
	}
	h.Label = db.Label
	h.Origin = archive.DBOrigin{Engine: db.Engine, Name: db.Name, Where: db.Where(), Prefix: db.Prefix, Consistency: "as another program has written it"}
	return s, h, nil
}

func topOf(dir string) []string {
	entries, _ := os.ReadDir(dir) // only for an error's text
	var names []string
	for i, e := range entries {
		if i == 8 {
			return append(names, "…")
		}
		names = append(names, strconv.Quote(e.Name()))
	}
	return names
}

// ownerOf gives entries the owner of a live site's files, if there are any: a copy that
// went through an admin page has lost them. It is the account that most of what lies in
// the webroot belongs to, for the folder itself may be the administrator's; where there
// is nothing, that of the folder, or of the nearest one above.
func ownerOf(cfg config.Site) func(*archive.Entry) {
	root := cfg.Root
	if cfg.Far() {
		return nil // whoever uploads them
	}
	owner := func(info fs.FileInfo) (id [2]int, ok bool) {
		a, ok := disk.AttributesOf(info)
		return [2]int{a.UID, a.GID}, ok
	}
	counts := map[[2]int]int{}
	inside, _ := os.ReadDir(root) // without one, the folder tells
	for _, e := range inside {
		if info, err := e.Info(); err == nil {
			if id, ok := owner(info); ok {
				counts[id]++
			}
		}
	}
	var best [2]int
	for id, n := range counts {
		if n > counts[best] || n == counts[best] && id[0] > best[0] {
			best = id
		}
	}
	for at := root; len(counts) == 0; at = sitepath.Dir(at) {
		info, statErr := os.Stat(at)
		if statErr == nil {
			if id, ok := owner(info); ok {
				best, counts[id] = id, 1
			}
		}
		if at == sitepath.Dir(at) {
			break
		}
	}
	if len(counts) == 0 {
		return nil
	}
	return func(e *archive.Entry) { e.UID, e.GID, e.User, e.Group = int(best[0]), int(best[1]), "", "" }
}

// IsFile tells whether what was typed for an ARCHIVE is a portable file.
func IsFile(typed string) bool {
	if !portable.IsPortable(typed) {
		return false
	}
	if _, err := os.Stat(typed); errors.Is(err, fs.ErrNotExist) {
		_, err = os.Stat(typed + ".001")
		return err == nil
	}
	return true
}

// ArchiveInFile makes an archive of a portable file in a passing store, to restore
// from; done removes it. It is not encrypted, for it is not left anywhere.
func (a *Agent) ArchiveInFile(ctx context.Context, file string, watch progress.Observer) (h *catalog.Held, done func(), err error) {
	opened, done, err := a.unpack(ctx, []string{file}, "restore-file")
	if err != nil {
		return nil, nil, err
	}
	if h, err = a.passing(ctx, opened, watch); err != nil {
		done()
		return nil, nil, fmt.Errorf("%s: %w", file, err)
	}
	return h, done, nil
}

func (a *Agent) passing(ctx context.Context, opened *portable.Opened, watch progress.Observer) (*catalog.Held, error) {
	if opened.Record == nil {
		return nil, reason.Because(reason.NotPortable, nil, reason.BadUsage("it is no portable file of Revlet's"))
	}
	name := opened.Record.Site
	cfg, ok := a.Config.Sites[name]
	if !ok {
		return nil, reason.Because(reason.SiteNotConfigured, nil, reason.BadUsage("site %s is not in %s", name, a.Config.Path))
	}
	dir := filepath.Join(filepath.Dir(opened.Dir), "store")
	if err := a.Disk.Mkdir(dir, 0o700); err != nil {
		return nil, err
	}
	s := store.Named{Name: "file", Store: folder.New(a.Disk, dir)}
	r, err := a.takeIn(ctx, opened, name, cfg, backup.Job{Stores: []store.Named{s}, Observer: watch})
	if err != nil {
		return nil, err
	}
	return &catalog.Held{Record: r.Record, Stores: []store.Named{s}}, nil
}
