package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/archive"
	"revlet/internal/backup"
	"revlet/internal/catalog"
	"revlet/internal/changes"
	"revlet/internal/check"
	"revlet/internal/compare"
	"revlet/internal/config"
	"revlet/internal/history"
	"revlet/internal/restore"
)

// exitPutBack tells that the guarded command broke the site and that it was put
// back.
const exitPutBack = 5

func (a *app) guardCommand() *cli.Command {
	return &cli.Command{
		Name: "guard", Usage: "run a risky command between an archive and a check, and put the site back if it broke", ArgsUsage: "SITE -- CMD…",
		Description: "Asks the site whether it works, takes an archive, runs CMD, and asks again, with\n" +
			"patience. If the site is broken then, it is put back from that archive and the exit code\n" +
			"is 5. If it works, the archive stays, with the command as its note.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "anyway", Usage: "even when the site is broken before"},
			&cli.BoolFlag{Name: "keep-broken", Usage: "leave a broken site as it is, to study it"},
			&cli.StringFlag{Name: "patience", Value: "30 seconds", Usage: "how long the site may take to work again, a `SPAN`"},
			&cli.StringFlag{Name: "limit", Usage: "stop the command when it takes longer than a `SPAN`"},
			keyFlag,
		},
		Action: a.guard,
	}
}

// guarding is one run of `guard`.
type guarding struct {
	*app
	site     string
	command  []string
	patience time.Duration
	anyway   bool
	keep     bool
	// limit is how long the command may take; 0 means as long as it likes.
	limit time.Duration
}

func (a *app) guard(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) > 1 && args[1] == "--" {
		args = append(args[:1:1], args[2:]...)
	}
	if len(args) < 2 {
		return usageError("`revlet guard` needs a SITE and the command to run: `revlet guard SITE -- CMD…`")
	}
	patience, err := config.ParseSpan(c.String("patience"))
	if err != nil {
		return usageError("--patience %w", err)
	}
	var limit time.Duration
	if typed := c.String("limit"); typed != "" {
		if limit, err = config.ParseSpan(typed); err != nil {
			return usageError("--limit %w", err)
		}
	}
	if _, err := exec.LookPath(args[1]); err != nil {
		return usageError("there is no command %q here; nothing was done", args[1])
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	cfg, err := a.siteConfig(args[0])
	if err != nil {
		return err
	}
	if len(cfg.AllChecks()) == 0 || cfg.Address == "" {
		return usageError("site %s has no check, so nobody could tell whether it broke; add `check: {path: /, contains: \"…\"}`", args[0])
	}
	if a.config.Encrypt != nil && !a.keys.Given() {
		return usageError("archives are encrypted, and without the key the site could not be put back; give it with --key FILE or $REVLET_KEY_FILE")
	}
	unlock, err := a.state.Lock(".guard-" + args[0])
	if err != nil {
		return fmt.Errorf("another guard of %s is at work: %w", args[0], err)
	}
	defer unlock()
	g := &guarding{app: a, site: args[0], command: args[1:], patience: patience, anyway: c.Bool("anyway"), keep: c.Bool("keep-broken"), limit: limit}
	return g.run(ctx)
}

