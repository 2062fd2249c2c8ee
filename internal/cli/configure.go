package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"revlet/internal/jobs"
	"revlet/internal/work/preflight"
)

func (a *app) configCommand() *cli.Command {
	return &cli.Command{
		Name: "config", Usage: "check the configuration file",
		Commands: []*cli.Command{{
			Name: "check", Usage: "tell everything that is wrong with the configuration at once",
			Description: "Looks at what the file says, and whether the recipes, webroots, folders and secrets of this\n" +
				"machine that it names are there and nobody else's to read. Nobody is asked over a network:\n" +
				"`revlet preflight` and `revlet stores test` do that. The exit code is 2 when something is wrong.\n\n" +
				"Editors that know JSON Schema take docs/config.schema.json.",
			Flags: []cli.Flag{jsonFlag}, Action: a.configCheck,
		}},
	}
}

func (a *app) configCheck(_ context.Context, c *cli.Command) error {
	path, exists, err := a.locate(c)
	if err != nil {
		return err
	}
	if !exists {
		return usageError("there is no configuration at %s; `revlet adopt PATH` writes one", path)
	}
	found := jobs.CheckConfig(path, a.env("REVLET_KEY_FILE") != "")
	if c.Bool("json") {
		err = a.PrintJSON(map[string]any{"config": path, "findings": found})
	} else {
		a.ShowFindings(path, found)
	}
	if err == nil && slices.ContainsFunc(found, func(f preflight.Finding) bool { return f.Level == preflight.Stop }) {
		return &exitError{code: exitUsage}
	}
	return err
}
