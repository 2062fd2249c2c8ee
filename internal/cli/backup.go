package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/urfave/cli/v3"

	"revlet/internal/alarm"
	"revlet/internal/archive"
	"revlet/internal/backup"
	"revlet/internal/catalog"
	"revlet/internal/changes"
	"revlet/internal/config"
	"revlet/internal/database/engine"
	"revlet/internal/history"
	"revlet/internal/marks"
	"revlet/internal/observe"
	"revlet/internal/replicate"
	"revlet/internal/restore"
	"revlet/internal/site"
	"revlet/internal/store"
)

func (a *app) backupCommand() *cli.Command {
	return &cli.Command{
		Name: "backup", Usage: "take an archive now", ArgsUsage: "[SITE…]",
		Description: "Without SITE, every configured site is backed up. An archive exists whole or not\n" +
			"at all. Files that did not change since the last one are not read again; their\n" +
			"parts are named again. Files that cannot be read are named, and a store that\n" +
			"cannot be reached is made up for by the next run: the exit code is then 3.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "scope", Value: "full", Usage: "the `SCOPE`: full, files or database"},
			&cli.StringFlag{Name: "note", Usage: "`TEXT` that says why, shown with the archive"},
			&cli.BoolFlag{Name: "hold", Usage: "exempt the archive from retention until 'revlet release'"},
			&cli.BoolFlag{Name: "fresh", Usage: "read everything, even what the last archive holds unchanged"},
			jsonFlag,
		},
		Action: a.backup,
	}
}

func (a *app) backup(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	scope, err := archive.ParseScope(c.String("scope"))
	if err != nil {
		return usageError("%w", err)
	}
	names, err := a.sitesNamed(c)
	if err != nil {
		return err
	}
	if len(names) == 0 {
		return usageError("no site is configured yet; `revlet adopt PATH` adds one")
	}
	var failed error
	var records []*archive.Record
	gaps := false
	for _, name := range names {
		d, err := a.backupSite(ctx, name, order{scope: scope, note: c.String("note"), fresh: c.Bool("fresh"), hold: c.Bool("hold"),
			quiet: c.Bool("quiet") || c.Bool("json"), origin: person()})
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		gaps = gaps || d.incomplete()
		records = append(records, d.Record)
		if !c.Bool("json") {
			a.showBackup(ctx, d)
		}
	}
	if c.Bool("json") {
		if err := a.printJSON(map[string]any{"archives": nonNil(records)}); err != nil {
			return err
		}
	}
	switch {
	case failed != nil:
		return failed
	case gaps:
		return &exitError{code: exitGaps}
	}
	return nil
}

// order is what to back up and on whose behalf.
type order struct {
	scope        archive.Scope
	note         string
	fresh, hold  bool
	quiet        bool
	origin, duty string
	at           time.Time
}

// delivered is what came of an order.
type delivered struct {
	*backup.Result
	// Alarms are what is unusual about the archive.
	Alarms []history.Finding
	// Removed is what the keep rules have removed after it.
	Removed []storeRetention
	// Run is the number of the run in the history.
	Run int64
}

// incomplete tells that something was not saved, or not everywhere.
func (d *delivered) incomplete() bool { return len(d.Record.Gaps) > 0 || len(d.Pending) > 0 }

// backupSite takes an archive of one site and does what follows from that.
func (a *app) backupSite(ctx context.Context, name string, o order) (*delivered, error) {
	cfg, err := a.siteConfig(name)
	if err != nil {
		return nil, err
	}
	unlock, err := a.state.Lock(name)
	if err != nil {
		return nil, err
	}
	defer unlock()
	o.at = a.now()
	r, err := a.take(ctx, name, cfg, o)
	if err != nil {
		run := history.Run{Site: name, Command: "backup", Started: o.at, Outcome: history.Failed, Detail: err.Error(), Origin: o.origin, Duty: o.duty}
		a.remember(ctx, run)
		return nil, err
	}
	d := &delivered{Result: r}
	if err := a.follow(ctx, cfg, o, d); err != nil {
		fmt.Fprintf(a.err, "warning: the archive %s is sound, but: %v\n", r.Record.Name, err)
	}
	return d, nil
}

