// Package cli is the command line: commands, flags, prompts, tables, progress
// and JSON. It is the only package that prints.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"revlet/internal/archive"
	"revlet/internal/backup"
	"revlet/internal/catalog"
	"revlet/internal/config"
	"revlet/internal/database"
	"revlet/internal/database/engine"
	"revlet/internal/database/sqlite"
	"revlet/internal/disk"
	"revlet/internal/history"
	"revlet/internal/restore"
	"revlet/internal/seal"
	"revlet/internal/site"
	"revlet/internal/state"
	"revlet/internal/store"
	"revlet/internal/store/opener"
)

// Version is the program's version.
const Version = "0.1.0"

// The exit codes, the same for every command.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
	exitGaps   = 3
	exitDamage = 4
)

// exitError carries an exit code; without an error nothing more is printed.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

func usageError(format string, args ...any) error {
	return &exitError{exitUsage, fmt.Errorf(format, args...)}
}

// app is one run of the program.
type app struct {
	in       io.Reader
	out, err io.Writer
	args     []string
	disk     *disk.Disk
	now      func() time.Time
	// hush is set when only what is wrong is to be said.
	hush bool

	config  *config.Config
	state   *state.State
	history *history.History
	// opened are the stores that were opened so far, by name.
	opened map[string]store.Named
	// keyFile is the file named by --key or $REVLET_KEY_FILE.
	keyFile string
	keys    *seal.Keys
}

// Main runs the program and returns its exit code.
func Main(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	a := &app{in: in, out: out, err: errOut, args: args, disk: &disk.Disk{}}
	var err error
	if a.now, err = clock(os.Getenv(clockVariable)); err == nil {
		err = a.root().Run(ctx, args)
	}
	for _, s := range a.opened {
		_ = s.Close()
	}
	if a.history != nil {
		_ = a.history.Close()
	}
	return a.finish(ctx, err)
}

// clockVariable sets the clock, for practice and tests: the program then takes
// the moment it begins for that one.
const clockVariable = "REVLET_CLOCK"

// clock is the time of day, or one that was set.
func clock(set string) (func() time.Time, error) {
	if set == "" {
		return time.Now, nil
	}
	t, err := time.Parse(time.RFC3339, set)
	if err != nil {
		return nil, usageError("$%s is %q; it is a moment such as 2026-11-20T03:20:00Z", clockVariable, set)
	}
	began := time.Now()
	return func() time.Time { return t.Add(time.Since(began)) }, nil
}

// sayClock warns who leaves a set clock on by mistake.
func (a *app) sayClock(c *cli.Command) {
	if os.Getenv(clockVariable) != "" && !c.Bool("quiet") {
		fmt.Fprintf(a.err, "note: $%s sets the clock to %s\n", clockVariable, when(a.now()))
	}
}

// finish prints an error, if there is one, and chooses the exit code.
func (a *app) finish(ctx context.Context, err error) int {
	if err == nil {
		return exitDone
	}
	code := exitFailed
	var coded *exitError
	var faulty *config.Error
	switch {
	case errors.As(err, &coded):
		code = coded.code
		if coded.err == nil {
			return code
		}
	case errors.As(err, &faulty), errors.Is(err, config.ErrNone), errors.Is(err, site.ErrSettings):
		code = exitUsage
	}
	if ctx.Err() != nil {
		fmt.Fprintln(a.err, "revlet: stopped before it was done; nothing half-made is kept")
		return code
	}
	fmt.Fprintf(a.err, "revlet: %s\n", strings.ReplaceAll(err.Error(), "\n", "\n        "))
	return code
}

func (a *app) root() *cli.Command {
	cli.VersionPrinter = func(*cli.Command) { fmt.Fprintln(a.out, "revlet "+Version) }
	root := &cli.Command{
		Name:    "revlet",
		Usage:   "keep a content-managed web site recoverable",
		Version: Version,
		Description: "Takes full archives of a site's files and database, proves that they are whole,\n" +
			"and puts the site back. Begin with `revlet demo`, or with `revlet adopt PATH`.",
		Writer: a.out, ErrWriter: a.err, Reader: a.in,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "config", Usage: "the configuration `FILE` (default: $REVLET_CONFIG, ./revlet.yaml, the user's, the system's)"},
			&cli.StringFlag{Name: "state", Usage: "the `FOLDER` for history, journals and scratch files"},
			&cli.BoolFlag{Name: "quiet", Aliases: []string{"q"}, Usage: "no progress"},
		},
		Suggest: true,
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usageError("there is no command %q; `revlet --help` lists them", c.Args().First())
			}
			return cli.ShowAppHelp(c)
		},
		Commands: []*cli.Command{
			a.demoCommand(), a.adoptCommand(), a.preflightCommand(), a.backupCommand(), a.archivesCommand(), a.showCommand(), a.verifyCommand(),
			a.restoreCommand(), a.undoCommand(), a.settleCommand(), a.asideCommand(), a.extractCommand(), a.exportCommand(), a.importCommand(), a.storesCommand(), a.keysCommand(), a.retentionCommand(), a.holdCommand(), a.releaseCommand(),
			a.rehearseCommand(), a.compareCommand(), a.guardCommand(), a.checkCommand(), a.dutiesCommand(), a.dueCommand(), a.serveCommand(), a.scheduleCommand(), a.statusCommand(), a.historyCommand(), a.reportCommand(), a.notifyCommand(), a.standinCommand(),
		},
	}
	strict(root, "")
	return root
}

