package cli

import (
	"cmp"
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/jobs"
	"revlet/internal/platform/reason"
	"revlet/internal/work/restore"
)

func (a *app) undoCommand() *cli.Command {
	return &cli.Command{
		Name: "undo", Usage: "put back what the last restore set aside", ArgsUsage: "SITE",
		Flags: []cli.Flag{dryRunFlag, yesFlag, jsonFlag}, Action: a.undo,
	}
}

func (a *app) settleCommand() *cli.Command {
	return &cli.Command{
		Name: "settle", Usage: "delete the copy that a restore has kept; undo is impossible then", ArgsUsage: "SITE",
		Description: "Every restore keeps a copy of what it has replaced, so that it can be undone. This deletes\n" +
			"that copy. What of it no archive holds is named first, and deleted only when --unsaved\n" +
			"says so; `revlet aside export` keeps it.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "unsaved", Usage: "delete, too, what no archive holds"}, keyFlag, dryRunFlag, yesFlag, jsonFlag}, Action: a.settle,
	}
}

func (a *app) undo(ctx context.Context, c *cli.Command) error {
	name, journals, err := a.toTakeBack(ctx, c)
	if err != nil {
		return err
	}
	since := a.jobs.WrittenSince(ctx, journals[0])
	if !c.Bool("json") {
		a.ShowAside(journals)
		a.ShowDeletedByUndo(since)
	}
	if err := a.jobs.CheckUndo(ctx, journals[0]); err != nil {
		return err
	}
	if c.Bool("dry-run") {
		if c.Bool("json") {
			return a.PrintJSON(map[string]any{"site": name, "restores": len(journals), "written_since": since, "dry_run": true})
		}
		fmt.Fprintln(a.Out, "Dry run: nothing was changed.")
		return nil
	}
	if err := a.confirmed(c, fmt.Sprintf("Undo the restore of %s from %s? What was restored will be deleted, with what was written to it since.", name, journals[0].Archive)); err != nil {
		return err
	}
	done, err := a.jobs.Undo(ctx, journals[0])
	return a.tookBack(c, name, done, since, err)
}

func (a *app) settle(ctx context.Context, c *cli.Command) error {
	name, journals, err := a.toTakeBack(ctx, c)
	if err != nil {
		return err
	}
	unsaved, err := a.jobs.Unsaved(ctx, name)
	if err != nil {
		return err
	}
	lose := c.Bool("unsaved")
	if !c.Bool("json") {
		a.ShowAside(journals)
		a.ShowUnsaved(unsaved)
	}
	if gone := a.jobs.CheckUndo(ctx, journals...); reason.Is(gone, reason.AsideGone) {
		a.warning("%v", gone)
	}
	if err := a.jobs.CheckSettle(ctx, journals...); err != nil {
		return err
	}
	if c.Bool("dry-run") {
		if c.Bool("json") {
			return a.PrintJSON(map[string]any{"site": name, "restores": len(journals), "unsaved": unsavedJSON(unsaved), "dry_run": true})
		}
		fmt.Fprintln(a.Out, "Dry run: nothing was changed.")
		return nil
	}
	if err := a.confirmed(c, fmt.Sprintf("Delete for good what was set aside from %s by the restore of %s?", name, journals[0].Archive)); err != nil {
		return err
	}
	if !lose && !unsaved.Empty() && !c.Bool("yes") {
		if err := a.typed("Delete, too, what no archive holds? Type \"unsaved\" to do so: ", "unsaved"); err != nil {
			return err
		}
		lose = true
	}
	done, err := a.jobs.Settle(ctx, journals[0], lose)
	return a.tookBack(c, name, done, nil, err)
}

// toTakeBack finds the restores of the site that was typed.
func (a *app) toTakeBack(ctx context.Context, c *cli.Command) (string, []*restore.Journal, error) {
	name, err := oneArg(c, "SITE")
	if err != nil {
		return "", nil, err
	}
	if err := a.open(ctx, c); err != nil {
		return "", nil, err
	}
	journals, err := a.jobs.ToTakeBack(ctx, name)
	return name, journals, err
}

// tookBack says what undo or settle has done; since is what undo has deleted.
func (a *app) tookBack(c *cli.Command, name string, done []restore.Outcome, since *jobs.WrittenSince, err error) error {
	var left []string
	for _, o := range done {
		left = append(left, o.Left...)
	}
	var unfinished error
	if len(left) > 0 {
		unfinished = &exitError{code: exitGaps}
	}
	if c.Bool("json") && err == nil {
		notes := []string{}
		for _, o := range done {
			notes = append(notes, o.Notes...)
		}
		all := map[string]any{"site": name, "did": done[0].Did, "restores": len(done), "notes": notes, "left": render.NonNil(left)}
		if since != nil {
			all["written_since"] = since
		}
		return cmp.Or(a.PrintJSON(all), unfinished)
	}
	for _, o := range done {
		if o.Did == "undone" {
			if since != nil && since.Elsewhere != "" {
				fmt.Fprintf(a.Out, "%s the restore of %s. What serves %s was not touched: %s\n", a.Good("Undone:"), o.Journal.Archive, name, render.PrintableText(since.Elsewhere))
			} else {
				fmt.Fprintf(a.Out, "%s %s is as it was before the restore of %s.\n", a.Good("Undone:"), name, o.Journal.Archive)
			}
			for _, n := range o.Notes {
				fmt.Fprintf(a.Out, "note: %s\n", render.PrintableText(n))
			}
		} else {
			fmt.Fprintf(a.Out, "%s what the restore of %s had set aside is deleted.\n", a.Good("Settled:"), o.Journal.Archive)
		}
	}
	a.tellLeft(left)
	return cmp.Or(err, unfinished)
}

// tellLeft says what could not be deleted.
func (a *app) tellLeft(folders []string) {
	for _, f := range folders {
		a.warning("this account may not delete all that is in %s, such as what belongs to another account. Nothing needs it any more: the administrator of the machine can delete that folder.", f)
	}
}

// unsavedJSON is what no archive holds, with empty lists where there is nothing.
func unsavedJSON(u *jobs.Unsaved) map[string]any {
	return map[string]any{"files": render.NonNil(u.Files), "tables": render.NonNil(u.Tables), "unread": render.NonNil(u.Unread), "unknown": render.NonNil(u.Unknown)}
}