// take makes the archive.
func (a *app) take(ctx context.Context, name string, cfg config.Site, o order) (*backup.Result, error) {
	s, err := site.Open(name, cfg)
	if err != nil {
		return nil, a.halfRestored(name, err)
	}
	if err := a.recover(ctx, s); err != nil {
		return nil, err
	}
	to, err := a.recipients()
	if err != nil {
		return nil, err
	}
	watch, done := a.observer(o.quiet)
	defer done()
	down, err := a.catchUp(ctx, name, watch)
	if err != nil {
		return nil, err
	}
	damaged := map[string]map[string]bool{}
	for _, store := range cfg.Stores {
		if damaged[store], err = a.history.DamagedIn(ctx, store); err != nil {
			return nil, err
		}
	}
	return backup.Run(ctx, backup.Job{Site: s, Stores: a.stores(cfg), State: a.state, Scope: o.scope, Note: o.note,
		Program: "revlet " + Version, Open: a.openSource, Observer: watch, Now: a.now, Expected: a.expected(ctx, s, o.scope), IsDatabase: engine.IsFile,
		CopyDatabase: func(ctx context.Context, file, scratch string) (string, error) {
			return engine.CopyFile(ctx, a.disk, file, scratch)
		},
		Fresh: o.fresh, FreshEvery: cfg.FreshEvery, To: to.all, RecipientNames: to.names, KeyFile: to.locked, Down: down, Damaged: damaged})
}

// follow remembers a new archive, looks for what is unusual about it, and
// applies the keep rules. Whatever fails here spoils no archive.
func (a *app) follow(ctx context.Context, cfg config.Site, o order, d *delivered) error {
	rec := d.Record
	for store, objects := range d.Mended {
		for _, object := range objects {
			if err := a.history.Mended(ctx, store, object); err != nil {
				return err
			}
		}
	}
	run := history.Run{Site: rec.Site, Command: "backup", Archive: rec.Name, Started: o.at, Outcome: history.Done, Origin: o.origin, Duty: o.duty,
		Bytes: rec.Totals.StoredBytes, NewBytes: rec.Totals.NewBytes, Gaps: len(rec.Gaps), Stores: a.arrivedIn(d.Result)}
	for _, p := range d.Pending {
		run.Outcome, run.Detail = history.Waiting, run.Detail+fmt.Sprintf("store %s: %v\n", p.Store, p.Err)
		if err := a.history.AddPending(ctx, history.Pending{Site: rec.Site, Archive: rec.Name, Store: p.Store, Since: a.now(), Why: p.Err.Error()}); err != nil {
			return err
		}
	}
	if len(rec.Gaps) > 0 {
		run.Outcome = history.Gaps
	}
	before, err := a.history.Archives(ctx, rec.Site)
	if err != nil {
		return err
	}
	line := archiveLine(rec)
	line.Changes = d.Changes
	if err := a.knowArchive(ctx, line, run.Stores); err != nil {
		return err
	}
	d.Alarms = alarm.OfArchive(line, before)
	if err := a.history.Raise(ctx, rec.Site, d.Alarms, a.now()); err != nil {
		return err
	}
	if o.hold {
		if _, err := a.hold(ctx, rec.Site, rec.Name, o.note); err != nil {
			return err
		}
	}
	if a.hasRules(cfg) {
		d.Removed, err = a.retain(ctx, rec.Site, "", true)
	}
	run.Log = a.plain(func() { a.showBackup(ctx, d) })
	d.Run = a.remember(ctx, run)
	return err
}

