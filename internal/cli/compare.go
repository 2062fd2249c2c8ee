package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/jobs"
	"revlet/internal/work/compare"
)

func (a *app) compareCommand() *cli.Command {
	return &cli.Command{
		Name: "compare", Usage: "what differs between an archive and another, or the live site", ArgsUsage: "A [B]",
		Description: "Without B, the live site is compared. What a person should look at first comes first:\n" +
			"scripts among uploads, files of the CMS itself that differ, hidden scripts, settings,\n" +
			"administrators, options that load code; each with the archive in which it first appeared.\n" +
			"Files of the same length and time are taken for the same unless --read is given; tables\n" +
			"are always read.\n" +
			"The exit code is 4 when something differs.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "read", Usage: "compare every file by its content"},
			&cli.StringFlag{Name: "only", Usage: "only `WHAT`: files or database"},
			&cli.StringFlag{Name: "table", Usage: "show which rows of `TABLE` differ, named with the site's prefix or without (DATABASE.TABLE where a site has several databases)"},
			&cli.StringFlag{Name: "text", Usage: "show how the text of the file `PATH` differs"},
			&cli.StringFlag{Name: "since", Usage: "tell in which archive `PATH`, a live file, or TABLE:COLUMN=VALUE, a row, first appeared"},
			&cli.BoolFlag{Name: "all", Usage: "list everything that differs, however much it is"},
			beforeFlag, keyFlag, signedByFlag, jsonFlag,
		},
		Action: a.compare,
	}
}

func (a *app) compare(ctx context.Context, c *cli.Command) error {
	if n := c.Args().Len(); n < 1 || n > 2 {
		return usageError("`revlet compare` needs one ARCHIVE, or two; it got %d", n)
	}
	for _, way := range []struct{ name, also string }{{"since", ""}, {"text", ""}, {"table", "all"}} {
		if !c.IsSet(way.name) {
			continue
		}
		if err := goesWith(c, "--"+way.name, "before", "signed-by", way.also); err != nil {
			return err
		}
	}
	limit, err := before(c)
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	with, err := a.jobs.Comparison(ctx, c.Args().First(), c.Args().Get(1), limit)
	if err != nil {
		return err
	}
	with.Read = c.Bool("read")
	switch {
	case c.String("since") != "":
		return a.since(ctx, c, with)
	case c.String("text") != "":
		return a.compareText(ctx, c, with)
	case c.String("table") != "":
		return a.compareTable(ctx, c, with)
	}
	return a.compareWhole(ctx, c, with)
}

// compareWhole compares everything, or one half.
func (a *app) compareWhole(ctx context.Context, c *cli.Command, with *jobs.Comparison) error {
	switch c.String("only") {
	case "":
	case "files":
		with.Tables = false
	case "database":
		with.Files = false
	default:
		return usageError("--only %q: it is files or database", c.String("only"))
	}
	r, err := with.Run(ctx)
	if err != nil {
		return err
	}
	h := with.Archive
	clean, err := a.jobs.Trace(ctx, with.Job, h.Site, r)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.PrintJSON(comparedJSON(h.Name, with.Name(), clean, r))
	} else {
		a.ShowCompared(h, with.Name(), r, c.Bool("all"))
		if clean != "" {
			fmt.Fprintf(a.Out, "\n%s has none of that: `revlet restore %s` makes the site exactly what it was then.\n", a.Bold(clean), clean)
		}
	}
	if err == nil && r.Same() && r.Unknown() {
		return &exitError{code: exitGaps} // nobody knows
	}
	if err == nil && !r.Same() {
		return &exitError{code: exitDamage}
	}
	return err
}

// comparedJSON is a comparison of a with b; clean is the newest archive without any of what is suspect.
func comparedJSON(a, b, clean string, r *compare.Report) any {
	return struct {
		A     string `json:"a"`
		B     string `json:"b"`
		Same  bool   `json:"same"`
		Clean string `json:"clean_archive"`
		*compare.Report
	}{a, b, r.Same() && !r.Unknown(), clean, r}
}

// compareText shows how a text file differs, as lines with those around them.
func (a *app) compareText(ctx context.Context, c *cli.Command, with *jobs.Comparison) error {
	path := strings.TrimPrefix(c.String("text"), "/")
	before, err := compare.TextIn(ctx, with.A, path)
	if err != nil {
		return err
	}
	after, err := compare.TextIn(ctx, with.B, path)
	if err != nil {
		return err
	}
	h := with.Archive
	if !before.There && !after.There {
		return usageError("there is no file %q on either side; `revlet show %s --files` lists them", path, h.Name)
	}
	lines := compare.TextLines(before, after)
	same := before == after
	if c.Bool("json") {
		err = a.PrintJSON(map[string]any{"a": h.Name, "b": with.Name(), "path": path, "same": same, "lines": render.NonNil(lines)})
	} else {
		a.ShowText(h, with.Name(), path, same, lines)
	}
	if err == nil && !same {
		return &exitError{code: exitDamage}
	}
	return err
}

// compareTable shows which rows of one table differ.
func (a *app) compareTable(ctx context.Context, c *cli.Command, with *jobs.Comparison) error {
	h := with.Archive
	r, err := a.jobs.CompareTable(ctx, with, c.String("table"))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.PrintJSON(struct {
			A     string `json:"a"`
			B     string `json:"b"`
			Table string `json:"table"`
			*compare.Rows
		}{h.Name, with.Name(), r.Table.Table, r})
	} else {
		a.ShowRows(h, with.Name(), r, c.Bool("all"))
	}
	if err == nil && r.AddedRows+r.RemovedRows+r.ChangedRows > 0 {
		return &exitError{code: exitDamage}
	}
	return err
}