// strict gives a command and all below it the same answer to wrong usage.
func strict(c *cli.Command, above string) {
	name := strings.TrimSpace(above + " " + c.Name)
	c.OnUsageError = func(_ context.Context, _ *cli.Command, err error, _ bool) error {
		return usageError("%w; `%s --help` shows the options", err, name)
	}
	for _, sub := range c.Commands {
		strict(sub, name)
	}
}

// open reads the configuration and opens the state folder.
func (a *app) open(ctx context.Context, c *cli.Command) error {
	path, _ := config.Locate(c.String("config"))
	var err error
	if a.config, err = config.Load(path); err != nil {
		return err
	}
	for _, w := range a.config.Warnings {
		fmt.Fprintln(a.err, "warning: "+w)
	}
	a.findKeys(c)
	if err := a.openState(ctx, c); err != nil {
		return err
	}
	if err := a.settleHistory(ctx); err != nil {
		return err
	}
	for _, name := range a.config.SiteNames() {
		a.finishInterrupted(ctx, name)
	}
	return nil
}

// finishInterrupted brings a restore to an end whose process has died: a site must
// not stay closed, or half exchanged, until somebody thinks of it. What cannot be
// finished is said, and is no reason to refuse another command.
func (a *app) finishInterrupted(ctx context.Context, name string) {
	if !restore.Interrupted(a.state, name) {
		return
	}
	unlock, err := a.state.Lock(name)
	if err != nil {
		return // one that is at work is not interrupted
	}
	defer unlock()
	journals, err := restore.Journals(a.state, name)
	if err == nil && len(journals) > 0 {
		var s *site.Site
		if s, err = a.siteForAside(ctx, name, a.config.Sites[name], journals[0]); err == nil {
			err = a.recover(ctx, s)
		}
	}
	if err != nil {
		fmt.Fprintln(a.err, "warning: "+err.Error())
	}
}

// settleHistory has the history see the clock. One that had to be begun anew is
// filled from the stores as far as they tell.
func (a *app) settleHistory(ctx context.Context) error {
	if a.history.SetAside != "" {
		fmt.Fprintf(a.err, "warning: %v; it is set aside as %s. What archives there are is read from the stores again; earlier runs and checks are no longer known.\n", a.history.Fault, a.history.SetAside)
		for _, name := range a.config.SiteNames() {
			if _, err := a.list(ctx, name); err != nil {
				fmt.Fprintf(a.err, "warning: %v\n", err)
			}
		}
	}
	if err := a.history.SeeClock(ctx, a.now()); err != nil {
		return err
	}
	return a.history.Tidy(ctx, a.now())
}

func (a *app) openState(ctx context.Context, c *cli.Command) (err error) {
	dir := c.String("state")
	if dir == "" && a.config != nil {
		dir = a.config.State
	}
	if a.state, err = state.Open(a.disk, dir); err != nil {
		return err
	}
	a.history, err = history.Open(ctx, a.state.History())
	return err
}

// site finds a configured site by the name that was typed.
func (a *app) siteConfig(name string) (config.Site, error) {
	s, ok := a.config.Sites[name]
	if !ok {
		return s, usageError("there is no site %q in %s%s", name, a.config.Path, a.config.Suggest(name))
	}
	return s, nil
}

// openSites opens everything and returns the sites in the arguments, or all.
func (a *app) openSites(ctx context.Context, c *cli.Command) ([]string, error) {
	if err := a.open(ctx, c); err != nil {
		return nil, err
	}
	return a.sitesNamed(c)
}

// sitesNamed are the sites in the arguments, or all.
func (a *app) sitesNamed(c *cli.Command) ([]string, error) {
	names := c.Args().Slice()
	if len(names) == 0 {
		names = a.config.SiteNames()
	}
	for _, name := range names {
		if _, err := a.siteConfig(name); err != nil {
			return nil, err
		}
	}
	return names, nil
}

// stores opens the stores of a site.
func (a *app) stores(s config.Site) []store.Named {
	var all []store.Named
	for _, name := range s.Stores {
		all = append(all, a.store(name))
	}
	return all
}

