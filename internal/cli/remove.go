package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/jobs"
)

func (a *app) removeCommand() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "delete one archive by hand", ArgsUsage: "ARCHIVE",
		Description: "Retention removes old archives by itself; this is for one that must not exist any more. ARCHIVE\n" +
			"is its whole name. What other archives share with it stays. Its line in the history stays,\n" +
			"too. A held archive has to be released first.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "store", Usage: "from this `STORE` only"},
			&cli.StringFlag{Name: "why", Usage: "`TEXT`: the reason, which is kept"},
			&cli.BoolFlag{Name: "anyway", Usage: "even the last good full archive of its site"},
			dryRunFlag, yesFlag, jsonFlag,
		},
		Action: a.remove,
	}
}

func (a *app) remove(ctx context.Context, c *cli.Command) error {
	name, err := oneArg(c, "ARCHIVE")
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	p, err := a.jobs.PlanRemoval(ctx, jobs.RemoveOrder{Archive: name, Store: c.String("store"), Why: c.String("why"), Anyway: c.Bool("anyway")})
	if err != nil {
		return err
	}
	if !c.Bool("json") {
		a.ShowRemoval(p)
	}
	if c.Bool("dry-run") {
		if c.Bool("json") {
			return a.PrintJSON(removalJSON(&jobs.Removed{RemovalPlan: p}, true))
		}
		fmt.Fprintln(a.Out, "Dry run: nothing was changed.")
		return nil
	}
	if err := a.confirmed(c, fmt.Sprintf("Delete %s for good?", name)); err != nil {
		return err
	}
	r, err := a.jobs.Remove(ctx, p)
	if c.Bool("json") {
		if err == nil || len(r.Gone) > 0 {
			_ = a.PrintJSON(removalJSON(r, false))
		}
	} else if len(r.Gone) > 0 {
		fmt.Fprintf(a.Out, "%s from %s; %s given back.\n", a.Good("Deleted"), strings.Join(r.Gone, ", "), render.Size(r.Freed))
	}
	for _, left := range r.Left {
		fmt.Fprintf(a.err, "warning: %s\n", render.PrintableText(left))
	}
	if err == nil && len(r.Stays)+len(r.Left) > 0 && c.String("store") == "" {
		return &exitError{code: exitGaps}
	}
	return err
}

func removalJSON(r *jobs.Removed, dry bool) map[string]any {
	stays := map[string]string{}
	for _, t := range r.Stays {
		stays[t.Store] = t.Err.Error()
	}
	return map[string]any{"archive": r.Order.Archive, "site": r.Site, "from": render.NonNil(r.From), "stays": stays, "gone": render.NonNil(r.Gone), "freed": r.Freed, "left": render.NonNil(r.Left), "last": r.Last, "dry_run": dry}
}