func (g *guarding) run(ctx context.Context) error {
	before, err := g.checkNamed(ctx, g.site)
	if err != nil {
		return err
	}
	if worst := check.Worst(before); !worst.OK() && !g.anyway {
		fmt.Fprintf(g.out, "%s\n", g.checked(*worst))
		return &exitError{exitDamage, fmt.Errorf("%s is broken already; mend it first, or add --anyway. The command was not run", g.site)}
	}
	shown := strings.Join(g.command, " ")
	d, err := g.backupSite(ctx, g.site, order{scope: archive.Full, note: "before: " + shown, quiet: true, origin: person()})
	if err != nil {
		return fmt.Errorf("%w\nThe command was not run", err)
	}
	fmt.Fprintf(g.out, "%s %s, %s of it new, in %s\n", g.good("Saved"), g.bold(d.Record.Name), size(d.Record.Totals.NewBytes), took(d.Took))
	g.showGaps(d.Record, gapsShown)
	fmt.Fprintf(g.out, "%s\n", g.dim("$ ")+g.bold(shown))
	started := g.now()
	interrupted, ran := g.runCommand(ctx)
	// From here on a Ctrl-C is for what is asked, not for what is half-done.
	ctx = context.WithoutCancel(ctx)
	after := g.await(ctx)
	if check.Worst(after).OK() && g.scriptsChanged(ctx, d.Record) {
		// PHP may answer from scripts that it has kept in memory: it looks at the
		// files again after opcache.revalidate_freq, 2 seconds as a rule.
		time.Sleep(cachedScripts)
		after = g.await(ctx)
	}
	worst := check.Worst(after)
	for _, r := range after {
		fmt.Fprintln(g.out, g.checked(r))
	}
	run := history.Run{Site: g.site, Command: "guard", Archive: d.Record.Name, Started: started, Outcome: history.Done, Detail: shown}
	switch {
	case worst.OK() && interrupted && !g.confirms("The command was stopped, and the site works. Leave it as it is?"):
		return g.putBack(ctx, d.Record, run)
	case worst.OK():
		return g.fine(ran, d.Record, run)
	case g.keep:
		run.Outcome, run.Detail = history.Failed, shown+": the site is broken and left so"
		g.remember(ctx, run)
		return &exitError{exitFailed, fmt.Errorf("%s is broken, and left as it is; `revlet compare %s` tells what the command changed, `revlet restore %s` puts the site back", g.site, d.Record.Name, d.Record.Name)}
	case interrupted && !g.confirms("The command was stopped, and the site is broken. Put it back?"):
		return &exitError{exitFailed, fmt.Errorf("%s is broken; `revlet restore %s` puts it back", g.site, d.Record.Name)}
	}
	return g.putBack(ctx, d.Record, run)
}

