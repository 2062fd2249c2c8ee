package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/config"
	"revlet/internal/jobs"
)

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
			keyFlag, jsonFlag,
		},
		Action: a.guard,
	}
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
	keys := make(chan os.Signal, 8)
	signal.Notify(keys, os.Interrupt, syscall.SIGTERM)
	defer signal.Stop(keys)
	out, theirs := a.Out, a.Out
	if gate, ok := a.Out.(*output); ok {
		theirs = gate.to // the command is the user's own, and may want the terminal itself
	}
	if c.Bool("json") {
		a.Out, theirs = a.err, a.err
	}
	g, err := a.jobs.Guard(ctx, jobs.GuardOrder{Site: args[0], Command: args[1:], Patience: patience, Limit: limit, Anyway: c.Bool("anyway"), KeepBroken: c.Bool("keep-broken"),
		In: a.in, Out: theirs, Err: a.err, Signals: keys, Ask: a.guardAsks})
	if err != nil {
		return err
	}
	err = a.guarded(g)
	if a.Out = out; c.Bool("json") {
		return cmp.Or(a.PrintJSON(map[string]any{"site": g.Site, "archive": g.Archive, "outcome": g.Outcome, "why": errText(g.Err), "checks": render.NonNil(g.Answers)}), err)
	}
	return err
}

// guarded says how a guarded command ended.
func (a *app) guarded(g *jobs.Guarded) error {
	failed := func(format string, args ...any) error {
		return &exitError{exitFailed, fmt.Errorf(format, args...)}
	}
	switch g.Outcome {
	case jobs.BrokenBefore:
		fmt.Fprintln(a.Out, a.Checked(g.Answers[0]))
		return &exitError{exitDamage, fmt.Errorf("%s is broken already; mend it first, or add --anyway. The command was not run", g.Site)}
	case jobs.CommandFailed:
		return failed("the command failed (%w), and the site works; nothing was put back. `revlet restore %s` would do that", g.Err, g.Archive)
	case jobs.LeftBroken:
		return failed("%s is broken, and left as it is; `revlet compare %s` tells what the command changed, `revlet restore %s` puts the site back", g.Site, g.Archive, g.Archive)
	case jobs.Declined:
		return failed("%s is broken; `revlet restore %s` puts it back", g.Site, g.Archive)
	case jobs.NotPutBack:
		return failed("%s\n%s is BROKEN and not put back; `revlet restore %s` tries again", render.Advised(g.Err), g.Site, g.Archive)
	case jobs.StillBroken:
		return failed("%s was put back from %s, and does not work even so: look at the web server and the database server", g.Site, g.Archive)
	case jobs.PutBack:
		fmt.Fprintf(a.Out, "%s as before the command.\nWhat it had made is set aside: `revlet undo %s` brings it back to study, `revlet settle %s` deletes it.\n", a.Good("Put back,"), g.Site, g.Site)
		return &exitError{code: exitPutBack}
	default: // jobs.Fine
		fmt.Fprintf(a.Out, "%s the site works. %s stays; `revlet restore %s` takes the command back.\n", a.Good("Fine:"), g.Archive, g.Archive)
		return nil
	}
}

// hearGuard tells of what happens while a command is guarded.
func (a *app) hearGuard(e jobs.Event) {
	switch e := e.(type) {
	case jobs.GuardSaved:
		fmt.Fprintf(a.Out, "%s %s, %s of it new, in %s\n", a.Good("Saved"), a.Bold(e.Record.Name), render.Size(e.Record.Totals.NewBytes), render.Took(e.Took))
		a.ShowGaps(e.Record, render.GapsShown)
		fmt.Fprintf(a.Out, "%s\n", a.Dim("$ ")+a.Bold(strings.Join(e.Command, " ")))
	case jobs.GuardStopped:
		fmt.Fprintf(a.Out, "%s the command takes longer than %s.\n", a.Bad("Stopped:"), render.Took(e.Limit))
	case jobs.GuardAnswers:
		for _, r := range e.Answers {
			fmt.Fprintln(a.Out, a.Checked(r))
		}
	case jobs.GuardBroken:
		fmt.Fprintf(a.Out, "%s the site does not work any more. Putting it back from %s.\n", a.Bad("Broken:"), e.Archive)
	case jobs.GuardChanges:
		if e.Err != nil {
			fmt.Fprintf(a.Out, "What the command changed cannot be told: %s\n", render.ErrText(e.Err))
			return
		}
		a.ShowCompared(e.Held, "what the command has left", e.Report, false)
		fmt.Fprintln(a.Out)
	}
}

// guardAsks asks what becomes of the site after the command was interrupted;
// without a terminal the answer is yes.
func (a *app) guardAsks(q jobs.GuardQuestion) bool {
	if !terminal(a.in) {
		return true
	}
	question := "The command was stopped, and the site is broken. Put it back?"
	if q == jobs.LeaveIt {
		question = "The command was stopped, and the site works. Leave it as it is?"
	}
	fmt.Fprintf(a.Out, "%s [Y/n] ", question)
	answer, err := bufio.NewReader(a.in).ReadString('\n') // the first Ctrl-C is what it is asked about
	return err == nil && !strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "n")
}
