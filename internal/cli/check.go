package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"revlet/internal/site/check"
)

func (a *app) checkCommand() *cli.Command {
	return &cli.Command{
		Name: "check", Usage: "ask a site over HTTP whether it works", ArgsUsage: "[SITE…]",
		Description: "Makes the requests in the site's `check:` and `checks:`, and looks for the CMS's own\n" +
			"signs of trouble: a blank page, one that breaks off, one that is a fraction of what it\n" +
			"was when the site was last backed up. The exit code is 4 when something is wrong.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "accept", Usage: "a page that has shrunk is right as it is now"}, jsonFlag}, Action: a.check,
	}
}

// checkedSite is the answer to one check of a site, as JSON too.
type checkedSite struct {
	Site string `json:"site"`
	check.Result
	Seconds float64 `json:"seconds"`
}

func (a *app) check(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	all := []checkedSite{}
	well := true
	for _, name := range names {
		answers, err := a.jobs.Check(ctx, name, c.Bool("accept"))
		if err != nil {
			return err
		}
		for _, r := range answers {
			all = append(all, checkedSite{name, r, r.Took.Seconds()})
			well = well && r.OK()
		}
		if len(answers) == 0 && !c.Bool("json") {
			fmt.Fprintf(a.Out, "%s has no check, or no address; `check: {path: /, contains: \"…\"}` makes one\n", name)
		}
	}
	if c.Bool("json") {
		err = a.PrintJSON(map[string]any{"checks": all})
	} else {
		for _, r := range all {
			fmt.Fprintf(a.Out, "%s  %s\n", r.Site, a.Checked(r.Result))
		}
	}
	if err == nil && !well {
		return &exitError{code: exitDamage}
	}
	return err
}
