package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
)

func (a *app) rehearseCommand() *cli.Command {
	return &cli.Command{
		Name: "rehearse", Usage: "restore into scratch space, check it, and tell how long recovery takes", ArgsUsage: "[ARCHIVE]",
		Description: "Puts an archive back into a scratch folder and a scratch database server of its own,\n" +
			"compares every byte and every row with the archive, and throws the copy away. The live\n" +
			"site is not touched. Without ARCHIVE, the newest good one of each site is tried. With\n" +
			"`rehearse: {serve: …}` the copy is served and asked with the site's checks. The exit code\n" +
			"is 4 when an archive does not restore.",
		Flags: []cli.Flag{beforeFlag, keyFlag, signedByFlag, jsonFlag}, Action: a.rehearse,
	}
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
		all = append(all, rehearsed{h.Name, r.Passed(), render.NonNil(r.Trouble), r.Paths, r.Tables, r.Rows, r.Files.Seconds(), r.Database.Seconds(), r.Total.Seconds(), render.NonNil(r.Servers), r.Tried, render.NonNil(r.NotCompared), render.NonNil(r.Counted), render.NonNil(r.Unlinked), render.NonNil(r.Cut)})
		if !c.Bool("json") {
			a.ShowRehearsed(h, r)
		}
	}
	if c.Bool("json") {
		err = a.PrintJSON(map[string]any{"rehearsals": all})
	}
	if err == nil && !passed {
		return &exitError{code: exitDamage}
	}
	return err
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
	// Counted are tables whose rows were counted and could not be compared.
	Counted []string `json:"counted"`
	// Unlinked are symbolic links that this system does not let this account make.
	Unlinked []string `json:"unlinked"`
	// Cut are links that led out of the copy, and were taken off before it was served.
	Cut []string `json:"cut"`
}
