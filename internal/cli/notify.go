package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
)

func (a *app) notifyCommand() *cli.Command {
	return &cli.Command{
		Name: "notify", Usage: "what tells you of runs",
		Commands: []*cli.Command{{
			Name: "test", Usage: "send a test message by every way that is configured",
			Action: a.notifyTest,
		}},
	}
}

func (a *app) notifyTest(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	sent, err := a.jobs.TestMessages(ctx)
	if err != nil {
		return err
	}
	failed := false
	for _, s := range sent {
		if s.Err != nil {
			failed = true
			fmt.Fprintf(a.Out, "%s %s: %s\n", a.Bad("not sent:"), s.What, render.PrintableText(s.Err.Error()))
			continue
		}
		fmt.Fprintf(a.Out, "%s %s\n", a.Good("sent:"), s.What)
	}
	if failed {
		return &exitError{code: exitFailed}
	}
	return nil
}
