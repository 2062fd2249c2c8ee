package cli

import (
	"context"
	"errors"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/archives/archive"
	"revlet/internal/cli/render"
	"revlet/internal/jobs"
)

func (a *app) backupCommand() *cli.Command {
	return &cli.Command{
		Name: "backup", Usage: "take an archive now", ArgsUsage: "[SITE…]",
		Description: "Without SITE, every configured site is backed up. An archive exists whole or not\n" +
			"at all. Files that did not change since the last one are not read again; their\n" +
			"parts are named again. Files that cannot be read are named, and a store that\n" +
			"cannot be reached is made up for by the next run: the exit code is then 3.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "scope", Value: "full", Usage: "the `SCOPE`: full, files or database"},
			&cli.StringFlag{Name: "note", Usage: "`TEXT` that says why, shown with the archive"},
			&cli.BoolFlag{Name: "hold", Usage: "exempt the archive from retention until 'revlet release'"},
			&cli.BoolFlag{Name: "fresh", Usage: "read everything, even what the last archive holds unchanged"},
			jsonFlag,
		},
		Action: a.backup,
	}
}

func (a *app) backup(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	scope, err := archive.ParseScope(c.String("scope"))
	if err != nil {
		return usageError("%w", err)
	}
	if len(names) == 0 {
		return usageError("no site is configured yet; `revlet adopt PATH` adds one")
	}
	quiet := c.Bool("quiet") || c.Bool("json")
	var failed error
	var records []*archive.Record
	gaps := false
	for _, name := range names {
		watch, done := a.observer(quiet)
		d, err := a.jobs.Backup(ctx, name, jobs.Order{Scope: scope, Note: c.String("note"), Fresh: c.Bool("fresh"), Hold: c.Bool("hold"), Observer: watch, Estimate: !quiet && terminal(a.err)})
		done()
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		gaps = gaps || d.Incomplete()
		records = append(records, d.Record)
		if !c.Bool("json") {
			a.ShowBackup(d)
		}
	}
	if c.Bool("json") {
		if err := a.PrintJSON(map[string]any{"archives": render.NonNil(records)}); err != nil {
			return err
		}
	}
	switch {
	case failed != nil:
		return failed
	case gaps:
		return &exitError{code: exitGaps}
	}
	return nil
}

// joined lists names.
func joined(names []string) string { return strings.Join(names, ", ") }