// store opens one store, once. One that cannot be opened answers every call
// with the reason, like one that is down.
func (a *app) store(name string) store.Named {
	if s, ok := a.opened[name]; ok {
		return s
	}
	if a.opened == nil {
		a.opened = map[string]store.Named{}
	}
	s, err := a.opener().Open(name, a.config.Stores[name])
	if err != nil {
		s = store.Named{Name: name, Store: store.Unusable{Err: err, Address: a.config.Stores[name].Kind()}}
	}
	a.opened[name] = s
	return s
}

func (a *app) opener() *opener.Opener {
	return &opener.Opener{Disk: a.disk, KnownHosts: a.state.KnownHosts()}
}

// list reads the archives of a site, and has the history know of them. Sealed
// records are opened as far as that needs nobody to be asked.
func (a *app) list(ctx context.Context, name string) (*catalog.Listing, error) {
	l, err := catalog.List(ctx, a.stores(a.config.Sites[name]), name, catalog.Options{Keys: a.keys,
		Known: a.keptOpen})
	if err != nil {
		return nil, err
	}
	if err := a.know(ctx, name, l); err != nil {
		fmt.Fprintln(a.err, "warning: "+err.Error())
	}
	return l, nil
}

// keptOpen is the open copy of an encrypted archive's record, or nil.
func (a *app) keptOpen(site, name string) *archive.Record {
	return backup.KeptOpen(a.state, site, name)
}

