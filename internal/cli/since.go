package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/database"
	"revlet/internal/jobs"
	"revlet/internal/work/compare"
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
		return a.PrintJSON(struct {
			What string `json:"what"`
			compare.Sighting
		}{what, seen})
	}
	a.ShowSince(render.Printable(strings.TrimPrefix(what, "/")), seen)
	return nil
}
