package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
)

func (a *app) asideCommand() *cli.Command {
	return &cli.Command{
		Name: "aside", Usage: "what restores have replaced and set aside, as evidence",
		Description: "What is set aside lies outside the webroot, where no web server comes, until `revlet\n" +
			"undo` puts it back or `revlet settle` deletes it.",
		Commands: []*cli.Command{
			{Name: "list", Usage: "what is set aside, and where", ArgsUsage: "[SITE…]", Flags: []cli.Flag{jsonFlag}, Action: a.asideList},
			{Name: "show", Usage: "how the newest aside differs from the archive that was restored", ArgsUsage: "SITE",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "list everything that differs"}, keyFlag, jsonFlag}, Action: a.asideShow},
			{Name: "export", Usage: "pack the newest aside, files and tables, into a .tar.zst", ArgsUsage: "SITE FILE", Flags: []cli.Flag{jsonFlag}, Action: a.asideExport},
		},
	}
}

func (a *app) asideList(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	all, err := a.jobs.Asides(ctx, names)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"asides": all})
	}
	if len(all) == 0 {
		fmt.Fprintln(a.Out, "Nothing is set aside.")
		return nil
	}
	var rows [][]string
	var restored render.Clock
	for _, l := range all {
		files, size := fmt.Sprint(l.Files), render.Size(l.Bytes)
		if l.Unknown != "" {
			files, size = "?", "?"
		}
		rows = append(rows, []string{l.Site, restored.Cell(l.Restored), l.Archive, files, size, strings.Join(l.Places, "\n")})
	}
	a.Table([]string{"site", restored.Heading("restored"), "from", "files", "size", "what was there lies in"}, rows, 4, 5)
	for _, l := range all {
		if l.Unknown != "" {
			fmt.Fprintf(a.Out, "\n%s how much is set aside for %s cannot be told: %s\n", a.Bad("?"), l.Site, render.PrintableText(l.Unknown))
		}
	}
	return nil
}

func (a *app) asideShow(ctx context.Context, c *cli.Command) error {
	name, err := oneArg(c, "SITE")
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	r, err := a.jobs.CompareAside(ctx, name)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(comparedJSON(r.Archive.Name, r.Root, "", r.Report))
	}
	a.ShowCompared(r.Archive, "what is set aside ("+r.Root+")", r.Report, c.Bool("all"))
	for _, t := range r.Tables {
		fmt.Fprintf(a.Out, "\nSet aside in the database server: %s\n", t)
	}
	return nil
}

func (a *app) asideExport(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return usageError("`revlet aside export` needs a SITE and the FILE to write; it got %d arguments", c.Args().Len())
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	file, err := filepath.Abs(c.Args().Get(1))
	if err == nil {
		err = a.jobs.NotInSites(file)
	}
	if err != nil {
		return err
	}
	if err := a.jobs.ExportAside(ctx, c.Args().First(), file); err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"site": c.Args().First(), "file": file})
	}
	fmt.Fprintf(a.Out, "%s %s, readable for this account only. Do not unpack it where a web server comes.\n", a.Good("Written:"), file)
	return nil
}
