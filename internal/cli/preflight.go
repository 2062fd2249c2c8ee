package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"revlet/internal/work/preflight"
)

func (a *app) preflightCommand() *cli.Command {
	return &cli.Command{
		Name: "preflight", Usage: "would a backup work? what is large, unreadable, open to the world?", ArgsUsage: "[SITE…]",
		Description: "Looks at everything and changes nothing. The exit code is 1 when something stands\n" +
			"in the way of a backup.",
		Flags: []cli.Flag{jsonFlag}, Action: a.preflight,
	}
}

func (a *app) preflight(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
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
			a.showFindings(name, found)
		}
	}
	if c.Bool("json") {
		if err := a.printJSON(map[string]any{"sites": all}); err != nil {
			return err
		}
	}
	if stopped {
		return &exitError{code: exitFailed}
	}
	return nil
}

func (a *printer) showFindings(name string, found []preflight.Finding) {
	fmt.Fprintln(a.out, a.bold(name))
	headings := map[preflight.Level]string{
		preflight.Stop:   a.bad("Stands in the way"),
		preflight.Look:   a.bold("Look at this"),
		preflight.Passed: a.good("Passed"),
	}
	for _, level := range []preflight.Level{preflight.Stop, preflight.Look, preflight.Passed} {
		var lines [][2]string
		for _, f := range found {
			if f.Level == level {
				lines = append(lines, [2]string{f.About, printableText(f.Text + adviceFor(f.Reason))})
			}
		}
		if len(lines) > 0 {
			fmt.Fprintf(a.out, "\n%s\n", headings[level])
			a.facts(lines)
		}
	}
	fmt.Fprintln(a.out)
}
