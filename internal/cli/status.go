package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/jobs"
	"revlet/internal/watch/history"
	"revlet/internal/watch/report"
)

func (a *app) statusCommand() *cli.Command {
	return &cli.Command{
		Name: "status", Usage: "tell in one line a site whether all is well (for monitoring)", ArgsUsage: "[SITE…]",
		Description: "The exit code is 0 when all is well, 3 when an archive has yet to come to a store, and\n" +
			"4 when there is an alarm that nobody has accepted, or no archive. What is told is what\n" +
			"this machine knows; --look asks every store first.\n\n" +
			"`status --accept SITE/ALARM --why TEXT` records that a person has looked: the alarm\n" +
			"counts no more, and removal by keep rules goes on.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "look", Usage: "ask every store what it has"},
			storePageFlag,
			&cli.StringSliceFlag{Name: "accept", Usage: "the `SITE/ALARM` that may be so; may be given again"},
			&cli.StringFlag{Name: "why", Usage: "`TEXT`: the reason, which is kept"},
			jsonFlag,
		},
		Action: a.status,
	}
}

func (a *app) status(ctx context.Context, c *cli.Command) error {
	if len(c.StringSlice("accept")) > 0 {
		if err := goesWith(c, "--accept", "why"); err != nil {
			return err
		}
		if err := a.open(ctx, c); err != nil {
			return err
		}
		return a.accept(ctx, c)
	}
	p, names, err := a.page(ctx, c)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		for i := range p.Sites {
			p.Sites[i].Archives, p.Sites[i].Runs = []report.Archive{}, []report.Run{}
		}
		err = a.PrintJSON(p)
	} else {
		a.ShowStatus(p, a.halfRestored(names), c.Args().Present())
	}
	if code := statusCode(p); err == nil && code != exitDone {
		return &exitError{code: code}
	}
	return err
}

var storePageFlag = &cli.StringFlag{Name: "store", Usage: "tell of all sites, of all machines, that keep archives in `STORE`, as their records there say"}

// page is what is to be told: of this machine's sites, which it returns too, or of all that a store has.
func (a *app) page(ctx context.Context, c *cli.Command) (p report.Page, names []string, err error) {
	if store := c.String("store"); store != "" {
		if err = a.openBare(ctx, c); err == nil {
			p, err = a.jobs.StorePage(ctx, store, c.Args().Slice())
		}
		return p, nil, err
	}
	if names, err = a.openSites(ctx, c); err == nil {
		p, err = a.jobs.Page(ctx, names, c.Bool("look"))
	}
	return p, names, err
}

// statusCode is what a monitor is told.
func statusCode(p report.Page) int {
	code := exitDone
	if len(p.NotKnown) > 0 {
		code = exitGaps
	}
	for i := range p.Sites {
		switch s := &p.Sites[i]; {
		case s.Health() == "none" || len(s.Open()) > 0:
			return exitDamage
		case s.Newest == nil:
			code = exitGaps
		case len(s.Pending) > 0:
			code = exitGaps
		}
	}
	return code
}

// halfRestored names the archives from which a restore has stopped half-way, by site.
func (a *app) halfRestored(names []string) map[string]string {
	all := map[string]string{}
	for _, name := range names {
		archive, err := a.jobs.HalfRestored(name)
		if err != nil {
			a.hear(jobs.Warning{Err: err})
		}
		if archive != "" {
			all[name] = archive
		}
	}
	return all
}

func (a *app) accept(ctx context.Context, c *cli.Command) error {
	if strings.TrimSpace(c.String("why")) == "" {
		return usageError("--accept needs --why TEXT: whoever reads it next year wants to know")
	}
	for _, one := range c.StringSlice("accept") {
		if _, _, ok := strings.Cut(one, "/"); !ok {
			return usageError("--accept %q: it is SITE/ALARM, such as kestrelpoint/mass-change", one)
		}
	}
	for _, one := range c.StringSlice("accept") {
		site, kind, _ := strings.Cut(one, "/")
		if err := a.jobs.Accept(ctx, site, kind, c.String("why")); err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "%s %s/%s\n", a.Good("Accepted:"), site, kind)
	}
	return nil
}

