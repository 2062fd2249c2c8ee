package jobs

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/changes"
	"revlet/internal/config"
	"revlet/internal/platform/process"
	"revlet/internal/platform/reason"
	"revlet/internal/site/check"
	"revlet/internal/watch/history"
	"revlet/internal/work/backup"
	"revlet/internal/work/compare"
	"revlet/internal/work/restore"
)

// GuardOrder is a risky command to run on a site.
type GuardOrder struct {
	Site    string
	Command []string
	// Patience is how long the site may take to work again, Limit how long the
	// command may take; 0 means as long as it likes.
	Patience, Limit time.Duration
	// Anyway runs the command on a site that is broken already, KeepBroken leaves a
	// broken site as it is.
	Anyway, KeepBroken bool
	// In, Out and Err are the command's.
	In       io.Reader
	Out, Err io.Writer
	// Signals are passed on to the command; after one, Ask decides what becomes of
	// the site.
	Signals <-chan os.Signal
	Ask     func(GuardQuestion) bool
	// Pause is the time between two looks at a site that does not work, 0 a second;
	// Cached how long a server may answer from scripts that it keeps in memory.
	Pause, Cached time.Duration
}

// GuardQuestion is what is asked after a command was interrupted.
type GuardQuestion int

// The questions.
const (
	// LeaveIt: the site works; may it stay so?
	LeaveIt GuardQuestion = iota
	// PutItBack: the site is broken; is it to be put back?
	PutItBack
)

// GuardOutcome is how a guarded command ended.
type GuardOutcome string

// The outcomes.
const (
	// BrokenBefore: the site did not work before; the command was not run.
	BrokenBefore GuardOutcome = "broken-before"
	// Fine: the site works.
	Fine GuardOutcome = "fine"
	// CommandFailed: the command failed, and the site works.
	CommandFailed GuardOutcome = "command-failed"
	// LeftBroken: the site is broken, and was to be left so.
	LeftBroken GuardOutcome = "left-broken"
	// Declined: the site is broken, and a person did not want it put back.
	Declined GuardOutcome = "declined"
	// PutBack: the site was broken, or not wanted so, and is as before.
	PutBack GuardOutcome = "put-back"
	// StillBroken: it was put back, and does not work even so.
	StillBroken GuardOutcome = "still-broken"
	// NotPutBack: it is broken, and putting it back failed.
	NotPutBack GuardOutcome = "not-put-back"
)

// Guarded is what came of a guarded command.
type Guarded struct {
	Outcome GuardOutcome
	Site    string
	// Archive is the one from before the command, empty if it was not run.
	Archive string
	// Answers are what the site answered last.
	Answers []check.Result
	// Err is why the command failed, or why the site was not put back.
	Err error
}

// Guard asks a site whether it works, takes an archive, runs a command, asks again
// with patience, and puts the site back if it broke. An error means that the
// command was not run.
func (a *Agent) Guard(ctx context.Context, o GuardOrder) (*Guarded, error) {
	cfg, err := a.SiteConfig(o.Site)
	if err != nil {
		return nil, err
	}
	if len(cfg.AllChecks()) == 0 || cfg.Address == "" {
		return nil, reason.BadUsage("site %s has no check, so nobody could tell whether it broke; add `check: {path: /, contains: \"…\"}`", o.Site)
	}
	if a.Config.Encrypt != nil && !a.Keys.Given() {
		return nil, reason.Because(reason.NoKey, nil, reason.BadUsage("archives are encrypted, and without the key the site could not be put back"))
	}
	if err := a.noMountsIn(o.Site, cfg); err != nil {
		return nil, fmt.Errorf("site %s could not be put back: %w", o.Site, err)
	}
	unlock, err := a.State.Lock(".guard-" + o.Site)
	if err != nil {
		return nil, fmt.Errorf("another guard of %s is at work: %w", o.Site, err)
	}
	defer unlock()
	o.Pause, o.Cached = cmp.Or(o.Pause, time.Second), cmp.Or(o.Cached, cachedScripts)
	g := &guarding{Agent: a, GuardOrder: o, result: Guarded{Site: o.Site}}
	return g.run(ctx)
}

