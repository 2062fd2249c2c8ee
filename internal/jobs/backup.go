package jobs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"time"

	"github.com/dustin/go-humanize/english"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/storelock"
	"revlet/internal/config"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/site/engine"
	"revlet/internal/site/tree"
	"revlet/internal/store"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
	"revlet/internal/work/backup"
	"revlet/internal/work/replicate"
)

// Order is what to back up and on whose behalf.
type Order struct {
	Scope archive.Scope
	Note  string
	// Fresh reads everything, even what the last archive holds unchanged.
	Fresh bool
	// Hold exempts the archive from the keep rules.
	Hold bool
	// Origin is who asks, the agent's Person if empty; Duty the duty that it is for.
	Origin, Duty string
	Observer     progress.Observer
	// Estimate looks first about how much there is to read, for a progress bar.
	Estimate bool
}

// Delivered is what came of an order.
type Delivered struct {
	*backup.Result
	// Stores are those that the archive has come to.
	Stores []string
	// Onsite tells that every store is on this machine, KeyUntried that the archive
	// is encrypted for a key that was never seen to open one.
	Onsite, KeyUntried bool
	// Alarms are what is unusual about the archive.
	Alarms []history.Finding
	// Removed is what the keep rules have removed after it.
	Removed []StoreRetention
	// AfterFailed is why the site's own command after it has failed.
	AfterFailed error
	// Run is the number of the run in the history.
	Run int64
}

// Incomplete tells that something was not saved, or not everywhere.
func (d *Delivered) Incomplete() bool {
	return len(d.Record.Gaps) > 0 || len(d.Pending) > 0 || d.AfterFailed != nil
}

// Backup takes an archive of one site and does what follows from that: it sends
// what was pending, remembers the archive, looks for alarms, applies the keep
// rules. Whatever fails after the archive is whole is told and spoils nothing.
func (a *Agent) Backup(ctx context.Context, name string, o Order) (*Delivered, error) {
	cfg, err := a.SiteConfig(name)
	if err != nil {
		return nil, err
	}
	run := history.Run{Site: name, Command: "backup", Origin: o.Origin, Duty: o.Duty}
	var d *Delivered
	err = a.work(ctx, &run, func(ctx context.Context, run *history.Run) error {
		said, err := a.command(ctx, "before", name, run)
		if err != nil {
			run.Log = said
			return fmt.Errorf("no archive was taken: %w", err)
		}
		r, err := a.take(ctx, name, cfg, o)
		if err != nil {
			return err
		}
		d = a.delivered(ctx, r)
		if err := a.follow(ctx, cfg, o, d, run); err != nil {
			a.warnf("the archive %s is sound, but: %w", r.Record.Name, err)
		}
		a.noteHealthy(ctx, name)
		run.Archive = r.Record.Name
		also, err := a.command(ctx, "after", name, run)
		if err != nil {
			a.warnf("the archive %s is sound, but: %w", r.Record.Name, err)
			d.AfterFailed = err
			if run.Outcome == history.Done {
				run.Outcome, run.Detail = history.Gaps, reason.Text(err)
			}
		}
		run.Log = said + a.Words(d) + also
		return nil
	})
	if d != nil {
		d.Run = run.ID
	}
	return d, err
}

// delivered begins what is told of a new archive.
func (a *Agent) delivered(ctx context.Context, r *backup.Result) *Delivered {
	d := &Delivered{Result: r, Stores: a.arrivedIn(r), Onsite: a.Onsite(r.Record.Site)}
	untried, err := a.untriedKey(ctx)
	if err != nil {
		a.warn(err)
	}
	d.KeyUntried = untried
	return d
}

// arrivedIn names the stores that an archive has come to.
func (a *Agent) arrivedIn(r *backup.Result) []string {
	return slices.DeleteFunc(slices.Clone(a.Config.Sites[r.Record.Site].Stores), func(name string) bool {
		return slices.ContainsFunc(r.Pending, func(p backup.Pending) bool { return p.Store == name })
	})
}

// Onsite tells whether every copy of a configured site is on the site's own machine.
func (a *Agent) Onsite(site string) bool {
	cfg, ok := a.Config.Sites[site]
	return ok && !slices.ContainsFunc(cfg.Stores, func(store string) bool { return a.offsite(cfg, store) })
}

// offsite tells whether a store is on another machine than a site.
func (a *Agent) offsite(cfg config.Site, store string) bool {
	if !cfg.Far() {
		return a.Store(store).Offsite()
	}
	there, err := cfg.Login().URL()
	if err != nil {
		return false
	}
	c := a.Config.Stores[store]
	if c.Kind() == "folder" {
		return !config.OnThisMachine(there.Hostname())
	}
	u, err := c.URL()
	return err == nil && u.Hostname() != there.Hostname()
}