// runCommand runs the guarded command with this terminal; an interrupt is the
// command's to handle.
func (g *guarding) runCommand(ctx context.Context) (interrupted bool, err error) {
	keys := make(chan os.Signal, 8)
	signal.Notify(keys, os.Interrupt, syscall.SIGTERM)
	defer signal.Stop(keys)
	cmd := exec.CommandContext(context.WithoutCancel(ctx), g.command[0], g.command[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = g.in, g.out, g.err
	cmd.WaitDelay = graceTime // what it leaves running keeps its output open
	if err = cmd.Start(); err != nil {
		return false, err
	}
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	var late, never <-chan time.Time
	if g.limit > 0 {
		late = time.After(g.limit)
	}
	for {
		select {
		case s := <-keys:
			interrupted = true
			_ = cmd.Process.Signal(s) // a terminal has sent it to the command already
		case <-late:
			fmt.Fprintf(g.out, "%s the command takes longer than %s.\n", g.bad("Stopped:"), took(g.limit))
			_ = cmd.Process.Signal(syscall.SIGTERM)
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

// cachedScripts is after how long a server has seen that its scripts differ.
const cachedScripts = 2500 * time.Millisecond

// scriptsChanged tells whether the command has touched files that are run. What
// cannot be told counts as yes.
func (g *guarding) scriptsChanged(ctx context.Context, rec *archive.Record) bool {
	h, err := g.find(ctx, rec.Name, time.Time{})
	if err != nil {
		return true
	}
	live, err := g.liveSide(g.site)
	if err != nil {
		return true
	}
	h.Record = rec // as it was written, open even when it is sealed in the stores
	r, err := compare.Job{A: compare.Archive{Held: h, Lines: backup.KnownLines(ctx, g.state, g.site, rec.Name)}, B: live, Recipe: live.Site.Recipe, Files: true}.Run(ctx)
	return err != nil || slices.ContainsFunc(r.Files, func(f compare.File) bool { return changes.Executable(f.Path) })
}

// pause is how long to wait between two looks at a site that does not work yet.
const pause = time.Second

// await asks the site until it works, or patience is at an end.
func (g *guarding) await(ctx context.Context) []check.Result {
	deadline := time.Now().Add(g.patience)
	for {
		answers, err := g.checkNamed(ctx, g.site)
		if err != nil {
			return []check.Result{{URL: g.config.Sites[g.site].Address, Trouble: err.Error()}}
		}
		if check.Worst(answers).OK() || time.Now().After(deadline) {
			return answers
		}
		time.Sleep(pause)
	}
}

// fine ends a guard after which the site works.
func (g *guarding) fine(ran error, rec *archive.Record, run history.Run) error {
	if ran != nil {
		run.Outcome, run.Detail = history.Failed, run.Detail+": "+ran.Error()
		g.remember(context.Background(), run)
		return &exitError{exitFailed, fmt.Errorf("the command failed (%w), and the site works; nothing was put back. `revlet restore %s` would do that", ran, rec.Name)}
	}
	g.remember(context.Background(), run)
	fmt.Fprintf(g.out, "%s the site works. %s stays; `revlet restore %s` takes the command back.\n", g.good("Fine:"), rec.Name, rec.Name)
	return nil
}

// putBack restores the site as it was before the command, and says what the
// command had changed.
func (g *guarding) putBack(ctx context.Context, rec *archive.Record, run history.Run) error {
	fmt.Fprintf(g.out, "%s the site does not work any more. Putting it back from %s.\n", g.bad("Broken:"), rec.Name)
	help := fmt.Sprintf("`revlet restore %s` tries again", rec.Name)
	h, err := g.find(ctx, rec.Name, time.Time{})
	if err != nil {
		return fmt.Errorf("%w\n%s is BROKEN and not put back; %s", err, g.site, help)
	}
	h.Record = rec // as it was written, open even when it is sealed in the stores
	g.sayChanges(ctx, h)
	err = g.restoreWhole(ctx, h)
	if err != nil {
		run.Outcome, run.Detail = history.Failed, err.Error()
		g.remember(ctx, run)
		return fmt.Errorf("%w\n%s is BROKEN and not put back; %s", err, g.site, help)
	}
	run.Detail += ": it broke the site, which was put back"
	run.Outcome = history.Failed
	g.remember(ctx, run)
	answers := g.await(ctx)
	for _, r := range answers {
		fmt.Fprintln(g.out, g.checked(r))
	}
	if worst := check.Worst(answers); !worst.OK() {
		return &exitError{exitFailed, fmt.Errorf("%s was put back from %s, and does not work even so: look at the web server and the database server", g.site, rec.Name)}
	}
	fmt.Fprintf(g.out, "%s as before the command.\nWhat it had made is set aside: `revlet undo %s` brings it back to study, `revlet settle %s` deletes it.\n", g.good("Put back,"), g.site, g.site)
	return &exitError{code: exitPutBack}
}

// sayChanges lists what the command has changed, as far as that can be told.
func (g *guarding) sayChanges(ctx context.Context, h *catalog.Held) {
	live, err := g.liveSide(g.site)
	if err != nil {
		fmt.Fprintf(g.out, "What the command changed cannot be told: %s\n", printableText(err.Error()))
		return
	}
	job := compare.Job{A: compare.Archive{Held: h}, B: live, Recipe: live.Site.Recipe, Files: true, Tables: true}
	r, err := job.Run(ctx)
	if err != nil {
		job.Tables = false // the database may be what is broken
		r, err = job.Run(ctx)
	}
	if err != nil {
		fmt.Fprintf(g.out, "What the command changed cannot be told: %s\n", printableText(err.Error()))
		return
	}
	g.showCompared(h, "what the command has left", r, false)
	fmt.Fprintln(g.out)
}

// restoreWhole puts a site back from an archive without asking.
func (g *guarding) restoreWhole(ctx context.Context, h *catalog.Held) error {
	unlock, err := g.state.Lock(g.site)
	if err != nil {
		return err
	}
	defer unlock()
	s, err := g.restoreSite(ctx, h)
	if err != nil {
		return err
	}
	if err := g.recover(ctx, s); err != nil {
		return err
	}
	_, err = restore.Run(ctx, restore.Job{Site: s, Archive: h, Files: true, Database: len(h.Origin.Databases) > 0, State: g.state, Open: g.openTarget, Now: g.now, Drain: drain()})
	return err
}

// confirms asks a question; without a terminal the answer is yes.
func (g *guarding) confirms(question string) bool {
	if !terminal(g.in) {
		return true
	}
	fmt.Fprintf(g.out, "%s [Y/n] ", question)
	answer, err := bufio.NewReader(g.in).ReadString('\n')
	return err == nil && !strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "n")
}