// noMountsIn refuses a site on this machine whose folders could not be exchanged, for something is mounted in them.
func (a *Agent) noMountsIn(name string, cfg config.Site) error {
	folders := append(slices.Collect(maps.Values(cfg.Roots)), cfg.Root)
	for _, dir := range folders {
		if strings.Contains(dir, "://") {
			continue
		}
		if err := restore.NoMountsBelow(a.Disk, name, dir); err != nil {
			return err
		}
	}
	return nil
}

// guarding is one run of Guard.
type guarding struct {
	*Agent
	GuardOrder
	result Guarded
}

// end ends a guard with an outcome.
func (g *guarding) end(o GuardOutcome, err error) (*Guarded, error) {
	g.result.Outcome, g.result.Err = o, err
	return &g.result, nil
}

// plainArgument matches an argument that may be remembered.
var plainArgument = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9._/-]*$`)

// commandShown is what of a guarded command is remembered, in the history and in the
// archive's note: the program and what it is told first, such as `php update.php`. What
// follows an option, or looks like anything else than a plain word, may be a password.
func commandShown(command []string) string {
	shown := []string{filepath.Base(command[0])}
	for i, word := range command[1:] {
		if i == 3 || !plainArgument.MatchString(word) {
			return strings.Join(append(shown, "…"), " ")
		}
		shown = append(shown, word)
	}
	return strings.Join(shown, " ")
}

func (g *guarding) run(ctx context.Context) (*Guarded, error) {
	before, err := g.Check(ctx, g.Site, false)
	if err != nil {
		return nil, err
	}
	if err := g.keepHealthy(g.Site, before, false); err != nil {
		g.warn(err)
	}
	if worst := check.Worst(before); !worst.OK() && !g.Anyway {
		g.result.Answers = []check.Result{*worst}
		return g.end(BrokenBefore, nil)
	}
	shown := commandShown(g.Command)
	d, err := g.Backup(ctx, g.Site, Order{Scope: archive.Full, Note: "before: " + shown})
	if err != nil {
		return nil, reason.Because(reason.NotRun, nil, err)
	}
	g.result.Archive = d.Record.Name
	g.Tell(GuardSaved{d, g.Command})
	run := history.Run{Site: g.Site, Command: "guard", Archive: d.Record.Name, Started: g.Now(), Outcome: history.Done, Detail: shown}
	interrupted, ran := g.runCommand(ctx)
	// From here on a signal is for what is asked, not for what is half-done.
	ctx = context.WithoutCancel(ctx)
	answers := g.await(ctx)
	if check.Worst(answers).OK() && g.scriptsChanged(ctx, d.Record) {
		// PHP may answer from scripts that it has kept in memory: it looks at the
		// files again after opcache.revalidate_freq, 2 seconds as a rule.
		time.Sleep(g.Cached)
		answers = g.await(ctx)
	}
	g.answered(answers)
	return g.decide(ctx, d.Record, run, interrupted, ran)
}

// answered notes and tells what the site answers.
func (g *guarding) answered(answers []check.Result) {
	g.result.Answers = answers
	g.Tell(GuardAnswers{answers})
}

// decide chooses what becomes of the site after the command.
func (g *guarding) decide(ctx context.Context, rec *archive.Record, run history.Run, interrupted bool, ran error) (*Guarded, error) {
	works := check.Worst(g.result.Answers).OK()
	outcome := PutBack
	switch {
	case works && interrupted && !g.Ask(LeaveIt):
	case works && ran != nil:
		outcome = CommandFailed
		run.Outcome, run.Detail = history.Failed, run.Detail+": "+reason.Text(ran)
	case works:
		outcome = Fine
	case g.KeepBroken:
		outcome = LeftBroken
		run.Outcome, run.Detail = history.Failed, run.Detail+": the site is broken and left so"
	case interrupted && !g.Ask(PutItBack):
		outcome = Declined
		run.Outcome, run.Detail = history.Failed, run.Detail+": the site is broken and was not to be put back"
	}
	if outcome == PutBack {
		return g.putBack(ctx, rec, run)
	}
	g.remember(ctx, run)
	return g.end(outcome, ran)
}

// runCommand runs the guarded command; a signal is the command's to handle.
func (g *guarding) runCommand(ctx context.Context) (interrupted bool, err error) {
	cmd := exec.CommandContext(context.WithoutCancel(ctx), g.Command[0], g.Command[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = g.In, g.Out, g.Err
	cmd.WaitDelay = graceTime // what it leaves running keeps its output open
	if err = cmd.Start(); err != nil {
		return false, err
	}
	done := make(chan error, 1)
	go func() { done <- process.Wait(cmd) }()
	var late, never <-chan time.Time
	if g.Limit > 0 {
		late = time.After(g.Limit)
	}
	for {
		select {
		case s := <-g.Signals:
			interrupted = true
			_ = cmd.Process.Signal(s) // a terminal has sent it to the command already
		case <-late:
			g.Tell(GuardStopped{g.Limit})
			_ = process.Stop(cmd.Process)
			never = time.After(graceTime)
		case <-never:
			_ = cmd.Process.Kill()
		case err = <-done:
			return interrupted || ctx.Err() != nil, err
		}
	}
}

// graceTime is how long a command that was told to end may take to do so.
const graceTime = 10 * time.Second

// scriptsChanged tells whether the command has touched files that are run. What
// cannot be told counts as yes.
func (g *guarding) scriptsChanged(ctx context.Context, rec *archive.Record) bool {
	h, err := g.Find(ctx, rec.Name, time.Time{})
	if err != nil {
		return true
	}
	live, err := g.liveSide(ctx, g.Site)
	if err != nil {
		return true
	}
	h.Record = rec // as it was written, open even when it is sealed in the stores
	r, err := compare.Job{A: compare.Archive{Held: h, Lines: backup.KnownLines(ctx, g.State, g.Site, rec.Name)}, B: live, Recipe: live.Site.Recipe, Files: true}.Run(ctx)
	return err != nil || slices.ContainsFunc(r.Files, func(f compare.File) bool { return changes.Executable(f.Path) })
}

// await asks the site until it works, or patience is at an end.
func (g *guarding) await(ctx context.Context) []check.Result {
	deadline := time.Now().Add(g.Patience)
	for {
		answers, err := g.Check(ctx, g.Site, false)
		if err != nil {
			return []check.Result{{URL: g.Config.Sites[g.Site].Address, Trouble: err.Error()}}
		}
		if check.Worst(answers).OK() || time.Now().After(deadline) {
			return answers
		}
		time.Sleep(g.Pause)
	}
}

// putBack restores the site as it was before the command, and tells what the
// command had changed.
func (g *guarding) putBack(ctx context.Context, rec *archive.Record, run history.Run) (*Guarded, error) {
	g.Tell(GuardBroken{rec.Name})
	h, err := g.Find(ctx, rec.Name, time.Time{})
	if err == nil {
		h.Record = rec // as it was written, open even when it is sealed in the stores
		g.tellChanges(ctx, h)
		err = g.restoreWhole(ctx, h)
	}
	if err != nil {
		run.Outcome, run.Detail = history.Failed, reason.Text(err)
		g.remember(ctx, run)
		return g.end(NotPutBack, err)
	}
	run.Outcome, run.Detail = history.Failed, run.Detail+": it broke the site, which was put back"
	g.remember(ctx, run)
	g.answered(g.await(ctx))
	if !check.Worst(g.result.Answers).OK() {
		return g.end(StillBroken, nil)
	}
	return g.end(PutBack, nil)
}

// tellChanges tells what the command has changed, as far as that can be told.
func (g *guarding) tellChanges(ctx context.Context, h *catalog.Held) {
	told := GuardChanges{Held: h}
	live, err := g.liveSide(ctx, g.Site)
	if err == nil {
		job := compare.Job{A: compare.Archive{Held: h}, B: live, Recipe: live.Site.Recipe, Files: true, Tables: true}
		if told.Report, err = job.Run(ctx); err != nil {
			job.Tables = false // the database may be what is broken
			told.Report, err = job.Run(ctx)
		}
	}
	told.Err = err
	g.Tell(told)
}

// restoreWhole puts a site back from an archive without asking.
func (g *guarding) restoreWhole(ctx context.Context, h *catalog.Held) error {
	s, err := g.openForRestore(ctx, h)
	if err != nil {
		return err
	}
	return g.work(ctx, &history.Run{Site: g.Site}, func(ctx context.Context, _ *history.Run) error {
		_, err := restore.Run(ctx, restore.Job{Site: s, Archive: h, Files: true, Database: len(h.Origin.Databases) > 0, State: g.State, Open: g.openTarget, Mirror: g.mirror(g.Site), Now: g.Now, Drain: g.Drain, Own: g.isOwn(h.Record), Others: g.otherSites(g.Site)})
		return err
	})
}
