package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/archives/catalog"
	"revlet/internal/work/rehearse"
)

func (a *app) rehearseCommand() *cli.Command {
	return &cli.Command{
		Name: "rehearse", Usage: "restore into scratch space, check it, and tell how long recovery takes", ArgsUsage: "[ARCHIVE]",
		Description: "Puts an archive back into a scratch folder and a scratch database server of its own,\n" +
			"compares every byte and every row with the archive, and throws the copy away. The live\n" +
			"site is not touched. Without ARCHIVE, the newest good one of each site is tried. With\n" +
			"`rehearse: {serve: …}` the copy is served and asked with the site's checks. The exit code\n" +
			"is 4 when an archive does not restore.",
		Flags: []cli.Flag{beforeFlag, keyFlag, jsonFlag}, Action: a.rehearse,
	}
}

// rehearsed is what came of a rehearsal, as JSON.
type rehearsed struct {
	Archive  string   `json:"archive"`
	Passed   bool     `json:"passed"`
	Trouble  []string `json:"trouble"`
	Paths    int64    `json:"paths"`
	Tables   int      `json:"tables"`
	Rows     int64    `json:"rows"`
	Files    float64  `json:"files_seconds"`
	Database float64  `json:"database_seconds"`
	Total    float64  `json:"seconds"`
	Servers  []string `json:"servers"`
	Tried    string   `json:"served"`
	// NotCompared are databases that were loaded and not compared.
	NotCompared []string `json:"not_compared"`
}

func (a *app) rehearse(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	limit, err := before(c)
	if err != nil {
		return err
	}
	typed := c.Args().Slice()
	if len(typed) == 0 {
		typed = a.jobs.Config.SiteNames()
	}
	all, passed := []rehearsed{}, true
	for _, one := range typed {
		h, err := a.jobs.FindFull(ctx, one, limit)
		if err != nil {
			return err
		}
		watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
		r, err := a.jobs.Rehearse(ctx, h, watch)
		done()
		if err != nil {
			return err
		}
		passed = passed && r.Passed()
		all = append(all, rehearsed{h.Name, r.Passed(), nonNil(r.Trouble), r.Paths, r.Tables, r.Rows, r.Files.Seconds(), r.Database.Seconds(), r.Total.Seconds(), nonNil(r.Servers), r.Tried, nonNil(r.NotCompared)})
		if !c.Bool("json") {
			a.showRehearsed(h, r)
		}
	}
	if c.Bool("json") {
		err = a.printJSON(map[string]any{"rehearsals": all})
	}
	if err == nil && !passed {
		return &exitError{code: exitDamage}
	}
	return err
}

func (a *printer) showRehearsed(h *catalog.Held, r *rehearse.Result) {
	verdict := a.good("Restores:")
	if !r.Passed() {
		verdict = a.bad("DOES NOT RESTORE:")
	}
	fmt.Fprintf(a.out, "%s %s, tried in scratch space\n\n", verdict, a.bold(h.Name))
	lines := [][2]string{
		{"files", fmt.Sprintf("%s in %s", count(r.Paths, "path", "paths"), took(r.Files))},
		{"database", fmt.Sprintf("%s, %s in %s", count(int64(r.Tables), "table", "tables"), count(r.Rows, "row", "rows"), took(r.Database))},
		{"recovery", "takes about " + took(r.Total) + " on this machine"},
	}
	if len(r.Servers) > 0 {
		lines = append(lines, [2]string{"server", "a scratch server of " + strings.Join(r.Servers, " and ")})
	}
	if r.Passed() && r.Tried != "" {
		lines = append(lines, [2]string{"served", "the copy works: " + r.Tried})
	}
	switch {
	case r.Passed() && len(r.NotCompared) > 0:
		lines = append(lines, [2]string{"compared", "every byte of the files is as it was saved"},
			[2]string{"", "database " + strings.Join(r.NotCompared, ", ") + ": it loads; what another program has written is not compared row by row"})
	case r.Passed():
		lines = append(lines, [2]string{"compared", "every byte and every row is as it was saved"})
	}
	for _, t := range r.Trouble {
		lines = append(lines, [2]string{"trouble", a.bad(printableText(t))})
	}
	a.facts(lines)
	fmt.Fprintln(a.out)
}
