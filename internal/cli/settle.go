package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/jobs"
	"revlet/internal/site"
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
		Name: "settle", Usage: "delete for good what restores have set aside", ArgsUsage: "SITE",
		Description: "The restores can then not be undone any more. What no archive holds is named\n" +
			"first, and deleted only when --unsaved says so; `revlet aside export` keeps it.",
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
		a.showAside(journals)
		a.showDeletedByUndo(since)
	}
	if c.Bool("dry-run") {
		if c.Bool("json") {
			return a.printJSON(map[string]any{"site": name, "restores": len(journals), "written_since": since, "dry_run": true})
		}
		fmt.Fprintln(a.out, "Dry run: nothing was changed.")
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
		a.showAside(journals)
		a.showUnsaved(unsaved)
	}
	if c.Bool("dry-run") {
		if c.Bool("json") {
			return a.printJSON(map[string]any{"site": name, "restores": len(journals), "unsaved": unsavedJSON(unsaved), "dry_run": true})
		}
		fmt.Fprintln(a.out, "Dry run: nothing was changed.")
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
	journals, err := a.jobs.ToTakeBack(name)
	return name, journals, err
}

// tookBack says what undo or settle has done; since is what undo has deleted.
func (a *app) tookBack(c *cli.Command, name string, done []restore.Outcome, since *jobs.WrittenSince, err error) error {
	if c.Bool("json") && err == nil {
		notes := []string{}
		for _, o := range done {
			notes = append(notes, o.Notes...)
		}
		all := map[string]any{"site": name, "did": done[0].Did, "restores": len(done), "notes": notes}
		if since != nil {
			all["written_since"] = since
		}
		return a.printJSON(all)
	}
	for _, o := range done {
		if o.Did == "undone" {
			fmt.Fprintf(a.out, "%s %s is as it was before the restore of %s.\n", a.good("Undone:"), name, o.Journal.Archive)
			for _, n := range o.Notes {
				fmt.Fprintf(a.out, "note: %s\n", printableText(n))
			}
		} else {
			fmt.Fprintf(a.out, "%s what the restore of %s had set aside is deleted.\n", a.good("Settled:"), o.Journal.Archive)
		}
	}
	return err
}

func (a *printer) showAside(journals []*restore.Journal) {
	var lines [][2]string
	for _, j := range journals {
		lines = append(lines, [2]string{"set aside", fmt.Sprintf("%s, by the restore of %s", when(j.Started), j.Archive)})
		for _, place := range j.AsidePlaces() {
			lines = append(lines, [2]string{"", place})
		}
	}
	a.facts(lines)
	fmt.Fprintln(a.out)
}

// showDeletedByUndo names what undo deletes beside what was restored.
func (a *printer) showDeletedByUndo(w *jobs.WrittenSince) {
	if w.Empty() {
		return
	}
	if w.Unknown != "" {
		fmt.Fprintf(a.out, "%s what was written since the restore, and is deleted by undo: %s\n\n", a.bad("Unknown:"), printableText(w.Unknown))
		return
	}
	fmt.Fprintln(a.out, "Written since the restore, and deleted by undo:")
	for _, t := range w.Tables[:min(len(w.Tables), unsavedShown)] {
		fmt.Fprintf(a.out, "  table %s of database %s\n", printable(t.Table), t.Database)
	}
	if more := len(w.Tables) - unsavedShown; more > 0 {
		fmt.Fprintf(a.out, "  … and %s\n", count(int64(more), "more table", "more tables"))
	}
	for _, f := range w.Files[:min(len(w.Files), unsavedShown)] {
		fmt.Fprintf(a.out, "  %-8s %s  %s\n", f.How, printable(strings.TrimPrefix(f.Path, site.RootLabel+"/")), size(f.After))
	}
	if more := len(w.Files) - unsavedShown; more > 0 {
		fmt.Fprintf(a.out, "  … and %s; --json --dry-run lists them\n", count(int64(more), "more file", "more files"))
	}
	fmt.Fprintln(a.out)
}

// unsavedShown is how much of what no archive holds is listed.
const unsavedShown = 12

func (a *printer) showUnsaved(u *jobs.Unsaved) {
	if u.Empty() {
		return
	}
	fmt.Fprintf(a.out, "%s no archive holds this:\n", a.bad("Exists nowhere else:"))
	for _, t := range u.Tables[:min(len(u.Tables), unsavedShown)] {
		fmt.Fprintf(a.out, "  table %s of database %s, as it was, with %s\n", printable(t.Table), t.Database, count(t.Rows, "row", "rows"))
	}
	if more := len(u.Tables) - unsavedShown; more > 0 {
		fmt.Fprintf(a.out, "  … and %s\n", count(int64(more), "more table", "more tables"))
	}
	for _, f := range u.Files[:min(len(u.Files), unsavedShown)] {
		fmt.Fprintf(a.out, "  %s  %s\n", printable(strings.TrimPrefix(f.Path, site.RootLabel+"/")), size(f.Bytes))
	}
	if more := len(u.Files) - unsavedShown; more > 0 {
		fmt.Fprintf(a.out, "  … and %s (%s in all); --json --dry-run lists them\n", count(int64(more), "more file", "more files"), size(u.Bytes()))
	}
	for _, one := range u.Unknown {
		fmt.Fprintf(a.out, "  %s cannot be looked into: %s\n", a.bad("Unknown:"), printableText(one))
	}
	for _, one := range u.Unread[:min(len(u.Unread), scriptsShown)] {
		fmt.Fprintf(a.out, "%s not looked into: %s\n", a.bad("Unknown:"), printableText(one))
	}
	if more := len(u.Unread) - scriptsShown; more > 0 {
		fmt.Fprintf(a.out, "  … and %d more were not looked into\n", more)
	}
	fmt.Fprintln(a.out)
}

// unsavedJSON is what no archive holds, with empty lists where there is nothing.
func unsavedJSON(u *jobs.Unsaved) map[string]any {
	return map[string]any{"files": nonNil(u.Files), "tables": nonNil(u.Tables), "unread": nonNil(u.Unread), "unknown": nonNil(u.Unknown)}
}