func (a *app) historyCommand() *cli.Command {
	return &cli.Command{
		Name: "history", Usage: "what was run, when, with what outcome", ArgsUsage: "[SITE]",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "command", Usage: "only runs of this `COMMAND`: backup, verify, restore, retention …"},
			&cli.BoolFlag{Name: "trouble", Usage: "only runs that were not all right"},
			&cli.StringFlag{Name: "since", Usage: "only runs from this `DATE` on"},
			beforeRunFlag,
			&cli.IntFlag{Name: "most", Value: 30, Usage: "at most `N`, the newest"},
			&cli.BoolFlag{Name: "archives", Usage: "every archive that ever was, those that are gone too"},
			jsonFlag,
		},
		Action: a.showHistory,
		Commands: []*cli.Command{{
			Name: "show", Usage: "one run with its whole log", ArgsUsage: "[N]", Flags: []cli.Flag{jsonFlag}, Action: a.showRun,
		}},
	}
}

var beforeRunFlag = &cli.StringFlag{Name: "before", Usage: "only runs before this `DATE` (2026-11-20 or 2026-11-20 14:00)"}

func (a *app) showHistory(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	if len(names) > 1 && c.Args().Len() > 1 {
		return usageError("`revlet history` takes one SITE, or none for all")
	}
	if c.Bool("archives") {
		return a.showEveryArchive(ctx, c, names)
	}
	filter := history.RunFilter{Command: c.String("command"), Trouble: c.Bool("trouble"), Most: c.Int("most")}
	if c.Args().Present() {
		filter.Site = c.Args().First()
	}
	if filter.Before, err = before(c); err != nil {
		return err
	}
	if filter.Since, err = date("--since", c.String("since")); err != nil {
		return err
	}
	runs, err := a.jobs.History.Runs(ctx, filter)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		all := []report.Run{}
		for _, r := range runs {
			all = append(all, report.RunOf(r))
		}
		return a.PrintJSON(map[string]any{"runs": all})
	}
	if len(runs) == 0 {
		fmt.Fprintln(a.Out, "No runs.")
		return nil
	}
	var rows [][]string
	var began render.Clock
	for _, r := range runs {
		rows = append(rows, []string{fmt.Sprint(r.ID), began.Cell(r.Started), r.Site, r.Command, a.Outcome(r.Outcome), render.Took(r.Finished.Sub(r.Started)), newBytes(r), r.Origin, summary(r)})
	}
	a.Table([]string{"run", began.Heading("began"), "site", "command", "outcome", "took", "new", "by", ""}, rows, 1, 6, 7)
	return nil
}

func newBytes(r history.Run) string {
	if r.Bytes == 0 {
		return ""
	}
	return render.Size(r.NewBytes)
}

// summary is what a line has to say of a run.
func summary(r history.Run) string {
	if r.Detail != "" {
		return render.PrintableText(render.FirstLine(r.Detail))
	}
	return r.Archive
}

func (a *app) showRun(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	filter := history.RunFilter{Most: 1}
	if c.Args().Present() {
		n, err := strconv.ParseInt(c.Args().First(), 10, 64)
		if err != nil || n < 1 {
			return usageError("%q is no number of a run; `revlet history` lists them", c.Args().First())
		}
		filter.ID = n
	}
	runs, err := a.jobs.History.Runs(ctx, filter)
	if err != nil {
		return err
	}
	if len(runs) == 0 {
		return usageError("there is no run %s; `revlet history` lists them", c.Args().First())
	}
	r := runs[0]
	if c.Bool("json") {
		return a.PrintJSON(struct {
			report.Run
			Log string `json:"log"`
		}{report.RunOf(r), r.Log})
	}
	fmt.Fprintf(a.Out, "%s\n\n", a.Bold(fmt.Sprintf("Run %d: %s of %s", r.ID, r.Command, r.Site)))
	a.Facts([][2]string{{"began", render.When(r.Started)}, {"took", render.Took(r.Finished.Sub(r.Started))}, {"outcome", a.Outcome(r.Outcome)}, {"why", render.PrintableLines(strings.TrimSpace(r.Detail))}, {"by", r.Origin}, {"duty", r.Duty},
		{"archive", r.Archive}, {"new", newBytes(r)}, {"stores", strings.Join(r.Stores, ", ")}})
	if r.Log != "" {
		fmt.Fprintf(a.Out, "\n%s\n", render.PrintableLines(strings.TrimRight(r.Log, "\n")))
	}
	return nil
}