// aheadOfAll is how many bytes of small files far away are held that were read ahead, of all
// sites that are saved side by side.
const aheadOfAll = 24 << 20

// take makes the archive.
func (a *Agent) take(ctx context.Context, name string, cfg config.Site, o Order) (*backup.Result, error) {
	s, err := a.openSite(ctx, name, cfg)
	if err != nil {
		return nil, a.halfRestored(name, err)
	}
	if o.Scope.HasDatabase() {
		if err := a.confirmDatabases(name, s, cfg); err != nil {
			return nil, err
		}
	}
	to, err := a.recipients()
	if err != nil {
		return nil, err
	}
	down, err := a.catchUp(ctx, name, o.Observer)
	if err != nil {
		return nil, err
	}
	key, err := a.sign(ctx, name)
	if err != nil {
		return nil, err
	}
	damaged := map[string]map[string]bool{}
	for _, store := range cfg.Stores {
		if damaged[store], err = a.History.DamagedIn(ctx, store); err != nil {
			return nil, err
		}
	}
	var expected int64
	if o.Estimate {
		expected = a.expected(ctx, s, o.Scope)
	}
	// Sites side by side share the memory that one has by itself.
	workers, ahead := 0, int64(0)
	if n := a.together.Load(); s.Far() && n > 1 {
		workers, ahead = 1, aheadOfAll/n
	}
	r, err := backup.Run(ctx, backup.Job{Workers: workers, Ahead: ahead, Site: s, Stores: a.Stores(cfg), State: a.State, Scope: o.Scope, Note: o.Note,
		Program: a.Program, Open: a.openSource, Observer: o.Observer, Now: a.Now, Expected: expected, IsDatabase: engine.IsFile,
		CopyDatabase: func(ctx context.Context, in tree.Folder, name, scratch string) (string, error) {
			return engine.CopyFile(ctx, a.Disk, in, name, scratch)
		},
		Fresh: o.Fresh, FreshEvery: cfg.FreshEvery, To: to.all, RecipientNames: to.names, KeyFile: to.locked, Key: key, Down: down, Damaged: damaged, Others: a.otherSites(name), Restored: a.restoredSince(ctx, name), Records: &a.records})
	if err == nil && o.Scope.HasDatabase() {
		if err := a.databasesRead(name, s, cfg); err != nil {
			a.warn(err)
		}
	}
	if err == nil && o.Scope.HasFiles() {
		if err := a.remark(a.State.Outside(name), backup.LeadsOut(r.Record.Origin)); err != nil {
			a.warn(err)
		}
	}
	return r, err
}

// restoredSince is the archive that a site was put back from since its last archive was
// taken, or nil: also where that cannot be told, for it only spares a false alarm.
func (a *Agent) restoredSince(ctx context.Context, name string) *catalog.Held {
	restores, err := a.History.Runs(ctx, history.RunFilter{Site: name, Command: "restore", Outcome: history.Done, Most: 1})
	if err != nil || len(restores) == 0 {
		return nil
	}
	archives, err := a.History.Archives(ctx, name)
	if err != nil || slices.ContainsFunc(archives, func(h history.Archive) bool {
		return h.Scope != string(archive.Database) && h.Taken.After(restores[0].Started)
	}) {
		return nil
	}
	h, err := a.Find(ctx, restores[0].Archive, time.Time{})
	if err != nil || restores[0].Detail == onlyShare || !h.Scope.HasFiles() {
		return nil
	}
	return h
}

// expected is about how much a backup will read, in bytes: as much as the last
// archive held, or what a first look at the webroot finds.
func (a *Agent) expected(ctx context.Context, s *site.Site, scope archive.Scope) int64 {
	if l, err := a.List(ctx, s.Name); err == nil {
		for _, h := range l.Archives {
			if h.Scope == scope {
				return h.Totals.FileBytes + h.Totals.DatabaseBytes
			}
		}
	}
	var total int64
	if s.Far() {
		return 0 // a walk there takes as long as the backup's own
	}
	for _, dir := range s.Folders() {
		_ = filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				if info, err := d.Info(); err == nil {
					total += info.Size()
				}
			}
			return ctx.Err()
		})
	}
	return total
}

