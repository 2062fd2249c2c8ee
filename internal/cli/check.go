package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"revlet/internal/check"
	"revlet/internal/site"
)

func (a *app) checkCommand() *cli.Command {
	return &cli.Command{
		Name: "check", Usage: "ask a site over HTTP whether it works", ArgsUsage: "[SITE…]",
		Description: "Makes the requests in the site's `check:` and `checks:`, and looks for the CMS's own\n" +
			"signs of trouble. The exit code is 4 when something is wrong.",
		Flags: []cli.Flag{jsonFlag}, Action: a.check,
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
		answers, err := a.checkNamed(ctx, name)
		if err != nil {
			return err
		}
		for _, r := range answers {
			all = append(all, checkedSite{name, r, r.Took.Seconds()})
			well = well && r.OK()
		}
		if len(answers) == 0 && !c.Bool("json") {
			fmt.Fprintf(a.out, "%s has no check, or no address; `check: {path: /, contains: \"…\"}` makes one\n", name)
		}
	}
	if c.Bool("json") {
		err = a.printJSON(map[string]any{"checks": all})
	} else {
		for _, r := range all {
			fmt.Fprintf(a.out, "%s  %s\n", r.Site, a.checked(r.Result))
		}
	}
	if err == nil && !well {
		return &exitError{code: exitDamage}
	}
	return err
}

// checkNamed asks a configured site; one that cannot be opened is asked without
// what its recipe knows.
func (a *app) checkNamed(ctx context.Context, name string) ([]check.Result, error) {
	cfg, err := a.siteConfig(name)
	if err != nil {
		return nil, err
	}
	s, err := site.Open(name, cfg)
	if err != nil {
		s = &site.Site{Name: name, Address: cfg.Address, Checks: cfg.AllChecks()}
	}
	return a.checkSite(ctx, s), nil
}