// showEveryArchive lists the archives that this machine has ever known.
func (a *app) showEveryArchive(ctx context.Context, c *cli.Command, names []string) error {
	all := []report.Archive{}
	var rows [][]string
	var taken render.Clock
	for _, name := range names {
		known, archives, err := a.jobs.Remembered(ctx, name)
		if err != nil {
			return err
		}
		all = append(all, archives...)
		for _, h := range known {
			rows = append(rows, []string{h.Name, taken.Cell(h.Taken), h.Scope, render.Size(h.StoredBytes), render.Size(h.NewBytes), a.Whereabouts(h), render.PrintableText(h.Note)})
		}
	}
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"archives": all})
	}
	a.Table([]string{"archive", taken.Heading("taken"), "scope", "size", "new", "where", "note"}, rows, 4, 5)
	return nil
}

func (a *app) reportCommand() *cli.Command {
	return &cli.Command{
		Name: "report", Usage: "the state of everything as a page, text or metrics", ArgsUsage: "[SITE…]",
		Description: "Writes one HTML page that needs nothing from elsewhere: health, a calendar of archives,\n" +
			"size and duration over time, what is kept where and why, alarms. --text is for a\n" +
			"terminal, --metrics is OpenMetrics text for a collector.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "to", Usage: "write into this `FILE` (default: revlet-report.html; - is the terminal)"},
			&cli.BoolFlag{Name: "text", Usage: "as text"},
			&cli.BoolFlag{Name: "metrics", Usage: "as OpenMetrics text"},
			&cli.BoolFlag{Name: "look", Usage: "ask every store first what it has"},
			storePageFlag,
			&cli.StringFlag{Name: "each", Usage: "write a page of its own for each site into `FOLDER`, as the site's entry says (report: …); older ones there are replaced"},
			jsonFlag,
		},
		Action: a.report,
	}
}

func (a *app) report(ctx context.Context, c *cli.Command) error {
	p, names, err := a.page(ctx, c)
	if err != nil {
		return err
	}
	if dir := c.String("each"); dir != "" {
		return a.reportEach(c, p, dir)
	}
	if !c.Args().Present() && !c.Bool("metrics") && !c.Bool("json") {
		if err := a.jobs.CompareWithLast(&p); err != nil {
			return err
		}
	}
	to := c.String("to")
	page := !c.Bool("text") && !c.Bool("metrics") && !c.Bool("json")
	if to == "" {
		to = map[bool]string{true: "revlet-report.html", false: "-"}[page]
	}
	text, err := a.rendered(p, c, a.halfRestored(names))
	if err != nil {
		return err
	}
	if to == "-" {
		_, err := fmt.Fprint(a.Out, text)
		return err
	}
	// It names sites, stores and what is wrong with them: for its owner only.
	if err := a.jobs.NotInSites(to); err != nil {
		return err
	}
	if err := a.jobs.Disk.WriteFile(to, []byte(text), 0o600); err != nil {
		return fmt.Errorf("write the report: %w", err)
	}
	if page {
		whole, _ := filepath.Abs(to)
		fmt.Fprintf(a.Out, "%s %s\n", a.Good("Written:"), whole)
	}
	return nil
}

// reportEach writes a page for each site, for those whose site it is.
func (a *app) reportEach(c *cli.Command, p report.Page, dir string) error {
	if c.Bool("text") || c.Bool("metrics") || c.Bool("json") || c.String("to") != "" {
		return usageError("--each writes pages, and where its folder is; neither --to, --text, --metrics nor --json go with it")
	}
	if err := a.jobs.Disk.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("write the reports: %w", err)
	}
	for i := range p.Sites {
		one := p
		one.Sites, one.Unsent, one.NotKnown = p.Sites[i:i+1], []string{}, nil
		var err error
		if one.Brand, err = a.jobs.Brand(p.Sites[i].Name); err != nil {
			return err
		}
		var out strings.Builder
		if err := one.HTML(&out); err != nil {
			return err
		}
		file := filepath.Join(dir, p.Sites[i].Name+".html")
		if err := a.jobs.Disk.WriteFile(file, []byte(out.String()), 0o600); err != nil {
			return fmt.Errorf("write the report: %w", err)
		}
		fmt.Fprintf(a.Out, "%s %s\n", a.Good("Written:"), file)
	}
	return nil
}

// rendered is a report in the form that was asked for.
func (a *app) rendered(p report.Page, c *cli.Command, half map[string]string) (string, error) {
	var out strings.Builder
	var err error
	switch {
	case c.Bool("metrics"):
		err = p.Metrics(&out)
	case c.Bool("json"):
		err = (&render.Printer{Out: &out}).PrintJSON(p)
	case c.Bool("text"):
		out.WriteString(a.Plain(func(text *render.Printer) { text.ShowReport(p, half) }))
	default:
		err = p.HTML(&out)
	}
	return out.String(), err
}