// follow notes a new archive in the history, looks for what is unusual about it,
// and applies the keep rules. Each step is tried, whatever became of the others.
func (a *Agent) follow(ctx context.Context, cfg config.Site, o Order, d *Delivered, run *history.Run) error {
	rec := d.Record
	var failed error
	for store, objects := range d.Mended {
		for _, object := range objects {
			failed = errors.Join(failed, a.History.Mended(ctx, store, object))
		}
	}
	for _, store := range slices.Sorted(maps.Keys(d.Vanished)) {
		gone := reason.New(reason.PartsVanished, reason.Names{"site": rec.Site, "store": store}, "store %s had lost %s of the archive before, such as %s: what of that is the site's still was sent again, and older archives may lack the rest",
			store, english.Plural(len(d.Vanished[store]), "part", "parts"), d.Vanished[store][0])
		a.warn(gone)
		run.Detail += gone.Error() + "\n"
	}
	run.Archive, run.Bytes, run.NewBytes, run.Gaps, run.Stores = rec.Name, rec.Totals.StoredBytes, rec.Totals.NewBytes, len(rec.Gaps), d.Stores
	for _, p := range d.Pending {
		run.Outcome, run.Detail = history.Waiting, run.Detail+fmt.Sprintf("store %s: %v\n", p.Store, p.Err)
		failed = errors.Join(failed, a.History.AddPending(ctx, history.Pending{Site: rec.Site, Archive: rec.Name, Store: p.Store, Since: a.Now(), Why: p.Err.Error()}))
	}
	if len(rec.Gaps) > 0 {
		run.Outcome = history.Gaps
	}
	failed = errors.Join(failed, a.lookAtArchive(ctx, d))
	if o.Hold {
		left, err := a.hold(ctx, rec.Site, rec.Name, o.Note)
		failed = errors.Join(failed, err)
		for _, one := range left {
			a.warnf("store %s does not know of the hold on %s: %w", one.Store, rec.Name, one.Err)
		}
	}
	var err error
	if a.hasRules(cfg) {
		d.Removed, err = a.retain(ctx, rec.Site, "", true)
	} else {
		_, err = a.List(ctx, rec.Site) // it notices what has vanished
	}
	failed = errors.Join(failed, err)
	return failed
}

// lookAtArchive remembers a new archive and raises the alarms about it.
func (a *Agent) lookAtArchive(ctx context.Context, d *Delivered) error {
	before, err := a.History.Archives(ctx, d.Record.Site)
	if err != nil {
		return err
	}
	if err := a.noteDumps(d.Record); err != nil {
		return err
	}
	line := archiveLine(d.Record)
	line.Changes = d.Changes
	if err := a.knowArchive(ctx, line, d.Stores); err != nil {
		return err
	}
	d.Alarms = alarm.OfArchive(line, before)
	return a.History.Raise(ctx, d.Record.Site, d.Alarms, a.Now())
}

// catchUp brings archives that are pending into their stores. A store in which
// that fails is returned with the reason: there is no use in trying it again.
func (a *Agent) catchUp(ctx context.Context, site string, watch progress.Observer) (map[string]error, error) {
	pending, err := a.History.Pending(ctx, site)
	if err != nil || len(pending) == 0 {
		return nil, err
	}
	listing, err := a.List(ctx, site)
	if err != nil {
		return nil, nil // the backup itself finds out which stores are down
	}
	down := map[string]error{}
	for _, p := range pending {
		h, err := listing.Pick(site, p.Archive, time.Time{})
		wanted := slices.Contains(a.Config.Sites[site].Stores, p.Store)
		if wanted && err != nil && len(listing.Silent)+len(listing.Broken) > 0 {
			continue // it may be where nobody answers just now
		}
		if err != nil || !wanted {
			if err := a.History.Arrived(ctx, p.Archive, p.Store); err != nil { // gone, or not wanted there any more
				return nil, err
			}
			continue
		}
		if down[p.Store] != nil {
			continue
		}
		if _, err := a.copyTo(ctx, h, p.Store, watch); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			down[p.Store] = err
		}
	}
	return down, nil
}

// copyTo brings one archive into a store.
func (a *Agent) copyTo(ctx context.Context, h *catalog.Held, to string, watch progress.Observer) (replicate.Result, error) {
	scratch, err := a.State.Spool(h.Site + ".copy")
	if err != nil {
		return replicate.Result{}, err
	}
	defer func() { _ = a.Disk.RemoveAll(scratch) }()
	target := a.Store(to)
	if err := target.Check(ctx); err != nil {
		return replicate.Result{}, err
	}
	from := slices.DeleteFunc(slices.Clone(h.Stores), func(s store.Named) bool { return s.Name == to })
	job := replicate.Job{Machine: storelock.Machine(a.State.Dir), Site: h.Site, To: target, From: from, Disk: a.Disk, Scratch: scratch, Observer: watch}
	result, err := job.Archive(ctx, h)
	if err == nil {
		err = a.History.Arrived(ctx, h.Name, to)
	}
	return result, err
}
