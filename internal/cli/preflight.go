package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"revlet/internal/work/preflight"
)

func (a *app) preflightCommand() *cli.Command {
	return &cli.Command{
		Name: "preflight", Usage: "would a backup work? what is large, unreadable, open to the world?", ArgsUsage: "[SITE…]",
		Description: "Looks at everything and changes nothing. The exit code is 1 when something stands\n" +
			"in the way of a backup.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "trust", Usage: "accept the SSH key of the machine of a site elsewhere, if none is known"},
			&cli.BoolFlag{Name: "forget-host", Usage: "drop the accepted key first"},
			jsonFlag,
		}, Action: a.preflight,
	}
}

func (a *app) preflight(ctx context.Context, c *cli.Command) error {
	if c.Bool("forget-host") && !c.Args().Present() {
		return usageError("--forget-host needs the names of the sites whose machines have a new key")
	}
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	a.jobs.TrustHosts = c.Bool("trust")
	if c.Bool("forget-host") {
		if err := a.jobs.ForgetHosts(names); err != nil {
			return err
		}
	}
	all := map[string][]preflight.Finding{}
	stopped := false
	for _, name := range names {
		found, err := a.jobs.Preflight(ctx, name)
		if err != nil {
			return err
		}
		all[name] = found
		for _, f := range found {
			stopped = stopped || f.Level == preflight.Stop
		}
		if !c.Bool("json") {
			a.ShowFindings(name, found)
		}
	}
	if c.Bool("json") {
		if err := a.PrintJSON(map[string]any{"sites": all}); err != nil {
			return err
		}
	}
	if stopped {
		return &exitError{code: exitFailed}
	}
	return nil
}
