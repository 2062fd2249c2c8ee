package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"revlet/internal/jobs"
)

func (a *app) versionsCommand() *cli.Command {
	return &cli.Command{
		Name: "versions", Usage: "which archives have a file, and how it changed", ArgsUsage: "SITE PATTERN…",
		Description: "Looks through the lists of all archives of a site. PATTERN is relative to the webroot: a file,\n" +
			"a folder with all below it, or such as 'uploads/**/*.pdf'. `revlet extract ARCHIVE PATH` copies a\n" +
			"version out. Of an encrypted archive the key is needed. The exit code is 3 when an archive could\n" +
			"not be looked into.",
		Flags: []cli.Flag{keyFlag, jsonFlag}, Action: a.versions,
	}
}

func (a *app) versions(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) < 2 {
		return usageError("`revlet versions` needs a SITE and the files to look for, such as: revlet versions %s 'uploads/**/*.pdf'", orSite(args))
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	v, err := a.jobs.Versions(ctx, args[0], args[1:])
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.PrintJSON(v)
	} else {
		a.ShowVersions(v)
	}
	if err == nil && len(v.NotRead) > 0 {
		return &exitError{code: exitGaps}
	}
	return err
}

// orSite is the site that was typed, or the word for one.
func orSite(args []string) string {
	if len(args) > 0 {
		return args[0]
	}
	return "SITE"
}

func (a *app) spaceCommand() *cli.Command {
	return &cli.Command{
		Name: "space", Usage: "where the bytes are, and what a removal would give back", ArgsUsage: "[SITE…]",
		Description: "Tells for each store what a site's archives take there together, and of each archive what it alone\n" +
			"takes: that is what its removal would give back. What archives share is there once. Then the\n" +
			"components and tables of the newest one, the largest first.",
		Flags: []cli.Flag{keyFlag, jsonFlag}, Action: a.space,
	}
}

func (a *app) space(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	all := []*jobs.SiteSpace{}
	silent := false
	for _, name := range names {
		s, err := a.jobs.Space(ctx, name)
		if err != nil {
			return err
		}
		all = append(all, s)
		silent = silent || len(s.NotReached) > 0
		if !c.Bool("json") {
			a.ShowSpace(s)
		}
	}
	if c.Bool("json") {
		err = a.PrintJSON(map[string]any{"sites": all})
	}
	if err == nil && silent {
		return &exitError{code: exitGaps}
	}
	return err
}
