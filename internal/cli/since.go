package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

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
		return a.printJSON(struct {
			What string `json:"what"`
			compare.Sighting
		}{what, seen})
	}
	a.showSince(printable(strings.TrimPrefix(what, "/")), seen)
	return nil
}

func (a *printer) showSince(what string, s compare.Sighting) {
	switch {
	case s.FirstSeen == "":
		fmt.Fprintf(a.out, "%s is newer than every archive: none has it.\n", what)
	case s.Clean == "":
		fmt.Fprintf(a.out, "%s is in every archive, back to %s (%s).\n", what, when(s.Seen), s.FirstSeen)
	default:
		fmt.Fprintf(a.out, "%s: clean until %s (%s), first seen %s (%s).\n", what, when(s.CleanAt), s.Clean, when(s.Seen), s.FirstSeen)
	}
	switch s.AsItIs {
	case s.FirstSeen:
	case "":
		fmt.Fprintln(a.out, "No archive has it as it is now: it was changed since.")
	default:
		fmt.Fprintf(a.out, "As it is now since %s.\n", s.AsItIs)
	}
}
