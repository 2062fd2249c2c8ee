package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/archives/archive"
	"revlet/internal/cli/render"
	"revlet/internal/jobs"
)

func (a *app) backupCommand() *cli.Command {
	return &cli.Command{
		Name: "backup", Usage: "take an archive now", ArgsUsage: "[SITE…]",
		Description: "Without SITE, every configured site is backed up: those on other machines several\n" +
			"at a time (`at_once:` in the configuration). An archive exists whole or not\n" +
			"at all. Files that did not change since the last archive are not read again; the\n" +
			"new one shares them with it. Files that cannot be read are named, and a store that\n" +
			"cannot be reached is made up for by the next run: the exit code is then 3, and also\n" +
			"when some of several sites failed.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "scope", Value: "full", Usage: "the `SCOPE`: full, files or database"},
			&cli.StringFlag{Name: "note", Usage: "`TEXT` that is shown with the archive"},
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
	order := jobs.Order{Scope: scope, Note: c.String("note"), Fresh: c.Bool("fresh"), Hold: c.Bool("hold")}
	quiet := c.Bool("quiet") || c.Bool("json")
	all := a.backupEach(ctx, names, order, quiet, c.Bool("json"))
	if c.Bool("json") {
		records, errs := []*archive.Record{}, map[string]string{}
		for _, b := range all {
			if b.Delivered != nil {
				records = append(records, b.Record)
			} else {
				errs[b.Site] = b.Err.Error()
			}
		}
		answer := map[string]any{"archives": records}
		if len(errs) > 0 {
			answer["failed"] = errs
		}
		if err := a.PrintJSON(answer); err != nil {
			return err
		}
	}
	return backupCode(all)
}

// backupEach backs sites up and shows what comes of it: of one site everything, of several
// a table.
func (a *app) backupEach(ctx context.Context, names []string, order jobs.Order, quiet, asJSON bool) []render.BackedUp {
	all := make([]render.BackedUp, len(names))
	if len(names) == 1 {
		o := order
		watch, done := a.observer(quiet)
		o.Observer, o.Estimate = watch, !quiet && terminal(a.err)
		d, err := a.jobs.Backup(ctx, names[0], o)
		done()
		if all[0] = (render.BackedUp{Site: names[0], Delivered: d, Err: err}); d != nil && !asJSON {
			a.ShowBackup(d)
		}
		return all
	}
	watches := a.several(quiet)
	defer watches.close()
	a.jobs.SideBySide(ctx, names, func(ctx context.Context, name string) {
		o := order
		o.Observer = watches.of(name)
		began := a.Now()
		d, err := a.jobs.Backup(ctx, name, o)
		one := render.BackedUp{Site: name, Delivered: d, Err: err, Took: a.Now().Sub(began)}
		all[slices.Index(names, name)] = one
		watches.done(name, one.Words())
	})
	for i, name := range names {
		if all[i].Site == "" {
			all[i] = render.BackedUp{Site: name, Err: context.Cause(ctx)}
		}
	}
	watches.close()
	if !quiet {
		fmt.Fprintln(a.err)
	}
	if !asJSON {
		a.ShowBackups(all)
	}
	for _, b := range all {
		if b.Err != nil {
			err := b.Err
			if !strings.Contains(err.Error(), b.Site) {
				err = fmt.Errorf("%s: %w", b.Site, err)
			}
			a.complain(err)
		}
	}
	return all
}

// backupCode is the outcome of a backup of some sites: one that failed beside others that
// did not leaves something to be done, as a gap does.
func backupCode(all []render.BackedUp) error {
	failed, gaps := 0, false
	for _, b := range all {
		if b.Err != nil {
			failed++
		} else {
			gaps = gaps || b.Incomplete()
		}
	}
	switch {
	case failed > 0 && len(all) == 1:
		return all[0].Err
	case failed == len(all):
		return &exitError{code: exitFailed}
	case failed > 0 || gaps:
		return &exitError{code: exitGaps}
	}
	return nil
}

// joined lists names.
func joined(names []string) string { return strings.Join(names, ", ") }