// catchUp brings archives that are pending into their stores. A store in which
// that fails is returned with the reason: there is no use in trying it again.
func (a *app) catchUp(ctx context.Context, site string, watch observe.Observer) (map[string]error, error) {
	pending, err := a.history.Pending(ctx, site)
	if err != nil || len(pending) == 0 {
		return nil, err
	}
	listing, err := a.list(ctx, site)
	if err != nil {
		return nil, nil // the backup itself finds out which stores are down
	}
	down := map[string]error{}
	for _, p := range pending {
		h, err := listing.Pick(site, p.Archive, time.Time{})
		if err != nil || !slices.Contains(a.config.Sites[site].Stores, p.Store) {
			if err := a.history.Arrived(ctx, p.Archive, p.Store); err != nil { // gone, or not wanted there any more
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
func (a *app) copyTo(ctx context.Context, h *catalog.Held, to string, watch observe.Observer) (replicate.Result, error) {
	scratch, err := a.state.Spool(h.Site + ".copy")
	if err != nil {
		return replicate.Result{}, err
	}
	defer func() { _ = a.disk.RemoveAll(scratch) }()
	target := a.store(to)
	if err := target.Check(ctx); err != nil {
		return replicate.Result{}, err
	}
	from := slices.DeleteFunc(slices.Clone(h.Stores), func(s store.Named) bool { return s.Name == to })
	job := replicate.Job{Machine: marks.Machine(a.state.Dir), Site: h.Site, To: target, From: from, Disk: a.disk, Scratch: scratch, Observer: watch}
	result, err := job.Archive(ctx, h)
	if err == nil {
		err = a.history.Arrived(ctx, h.Name, to)
	}
	return result, err
}

// halfRestored adds to an error about a site that cannot be opened that a
// restore of it stopped half-way, if one did.
func (a *app) halfRestored(name string, err error) error {
	journals, readErr := restore.Journals(a.state, name)
	for _, j := range journals {
		if j.Phase != restore.Done {
			return fmt.Errorf("%w\na restore of %s from %s stopped half-way; `revlet undo %s` or `revlet restore %s` brings it to an end first", err, name, j.Archive, name, j.Archive)
		}
	}
	return errors.Join(err, readErr)
}

// expected is about how much a backup will read, for the progress bar: as much
// as the last archive held, or what a first look at the webroot finds.
func (a *app) expected(ctx context.Context, s *site.Site, scope archive.Scope) int64 {
	if !terminal(a.err) {
		return 0
	}
	if l, err := a.list(ctx, s.Name); err == nil {
		for _, h := range l.Archives {
			if h.Scope == scope {
				return h.Totals.FileBytes + h.Totals.DatabaseBytes
			}
		}
	}
	var total int64
	_ = filepath.WalkDir(s.Root, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if info, err := d.Info(); err == nil {
				total += info.Size()
			}
		}
		return ctx.Err()
	})
	return total
}

// gapsShown is how many gaps a summary lists; `show` has them all.
const gapsShown = 10

func (a *app) showBackup(ctx context.Context, d *delivered) {
	r := d.Result
	rec := r.Record
	t := rec.Totals
	fmt.Fprintf(a.out, "%s %s\n\n", a.good("Saved"), a.bold(rec.Name))
	var lines [][2]string
	if rec.Scope.HasFiles() {
		lines = append(lines, [2]string{"files", contents(t)})
	}
	for _, label := range slices.Sorted(maps.Keys(rec.Origin.Databases)) {
		db := rec.Origin.Databases[label]
		lines = append(lines, [2]string{"database", fmt.Sprintf("%s: %s, %s", label, db.Name, db.Consistency)})
	}
	if rec.Scope.HasDatabase() && len(rec.Origin.Databases) > 0 {
		lines = append(lines, [2]string{"", tablesIn(rec) + ", " + size(t.DatabaseBytes) + " as text"})
	}
	if rec.Scope == archive.Full && len(rec.Origin.Databases) == 0 {
		lines = append(lines, [2]string{"database", a.bad("none is known for this site; files alone are no site")})
	}
	lines = append(lines,
		[2]string{"note", rec.Note},
		[2]string{"stored", stored(rec)},
		[2]string{"changed", changedSince(r.Changes)},
		[2]string{"stores", strings.Join(a.arrivedIn(r), ", ")},
		[2]string{"left out", leftOut(r)},
		[2]string{"took", took(r.Took)})
	a.facts(lines)
	if n := len(r.Neighbours); n > 0 {
		fmt.Fprintf(a.out, "\n%s in the same database belong to another site and are left out: %s\n", count(int64(n), "table", "tables"), abbreviate(r.Neighbours, 6))
	}
	a.showGaps(rec, gapsShown)
	a.showPending(r)
	a.showRemoved(d.Removed)
	a.showUnusual(rec.Site, d.Alarms)
	a.warnOnsite(rec.Site)
	if untried, err := a.untriedKey(ctx); err == nil && untried {
		fmt.Fprintf(a.out, "\n%s without its key nobody can read this archive, and the key was never tried: `revlet keys check FILE`\n", a.bad("Encrypted:"))
	}
}

// changedSince words what differs from the archive before.
func changedSince(c *changes.Changes) string {
	if c == nil {
		return ""
	}
	if c.Added+c.Changed+c.Removed == 0 {
		return "no file since " + c.Before
	}
	return fmt.Sprintf("%d files new, %d changed, %d gone since %s", c.Added, c.Changed, c.Removed, c.Before)
}

// showUnusual prints alarms about a new archive.
func (a *app) showUnusual(site string, found []history.Finding) {
	for _, f := range found {
		m, _ := alarm.Meant(f.Kind)
		fmt.Fprintf(a.out, "\n%s %s: %s.\n  Why it matters: %s.\n  What to do: %s. If it is all right: `revlet status --accept %s/%s --why …`\n",
			a.bad("Alarm:"), f.Kind, printableText(f.Detail), m.Why, m.Do, site, f.Kind)
	}
}

func stored(rec *archive.Record) string {
	t := rec.Totals
	text := fmt.Sprintf("%s in %s, %s of it new", size(t.StoredBytes), count(int64(len(rec.Parts)), "part", "parts"), size(t.NewBytes))
	if rec.Encrypted {
		text += ", encrypted"
	}
	return text
}

// arrivedIn names the stores that the archive has come to.
func (a *app) arrivedIn(r *backup.Result) []string {
	return slices.DeleteFunc(slices.Clone(a.config.Sites[r.Record.Site].Stores), func(name string) bool {
		return slices.ContainsFunc(r.Pending, func(p backup.Pending) bool { return p.Store == name })
	})
}

func (a *app) showPending(r *backup.Result) {
	if len(r.Pending) == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s\n", a.bad("The archive is still to come to:"))
	for _, p := range r.Pending {
		fmt.Fprintf(a.out, "  %s  (%s)\n", p.Store, printableText(p.Err.Error()))
	}
	fmt.Fprintln(a.out, "The next backup, or `revlet stores copy`, sends what is missing there.")
}

func contents(t archive.Totals) string {
	s := fmt.Sprintf("%s in %s, %s", count(t.Files, "file", "files"), count(t.Folders, "folder", "folders"), size(t.FileBytes))
	if t.Links > 0 {
		s += ", " + count(t.Links, "link", "links")
	}
	return s
}

func leftOut(r *backup.Result) string {
	var all []string
	for _, rule := range slices.Sorted(maps.Keys(r.Skipped)) {
		all = append(all, fmt.Sprintf("%d × %s", r.Skipped[rule], rule))
	}
	return strings.Join(all, ", ")
}

func abbreviate(names []string, most int) string {
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s … and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

func (a *app) showGaps(rec *archive.Record, most int) {
	if len(rec.Gaps) == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s\n", a.bad(count(int64(len(rec.Gaps)), "path could not be saved:", "paths could not be saved:")))
	for i, g := range rec.Gaps {
		if i == most {
			fmt.Fprintf(a.out, "  … and %d more: `revlet show %s`\n", len(rec.Gaps)-most, rec.Name)
			break
		}
		fmt.Fprintf(a.out, "  %s  (%s: %s)\n", printable(g.Path), g.Kind, g.Why)
	}
}

// warnOnsite says what it means when every copy is on this machine.
func (a *app) warnOnsite(site string) {
	cfg, ok := a.config.Sites[site]
	if !ok || slices.ContainsFunc(a.stores(cfg), func(s store.Named) bool { return s.Offsite() }) {
		return
	}
	fmt.Fprintf(a.out, "\n%s every copy of %s is on this machine and dies with it. Copy the store folder elsewhere.\n", a.bad("Unsafe:"), site)
}

// printable shows a name with what a terminal must not be sent made visible.
func printable(s string) string {
	q := fmt.Sprintf("%q", s)
	if q == `"`+s+`"` {
		return s
	}
	return q
}

// printableText shows a sentence that may have names in it: only what a
// terminal must not be sent is replaced.
func printableText(s string) string {
	return strings.Map(func(r rune) rune {
		if r != '\n' && !unicode.IsPrint(r) {
			return '\uFFFD'
		}
		return r
	}, s)
}

// nonNil makes an empty list print as [] in JSON.
func nonNil[T any](s []T) []T {
	if s == nil {
		return []T{}
	}
	return s
}
