package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/database"
	"revlet/internal/jobs"
)

// since walks back through the archives and tells in which a live file, or a row,
// first appeared.
func (a *app) since(ctx context.Context, c *cli.Command, with *jobs.Comparison) error {
	what := c.String("since")
	var row *database.RowPick
	if picks, err := rowPicks(what); err == nil && len(picks) == 1 {
		row = &picks[0]
	}
	seen, err := a.jobs.Since(ctx, with, what, row)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.PrintJSON(struct {
			What string `json:"what"`
			jobs.SightingNow
		}{what, seen})
	} else {
		a.ShowSince(render.Printable(strings.TrimPrefix(what, "/")), seen)
	}
	if err == nil && seen.NotAsked != "" {
		err = &exitError{code: exitGaps}
	}
	return err
}
