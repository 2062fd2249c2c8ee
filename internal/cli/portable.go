package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/portable"
	"revlet/internal/cli/render"
	"revlet/internal/config"
	"revlet/internal/jobs"
)

func (a *app) exportCommand() *cli.Command {
	return &cli.Command{
		Name: "export", Usage: "write one portable file out of an archive", ArgsUsage: "ARCHIVE FILE",
		Description: "FILE ends in .zip, .tar or .tar.zst and opens on any computer: the plain tree under\n" +
			"files/, each database as database/LABEL.sql, and Revlet's record and list. It is not\n" +
			"encrypted. `revlet import FILE` and `revlet restore FILE` take it in again.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "split", Usage: "into pieces of `BYTES` (such as 500MB), for places with an upload limit"},
			beforeFlag, keyFlag, signedByFlag, jsonFlag,
		},
		Action: a.export,
	}
}

func (a *app) export(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return usageError("`revlet export` needs an ARCHIVE and the FILE to write; it got %d arguments", c.Args().Len())
	}
	var split uint64
	if text := c.String("split"); text != "" {
		var err error
		if split, err = humanize.ParseBytes(text); err != nil || split < leastPiece {
			return usageError("--split %q: it is an amount of at least 64 kB, such as 500MB", text)
		}
	}
	h, err := a.chosen(ctx, c, c.Args().First(), jobs.Need{Files: true, Database: true})
	if err == nil {
		err = a.jobs.NotInSites(c.Args().Get(1))
	}
	if err != nil {
		return err
	}
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	files, err := portable.Export{Archive: h, File: c.Args().Get(1), Split: int64(split), Disk: a.jobs.Disk, Observer: watch}.Run(ctx)
	done()
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"archive": h.Name, "files": render.NonNil(files)})
	}
	for _, f := range files {
		info, err := os.Stat(f)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "Wrote %s (%s)\n", f, render.Size(info.Size()))
	}
	if h.Encrypted {
		fmt.Fprintf(a.Out, "\n%s the archive is encrypted, this file is not.\n", a.Bad("Warning:"))
	}
	if split > 0 {
		fmt.Fprintln(a.Out, "\nThe pieces and the .sha256 file belong together; `sha256sum -c` checks them, `cat` joins them.")
	}
	return nil
}

// leastPiece is the least length of a piece.
const leastPiece = 64 << 10

func (a *app) importCommand() *cli.Command {
	return &cli.Command{
		Name: "import", Usage: "take in a portable file, or a copy made by hand", ArgsUsage: "FILE…",
		Description: "FILE is what `revlet export` wrote, or its pieces in any order; or a .zip, .tar.gz,\n" +
			".tar or .tar.zst of a webroot that somebody has packed by hand, with or without a\n" +
			"folder around it, and an .sql, plain or packed (.gz, .zst, .bz2, .zip),\n" +
			"from a database admin page. It becomes an archive, in all stores of the site.\n" +
			"Of when a copy made by hand is, nobody can tell: it is restored by its name, and\n" +
			"counts as the newest of a site that has no other.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "site", Usage: "the `SITE` that a copy made by hand is of"},
			&cli.StringFlag{Name: "store", Usage: "where a site that is not configured yet is to have its archives: a `STORE`, or a folder"},
			&cli.StringFlag{Name: "note", Usage: "`TEXT` that is shown with the archive"},
			jsonFlag,
		},
		Action: a.importFile,
	}
}

func (a *app) importFile(ctx context.Context, c *cli.Command) error {
	files := c.Args().Slice()
	if len(files) == 0 {
		return usageError("`revlet import` needs a FILE")
	}
	err := a.open(ctx, c)
	if errors.Is(err, config.ErrNone) {
		err = a.openBare(ctx, c)
	}
	if err != nil {
		return err
	}
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	d, err := a.jobs.Import(ctx, jobs.ImportOrder{Files: files, Site: c.String("site"), Note: c.String("note"), Store: c.String("store"), Observer: watch})
	done()
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.PrintJSON(map[string]any{"archives": []*archive.Record{d.Record}})
	} else {
		a.ShowBackup(d)
	}
	if err == nil && d.Incomplete() {
		return &exitError{code: exitGaps}
	}
	return err
}
