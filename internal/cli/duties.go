package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/jobs"
	"revlet/internal/watch/history"
)

func (a *app) dutiesCommand() *cli.Command {
	run := a.dueCommand()
	run.Name = "run"
	return &cli.Command{
		Name: "duties", Usage: "show what is scheduled, how it last went and when it is next", ArgsUsage: "[SITE…]",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "ahead", Value: 1, Usage: "show the next `N` times of each"},
			jsonFlag,
		},
		Action:   a.duties,
		Commands: []*cli.Command{run},
	}
}

func (a *app) duties(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	ahead := c.Int("ahead")
	if ahead < 1 || ahead > 1000 {
		return usageError("--ahead %d: it is 1 to 1000", ahead)
	}
	all := []jobs.Duty{}
	for _, name := range names {
		lines, err := a.jobs.Duties(ctx, name, ahead)
		if err != nil {
			return err
		}
		all = append(all, lines...)
	}
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"duties": all})
	}
	a.ShowDuties(all)
	for _, name := range names {
		if f, err := a.jobs.CutoverOf(name); err == nil && f != nil && f.Step == jobs.FinishDone {
			fmt.Fprintf(a.Out, "The duties of %s have stopped: it is %s since %s.\n", name, f.To, render.When(f.Ended))
		}
	}
	return nil
}

func (a *app) dueCommand() *cli.Command {
	return &cli.Command{
		Name: "due", Usage: "do what is due now, and return (for cron)",
		Description: "Carries out the duties whose time has come, one site after the other, but for one that\n" +
			"takes longer than half an hour; one that was missed while the machine was off is made up\n" +
			"for once. Says nothing when nothing is due, or when another run is at it; with --quiet,\n" +
			"nothing but what is wrong. When several sites had their turn, a table says what came of\n" +
			"each. Sends waiting messages.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "dry-run", Usage: "only say what is due"}, jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := a.open(ctx, c); err != nil {
				return err
			}
			a.sayClock(c)
			a.hush = c.Bool("quiet") || c.Bool("json")
			if c.Bool("dry-run") {
				return a.sayDue(ctx, c.Bool("json"))
			}
			return a.doDue(ctx, "due", c.Bool("json"))
		},
	}
}

func (a *app) sayDue(ctx context.Context, asJSON bool) error {
	due := []jobs.Duty{}
	for _, name := range a.jobs.Config.SiteNames() {
		lines, err := a.jobs.Duties(ctx, name, 1)
		if err != nil {
			return err
		}
		for _, l := range lines {
			if l.Due {
				due = append(due, l)
			}
		}
	}
	if asJSON {
		return a.PrintJSON(map[string]any{"duties": due})
	}
	for _, l := range due {
		fmt.Fprintf(a.Out, "%s: %s\n", l.Site, l.Duty)
	}
	if len(due) == 0 {
		fmt.Fprintln(a.Out, "Nothing is due.")
	}
	return nil
}

// doDue carries out what is due. Its exit code is that of the worst outcome.
func (a *app) doDue(ctx context.Context, origin string, asJSON bool) error {
	all, err := a.jobs.Due(ctx, origin)
	if origin != "serve" {
		rest, failed := a.jobs.Rest()
		all, err = append(all, rest...), errors.Join(err, failed)
	}
	if !a.hush && (a.logAs == "" || a.logAs == logText) {
		a.ShowDue(all)
	}
	if err != nil {
		return err
	}
	if asJSON {
		if err := a.PrintJSON(map[string]any{"done": dueJSON(all)}); err != nil {
			return err
		}
	}
	worst := exitDone
	for _, d := range all {
		worst = worse(worst, codeOf(d.Outcome))
	}
	if worst != exitDone {
		return &exitError{code: worst}
	}
	return nil
}

func dueJSON(done []jobs.DutyDone) (all []map[string]any) {
	all = []map[string]any{}
	for _, d := range done {
		all = append(all, map[string]any{"site": d.Site, "duty": d.Duty, "archive": d.Archive, "outcome": d.Outcome, "detail": d.Detail, "seconds": d.Took.Seconds()})
	}
	return all
}

// worse chooses the exit code to report of two.
func worse(x, y int) int {
	order := []int{exitDone, exitGaps, exitDamage, exitUsage, exitFailed}
	if slices.Index(order, y) > slices.Index(order, x) {
		return y
	}
	return x
}

// codeOf is the exit code for an outcome.
func codeOf(outcome string) int {
	switch outcome {
	case history.Failed:
		return exitFailed
	case history.Gaps, history.Waiting:
		return exitGaps
	case history.Damage:
		return exitDamage
	default:
		return exitDone
	}
}
