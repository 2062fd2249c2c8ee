package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

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
			&cli.StringSliceFlag{Name: "accept", Usage: "the `SITE/ALARM` that may be so; may be given again"},
			&cli.StringFlag{Name: "why", Usage: "`TEXT` that says why"},
			jsonFlag,
		},
		Action: a.status,
	}
}

func (a *app) status(ctx context.Context, c *cli.Command) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	if len(c.StringSlice("accept")) > 0 {
		return a.accept(ctx, c)
	}
	names, err := a.jobs.SitesNamed(c.Args().Slice())
	if err != nil {
		return err
	}
	p, err := a.jobs.Page(ctx, names, c.Bool("look"))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		for i := range p.Sites {
			p.Sites[i].Archives, p.Sites[i].Runs = []report.Archive{}, []report.Run{}
		}
		err = a.printJSON(p)
	} else {
		a.showStatus(p, a.halfRestored(names))
	}
	if code := statusCode(p); err == nil && code != exitDone {
		return &exitError{code: code}
	}
	return err
}

// statusCode is what a monitor is told.
func statusCode(p report.Page) int {
	code := exitDone
	for i := range p.Sites {
		switch s := &p.Sites[i]; {
		case s.Newest == nil || len(s.Open()) > 0:
			return exitDamage
		case len(s.Pending) > 0:
			code = exitGaps
		}
	}
	return code
}

func (a *printer) showStatus(p report.Page, half map[string]string) {
	if len(p.Sites) == 0 {
		fmt.Fprintln(a.out, "No site is configured yet; `revlet adopt PATH` adds one.")
		return
	}
	var rows [][]string
	for i := range p.Sites {
		rows = append(rows, a.statusRow(&p.Sites[i]))
	}
	a.table([]string{"site", "", "newest good archive", "age", "elsewhere", "alarms"}, rows)
	for i := range p.Sites {
		a.showAlarms(&p.Sites[i])
		if archive, ok := half[p.Sites[i].Name]; ok {
			a.showHalfRestored(p.Sites[i].Name, archive)
		}
	}
	for _, u := range p.Unsent {
		fmt.Fprintf(a.out, "\n%s %s\n", a.bad("A message could not be sent:"), printableText(u))
	}
}

func (a *printer) statusRow(s *report.Site) []string {
	health := map[string]string{"good": a.good("good"), "look": a.bad("look"), "none": a.bad("not backed up")}[s.Health()]
	name, age := a.bad("none"), ""
	if s.Newest != nil {
		name, age = s.Newest.Name, a.age(s.Newest.Taken)
	}
	elsewhere := a.good("yes")
	switch {
	case len(s.Pending) > 0:
		elsewhere = a.bad("pending in " + strings.Join(s.Pending, ", "))
	case !s.Offsite:
		elsewhere = a.bad("no")
	}
	var kinds []string
	for _, o := range s.Open() {
		if !slices.Contains(kinds, o.Kind) {
			kinds = append(kinds, o.Kind)
		}
	}
	return []string{s.Name, health, name, age, elsewhere, a.bad(strings.Join(kinds, ", "))}
}

func (a *printer) showAlarms(s *report.Site) {
	for _, o := range s.Alarms {
		if o.Accepted != nil {
			fmt.Fprintf(a.out, "\n%s %s/%s: accepted on %s by %s: %s\n", a.dim("Accepted:"), s.Name, o.Kind, when(*o.Accepted), o.By, printableText(o.Because))
			continue
		}
		fmt.Fprintf(a.out, "\n%s %s/%s, since %s\n", a.bad("Alarm:"), s.Name, o.Kind, when(o.Since))
		a.facts([][2]string{{"what", printableText(o.Detail)}, {"why it matters", o.Why}, {"what to do", o.Do}})
	}
	if len(s.Open()) > 0 {
		fmt.Fprintf(a.out, "\nAn alarm that is all right: `revlet status --accept %s/%s --why TEXT`\n", s.Name, s.Open()[0].Kind)
	}
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

// showHalfRestored says that a restore stopped half-way.
func (a *printer) showHalfRestored(site, archive string) {
	fmt.Fprintf(a.out, "\n%s a restore of %s from %s stopped half-way; `revlet undo %s` or `revlet restore %s` brings it to an end.\n", a.bad("Half-way:"), site, archive, site, archive)
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
		fmt.Fprintf(a.out, "%s %s/%s\n", a.good("Accepted:"), site, kind)
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
		return a.printJSON(map[string]any{"runs": all})
	}
	if len(runs) == 0 {
		fmt.Fprintln(a.out, "No runs.")
		return nil
	}
	var rows [][]string
	for _, r := range runs {
		rows = append(rows, []string{fmt.Sprint(r.ID), when(r.Started), r.Site, r.Command, a.outcome(r.Outcome), took(r.Finished.Sub(r.Started)), newBytes(r), r.Origin, summary(r)})
	}
	a.table([]string{"run", "began", "site", "command", "outcome", "took", "new", "by", ""}, rows, 1, 6, 7)
	return nil
}

func newBytes(r history.Run) string {
	if r.Bytes == 0 {
		return ""
	}
	return size(r.NewBytes)
}

