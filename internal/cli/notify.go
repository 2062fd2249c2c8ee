package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/jobs"
)

func (a *app) notifyCommand() *cli.Command {
	return &cli.Command{
		Name: "notify", Usage: "what tells you of runs",
		Commands: []*cli.Command{{
			Name: "test", Usage: "send a test message by every way that is configured",
			Flags: []cli.Flag{jsonFlag}, Action: a.notifyTest,
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
	failed := slices.ContainsFunc(sent, func(s jobs.Sent) bool { return s.Err != nil })
	if c.Bool("json") {
		all := []map[string]any{}
		for _, s := range sent {
			all = append(all, map[string]any{"to": s.What, "sent": s.Err == nil, "why": errText(s.Err)})
		}
		err = a.PrintJSON(map[string]any{"messages": all})
		sent = nil
	}
	for _, s := range sent {
		if s.Err != nil {
			fmt.Fprintf(a.Out, "%s %s: %s\n", a.Bad("not sent:"), s.What, render.ErrText(s.Err))
			continue
		}
		fmt.Fprintf(a.Out, "%s %s\n", a.Good("sent:"), s.What)
	}
	if err == nil && failed {
		return &exitError{code: exitFailed}
	}
	return err
}

// errText is an error's text; empty for none.
func errText(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}
