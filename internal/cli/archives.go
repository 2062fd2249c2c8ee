package cli

import (
	"context"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/archives/catalog"
	"revlet/internal/cli/render"
	"revlet/internal/jobs"
)

func (a *app) archivesCommand() *cli.Command {
	return &cli.Command{
		Name: "archives", Usage: "list archives, newest first", ArgsUsage: "[SITE]",
		Flags: []cli.Flag{keyFlag, jsonFlag}, Action: a.archives,
	}
}

func (a *app) archives(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	l, err := a.jobs.Archives(ctx, names)
	if err != nil {
		return err
	}
	trouble := render.TroubleTexts(l.Trouble)
	if c.Bool("json") {
		err = a.PrintJSON(map[string]any{"archives": render.NonNil(l.Archives), "trouble": render.NonNil(trouble)})
	} else {
		a.ShowListing(l.Archives, trouble)
		for _, name := range names {
			if a.jobs.Onsite(name) && slices.ContainsFunc(l.Archives, func(one jobs.Listed) bool { return one.Site == name }) {
				a.WarnOnsite(name)
			}
		}
	}
	switch {
	case err != nil:
		return err
	case l.Verdict() != catalog.Sound:
		return verdictCode(l.Verdict())
	case l.Pending():
		return &exitError{code: exitGaps}
	}
	return nil
}

func (a *app) showCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "show one archive: contents, tables, parts, gaps", ArgsUsage: "ARCHIVE [PATTERN…]",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "files", Usage: "list every path, or those that match a PATTERN such as 'themes/**'"},
			&cli.BoolFlag{Name: "parts", Usage: "list every part"},
			beforeFlag, keyFlag, signedByFlag, jsonFlag,
		},
		Action: a.show,
	}
}

var beforeFlag = &cli.StringFlag{Name: "before", Usage: "with a site's name: the newest archive before `DATE` (2026-11-20 or 2026-11-20 14:00)"}

var signedByFlag = &cli.StringFlag{Name: "signed-by", Usage: "take an archive of this `KEY` too, whom nobody here knows: its SHA256:… fingerprint, or nobody"}

// before reads --before in local time.
func before(c *cli.Command) (time.Time, error) { return date("--before", c.String("before")) }

// date reads a moment as typed, in local time; nothing is the zero time.
func date(flag, typed string) (time.Time, error) {
	if typed == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{"2006-01-02", "2006-01-02 15:04", "2006-01-02 15:04:05", time.RFC3339} {
		if t, err := time.ParseInLocation(layout, typed, time.Local); err == nil {
			return t, nil
		}
	}
	// As it is printed: a zone that is the local one, or UTC, and not one that is only guessed.
	if t, err := time.ParseInLocation("2006-01-02 15:04 MST", typed, time.Local); err == nil && (t.Location() == time.Local || t.Location() == time.UTC) {
		return t, nil
	}
	return time.Time{}, usageError("%s %q is not a date such as 2026-11-20 or \"2026-11-20 14:00\"", flag, typed)
}

// openBefore opens everything, and reads --before.
func (a *app) openBefore(ctx context.Context, c *cli.Command) (time.Time, error) {
	if err := a.open(ctx, c); err != nil {
		return time.Time{}, err
	}
	return before(c)
}

// chosen opens everything and finds the archive that the arguments name; one
// that is sealed is opened, and whoever has its key is asked for that.
func (a *app) chosen(ctx context.Context, c *cli.Command, typed string, need jobs.Need) (*catalog.Held, error) {
	limit, err := a.openBefore(ctx, c)
	if err != nil {
		return nil, err
	}
	return a.jobs.FindOpen(ctx, typed, limit, need)
}

func (a *app) show(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) == 0 || len(args) > 1 && !c.Bool("files") {
		return usageError("`revlet show` needs one ARCHIVE; it got %d. With --files, patterns of paths may follow", len(args))
	}
	h, err := a.chosen(ctx, c, args[0], jobs.Need{})
	if err != nil {
		return err
	}
	if c.Bool("files") {
		return a.ShowFiles(ctx, h, args[1:], c.Bool("json"))
	}
	held, err := a.jobs.Show(ctx, h)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"record": h.Record, "components": held.Components, "tables": held.Tables, "stores": held.Stores, "pending": held.Pending, "verified": held.Verified, "signer": held.Signer})
	}
	a.ShowArchive(h, held)
	if c.Bool("parts") {
		a.ShowParts(h)
	}
	a.ShowGaps(h.Record, len(h.Gaps))
	return nil
}