// summary is what a line has to say of a run.
func summary(r history.Run) string {
	if r.Detail != "" {
		return printableText(firstLine(r.Detail))
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
		return a.printJSON(struct {
			report.Run
			Log string `json:"log"`
		}{report.RunOf(r), r.Log})
	}
	fmt.Fprintf(a.out, "%s\n\n", a.bold(fmt.Sprintf("Run %d: %s of %s", r.ID, r.Command, r.Site)))
	a.facts([][2]string{{"began", when(r.Started)}, {"took", took(r.Finished.Sub(r.Started))}, {"outcome", a.outcome(r.Outcome)}, {"why", printableText(strings.TrimSpace(r.Detail))}, {"by", r.Origin}, {"duty", r.Duty},
		{"archive", r.Archive}, {"new", newBytes(r)}, {"stores", strings.Join(r.Stores, ", ")}})
	if r.Log != "" {
		fmt.Fprintf(a.out, "\n%s\n", printableText(strings.TrimRight(r.Log, "\n")))
	}
	return nil
}

// showEveryArchive lists the archives that this machine has ever known.
func (a *app) showEveryArchive(ctx context.Context, c *cli.Command, names []string) error {
	all := []report.Archive{}
	var rows [][]string
	for _, name := range names {
		known, archives, err := a.jobs.Remembered(ctx, name)
		if err != nil {
			return err
		}
		all = append(all, archives...)
		for _, h := range known {
			rows = append(rows, []string{h.Name, when(h.Taken), h.Scope, size(h.StoredBytes), size(h.NewBytes), a.whereabouts(h), printableText(h.Note)})
		}
	}
	if c.Bool("json") {
		return a.printJSON(map[string]any{"archives": all})
	}
	a.table([]string{"archive", "taken", "scope", "size", "new", "where", "note"}, rows, 4, 5)
	return nil
}

// whereabouts words where an archive is, or since when it is gone and why.
func (a *printer) whereabouts(h history.Archive) string {
	var in []string
	last := history.Copy{}
	for _, c := range h.Copies {
		if c.Gone.IsZero() {
			in = append(in, c.Store)
		} else if c.Gone.After(last.Gone) {
			last = c
		}
	}
	if len(in) > 0 {
		return strings.Join(in, ", ")
	}
	return a.dim(fmt.Sprintf("gone %s: %s", when(last.Gone), last.Why))
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
			jsonFlag,
		},
		Action: a.report,
	}
}

func (a *app) report(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	p, err := a.jobs.Page(ctx, names, c.Bool("look"))
	if err != nil {
		return err
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
		_, err := fmt.Fprint(a.out, text)
		return err
	}
	// It names sites, stores and what is wrong with them: for its owner only.
	if err := a.jobs.Disk.WriteFile(to, []byte(text), 0o600); err != nil {
		return fmt.Errorf("write the report: %w", err)
	}
	if page {
		whole, _ := filepath.Abs(to)
		fmt.Fprintf(a.out, "%s %s\n", a.good("Written:"), whole)
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
		err = (&printer{out: &out}).printJSON(p)
	case c.Bool("text"):
		out.WriteString(a.plain(func(text *printer) { text.showReport(p, half) }))
	default:
		err = p.HTML(&out)
	}
	return out.String(), err
}

// showReport prints a report as text.
func (a *printer) showReport(p report.Page, half map[string]string) {
	fmt.Fprintf(a.out, "%s, on %s\n\n", when(p.Made), p.Host)
	a.showStatus(p, half)
	for i := range p.Sites {
		s := &p.Sites[i]
		fmt.Fprintf(a.out, "\n%s  %s\n\n", a.bold(s.Name), s.Address)
		a.facts([][2]string{{"read again", a.ago(s.Verified)}, {"rehearsed", a.ago(s.Rehearsed)}, {"restored", a.ago(s.Restored)}})
		var rows [][]string
		for _, st := range s.Stores {
			room := ""
			if st.Free != nil {
				room = size(*st.Free)
			}
			if st.FullOn != nil {
				room += ", full about " + st.FullOn.Format(time.DateOnly)
			}
			rows = append(rows, []string{st.Name, st.Where, fmt.Sprint(st.Archives), room, strings.Join(st.Rules, "; ")})
		}
		fmt.Fprintln(a.out)
		a.table([]string{"store", "where", "archives", "room", "keep"}, rows, 3)
		a.showKept(s)
		a.showNext(s)
	}
}

func (a *printer) ago(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return fmt.Sprintf("%s (%s)", a.age(*t), when(*t))
}

func (a *printer) showKept(s *report.Site) {
	var rows [][]string
	for _, h := range s.Existing() {
		for _, store := range h.Stores {
			why := strings.Join(h.Kept[store], "; ")
			if why == "" {
				why = "goes next"
			}
			rows = append(rows, []string{h.Name, h.Scope, size(h.StoredBytes), size(h.NewBytes), fmt.Sprint(h.Gaps), store, printableText(why)})
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.out)
		a.table([]string{"archive", "scope", "size", "new", "gaps", "in", "why it stays"}, rows, 3, 4, 5)
	}
}

func (a *printer) showNext(s *report.Site) {
	var rows [][]string
	for _, d := range s.Duties {
		last, next := "not yet", ""
		if d.Last != nil {
			last = when(*d.Last)
		}
		if d.Next != nil {
			next = when(*d.Next)
		}
		rows = append(rows, []string{d.Duty, last, a.outcome(d.Outcome), next})
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.out)
		a.table([]string{"duty", "last", "outcome", "next"}, rows)
	}
}