// know has the history agree with what the stores hold.
func (a *app) know(ctx context.Context, site string, l *catalog.Listing) error {
	known, err := a.history.Archives(ctx, site)
	if err != nil {
		return err
	}
	at := map[string]*history.Archive{}
	for i := range known {
		at[known[i].Name] = &known[i]
	}
	listed := map[[2]string]bool{}
	for _, h := range l.Archives {
		var fresh []string
		for _, s := range h.Stores {
			listed[[2]string{h.Name, s.Name}] = true
			if k := at[h.Name]; k == nil || !k.In(s.Name) {
				fresh = append(fresh, s.Name)
			}
		}
		if at[h.Name] == nil || len(fresh) > 0 {
			if err := a.knowArchive(ctx, archiveLine(h.Record), fresh); err != nil {
				return err
			}
		}
	}
	for _, k := range known {
		for _, s := range k.Copies {
			if s.Gone.IsZero() && !listed[[2]string{k.Name, s.Store}] && a.answered(l, site, k.Name, s.Store) {
				if err := a.history.WentFrom(ctx, k.Name, s.Store, a.now(), "it was found missing"); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// listingLag is how long after an archive was written a listing may not show it.
const listingLag = time.Hour

// answered tells whether it means anything that an archive is not listed in a
// store: the store was asked, could be read, and has had time to show it.
func (a *app) answered(l *catalog.Listing, site, archiveName, store string) bool {
	if !slices.Contains(a.config.Sites[site].Stores, store) {
		return false
	}
	for _, b := range append(slices.Clone(l.Silent), l.Broken...) {
		if b.Store == store && (b.Name == "" || b.Name == archiveName) {
			return false
		}
	}
	_, taken, _ := archive.SplitName(archiveName)
	return !a.store(store).Offsite() || a.now().Sub(taken) > listingLag
}

func (a *app) knowArchive(ctx context.Context, line history.Archive, stores []string) error {
	if err := a.history.SetArchive(ctx, line); err != nil {
		return err
	}
	for _, s := range stores {
		if err := a.history.CameTo(ctx, line.Name, s, a.now()); err != nil {
			return err
		}
	}
	return nil
}

// archiveLine is what the history keeps of an archive.
func archiveLine(r *archive.Record) history.Archive {
	return history.Archive{Name: r.Name, Site: r.Site, Taken: r.Taken, Finished: r.Finished, Scope: string(r.Scope), Note: r.Note, Files: r.Totals.Files,
		FileBytes: r.Totals.FileBytes, DatabaseBytes: r.Totals.DatabaseBytes, StoredBytes: r.Totals.StoredBytes, NewBytes: r.Totals.NewBytes, Gaps: len(r.Gaps), Version: r.Origin.Version}
}

func (a *app) openSource(ctx context.Context, db site.Database, scratch string) (database.Source, error) {
	return engine.Source(ctx, a.disk, db, scratch)
}

func (a *app) openTarget(ctx context.Context, db site.Database, mode sqlite.FileMode, beside string) (database.Target, error) {
	return engine.Target(ctx, a.disk, db, mode, beside)
}

// recoverer finishes or reverts restores of a site that died half-way.
func (a *app) recoverer(s *site.Site) restore.Recoverer {
	return restore.Recoverer{Site: s, State: a.state, Open: a.openTarget, Drain: drain()}
}

// drainTime is how long a closed site is given to finish the pages that it is at.
const drainTime = 250 * time.Millisecond

// drain is that time, or what $REVLET_DRAIN says, for practice and tests.
func drain() time.Duration {
	if d, err := time.ParseDuration(os.Getenv("REVLET_DRAIN")); err == nil {
		return d
	}
	return drainTime
}

// recover does so before a command works on the site, and says so.
func (a *app) recover(ctx context.Context, s *site.Site) error {
	done, err := a.recoverer(s).Recover(ctx)
	for _, o := range done {
		fmt.Fprintf(a.err, "note: a restore of %s from %s had stopped half-way; it is now %s.\n", o.Journal.Site, o.Journal.Archive, o.Did)
	}
	return err
}

// find resolves an archive as typed: its name, a beginning of it, or a site's
// name for the newest good one.
func (a *app) find(ctx context.Context, typed string, before time.Time) (*catalog.Held, error) {
	var candidates []string
	for _, name := range a.config.SiteNames() {
		if typed == name {
			candidates = []string{name}
			break
		}
		if strings.HasPrefix(typed, name+"-") || strings.HasPrefix(name, typed) {
			candidates = append(candidates, name)
		}
	}
	if len(candidates) == 0 {
		return nil, usageError("there is no site or archive %q%s", typed, a.config.Suggest(typed))
	}
	return a.pickFrom(ctx, candidates, typed, before, func(catalog.Held) bool { return true })
}

// findFull is find for what needs files and databases: a site's name means its
// newest good full archive, as long as there is one.
func (a *app) findFull(ctx context.Context, typed string, before time.Time) (*catalog.Held, error) {
	if _, isSite := a.config.Sites[typed]; isSite {
		if h, err := a.pickFrom(ctx, []string{typed}, typed, before, func(h catalog.Held) bool { return h.Scope == archive.Full }); err == nil {
			return h, nil
		}
	}
	return a.find(ctx, typed, before)
}

// pickFrom resolves an archive's name among the archives of some sites that are
// wanted.
func (a *app) pickFrom(ctx context.Context, sites []string, typed string, before time.Time, wanted func(catalog.Held) bool) (*catalog.Held, error) {
	var failed error
	for _, name := range sites {
		l, err := a.list(ctx, name)
		if err != nil {
			return nil, err
		}
		for _, silent := range l.Silent {
			fmt.Fprintf(a.err, "note: store %s: %v; going on without it\n", silent.Store, silent.Err)
		}
		if typed == name {
			a.dropDamaged(ctx, l)
		}
		l.Archives = slices.DeleteFunc(l.Archives, func(h catalog.Held) bool { return !wanted(h) })
		h, err := l.Pick(name, typed, before)
		if err == nil {
			return h, nil
		}
		failed = errors.Join(failed, err)
	}
	return nil, failed
}

// dropDamaged takes archives out of a listing that the last proof found
// damaged in every store: they are not good.
func (a *app) dropDamaged(ctx context.Context, l *catalog.Listing) {
	proofs, err := a.history.Proofs(ctx)
	if err != nil {
		return
	}
	l.Archives = slices.DeleteFunc(l.Archives, func(h catalog.Held) bool {
		bad := map[string]bool{}
		for _, p := range proofs[h.Name] {
			bad[p.Store] = bad[p.Store] || !p.Sound
		}
		return len(h.Stores) > 0 && !slices.ContainsFunc(h.Stores, func(s store.Named) bool { return !bad[s.Name] })
	})
}

// remember adds a run to the history and returns its number; that this fails
// is no reason for the run to fail.
func (a *app) remember(ctx context.Context, r history.Run) int64 {
	r.Finished = a.now()
	if r.Origin == "" {
		r.Origin = person()
	}
	id, err := a.history.AddRun(context.WithoutCancel(ctx), r)
	if err != nil {
		fmt.Fprintln(a.err, "warning: "+err.Error())
	}
	return id
}

// person names the account that runs the program.
func person() string {
	if name := os.Getenv("SUDO_USER"); name != "" {
		return name
	}
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return fmt.Sprintf("user %d", os.Getuid())
}

// plain returns what show prints, without colours.
func (a *app) plain(show func()) string {
	out := a.out
	defer func() { a.out = out }()
	var text strings.Builder
	a.out = &text
	show()
	return text.String()
}

// printJSON writes v as the documented JSON.
func (a *app) printJSON(v any) error {
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// terminal tells whether w is one.
func terminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// oneArg returns the only argument, or a usage error.
func oneArg(c *cli.Command, what string) (string, error) {
	if c.Args().Len() != 1 {
		return "", usageError("`revlet %s` needs one %s; it got %d", c.Name, what, c.Args().Len())
	}
	return c.Args().First(), nil
}

var jsonFlag = &cli.BoolFlag{Name: "json", Usage: "print JSON (docs/JSON.md)"}
