package render

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"revlet/internal/watch/history"
	"revlet/internal/watch/report"
)

// manySites is from how many sites on those in which all is well are only counted.
const manySites = 12

// ShowStatus is a line for each site, those in trouble first, then alarms, those of one kind together; half
// are interrupted restores by site. Of many sites, the good ones are counted, unless all are wanted.
func (a *Printer) ShowStatus(p report.Page, half map[string]string, all bool) {
	for _, name := range slices.Sorted(maps.Keys(p.NotKnown)) {
		fmt.Fprintf(a.Out, "%s %s: %s\n\n", a.Bad("Not known:"), name, PrintableText(p.NotKnown[name]))
	}
	if len(p.Sites) == 0 {
		if len(p.NotKnown) > 0 {
			return
		}
		if p.Store != "" {
			fmt.Fprintf(a.Out, "No archives are in store %s.\n", p.Store)
			return
		}
		fmt.Fprintln(a.Out, "No site is configured yet; `revlet adopt PATH` adds one.")
		return
	}
	rank := func(s *report.Site) int { return slices.Index([]string{"none", "unknown", "look", "good"}, s.Health()) }
	var sites []*report.Site
	for i := range p.Sites {
		sites = append(sites, &p.Sites[i])
	}
	slices.SortStableFunc(sites, func(x, y *report.Site) int { return rank(x) - rank(y) })
	var rows [][]string
	good := 0
	for _, s := range sites {
		if _, stopped := half[s.Name]; s.Health() == "good" && !stopped && !all && len(sites) >= manySites {
			good++
			continue
		}
		rows = append(rows, a.statusRow(s))
	}
	headings := []string{"site", "", "newest good archive", "age", "elsewhere", "alarms"}
	if p.Store != "" {
		headings[2], headings[4] = "newest archive", "machine"
	}
	if len(rows) > 0 {
		a.Table(headings, rows)
	}
	if good > 0 {
		fmt.Fprintf(a.Out, "%s %d of %d sites; `revlet status SITE` and `revlet status '*'` show them.\n", a.Good("Good:"), good, len(sites))
	}
	if p.Store != "" {
		a.Line(fmt.Sprintf("\nThis is what store %s says of %s; what is damaged, failed or not sent, their own machines know.", p.Store, Count(int64(len(sites)), "site", "sites")))
	}
	a.showAlarms(sites)
	for _, s := range sites {
		if archive, ok := half[s.Name]; ok {
			a.showHalfRestored(s.Name, archive)
		}
	}
	for _, u := range p.Unsent {
		fmt.Fprintf(a.Out, "\n%s %s\n", a.Bad("A message could not be sent:"), PrintableText(u))
	}
}

func (a *Printer) statusRow(s *report.Site) []string {
	health := map[string]string{"good": a.Good("good"), "look": a.Bad("look"), "none": a.Bad("not backed up"), "unknown": a.Bad("not known")}[s.Health()]
	name, age := a.Bad("none"), ""
	if s.Health() == "unknown" {
		name = a.Bad(strings.Join(s.Unseen, ", ") + " was never looked into")
	}
	if s.Newest != nil {
		name, age = Printable(s.Newest.Name), a.Age(s.Newest.Taken)
	}
	elsewhere := a.Good("yes")
	switch {
	case s.Health() == "unknown":
		elsewhere = a.Bad("not known")
	case s.Machine != "":
		elsewhere = Printable(s.Machine)
	case len(s.Pending) > 0:
		elsewhere = a.Bad("pending in " + strings.Join(s.Pending, ", "))
	case !s.Offsite:
		elsewhere = a.Bad("no")
	}
	var kinds []string
	for _, o := range s.Open() {
		if !slices.Contains(kinds, o.Kind) {
			kinds = append(kinds, o.Kind)
		}
	}
	return []string{s.Name, health, name, age, elsewhere, a.Bad(strings.Join(kinds, ", "))}
}

// alarmGroup are alarms of one kind, with their sites.
type alarmGroup struct {
	report.Alarm
	sites, details []string
}

// sitesNamed is how many sites with the same alarm are named, detailsShown of how many it is told what it is; detailsOfOne
// is how many are told of a site alone.
const sitesNamed, detailsShown, detailsOfOne = 12, 4, 20

// showAlarms tells of alarms: of each kind once why it matters and what to do.
func (a *Printer) showAlarms(sites []*report.Site) {
	var groups []*alarmGroup
	for _, s := range sites {
		for _, o := range s.Alarms {
			if o.Accepted != nil {
				fmt.Fprintf(a.Out, "\n%s %s/%s: accepted on %s by %s: %s\n", a.Dim("Accepted:"), s.Name, o.Kind, When(*o.Accepted), o.By, PrintableText(o.Because))
				continue
			}
			i := slices.IndexFunc(groups, func(g *alarmGroup) bool { return g.Kind == o.Kind && g.Do == o.Do && g.Why == o.Why })
			if i < 0 {
				i = len(groups)
				groups = append(groups, &alarmGroup{Alarm: o})
			}
			g := groups[i]
			g.sites, g.details = append(g.sites, s.Name), append(g.details, PrintableText(o.Detail))
			if o.Since.Before(g.Since) {
				g.Since = o.Since
			}
		}
	}
	for _, g := range groups {
		a.showGroup(g)
	}
	if len(groups) > 0 && sites[0].Machine == "" {
		fmt.Fprintf(a.Out, "\nTo silence an alarm that you know and can live with:\n  revlet status --accept %s/%s --why TEXT\n", groups[0].sites[0], groups[0].Kind)
	}
}

func (a *Printer) showGroup(g *alarmGroup) {
	about := [][2]string{{"why it matters", g.Why}, {"what to do", PrintableText(g.Do)}}
	sites := slices.Compact(slices.Clone(g.sites)) // they come site by site
	if len(sites) == 1 {
		fmt.Fprintf(a.Out, "\n%s %s/%s, since %s\n", a.Bad("Alarm:"), sites[0], g.Kind, When(g.Since))
		what := g.details[:min(len(g.details), detailsOfOne)]
		if n := len(g.details) - len(what); n > 0 {
			what = append(slices.Clone(what), fmt.Sprintf("and %d more; `revlet status %s --json` has each", n, sites[0]))
		}
		a.Facts(append([][2]string{{"what", strings.Join(what, "\n")}}, about...))
		return
	}
	fmt.Fprintf(a.Out, "\n%s %s of %d sites, since %s\n", a.Bad("Alarm:"), g.Kind, len(sites), When(g.Since))
	named := sites[:min(len(sites), sitesNamed)]
	more := ""
	if n := len(sites) - len(named); n > 0 {
		more = fmt.Sprintf(" and %d more", n)
	}
	alike := map[string]bool{}
	for i, detail := range g.details {
		alike[strings.ReplaceAll(detail, g.sites[i], "")] = true
	}
	if len(alike) == 1 {
		about = append([][2]string{{"sites", strings.Join(named, ", ") + more}, {"what", g.details[0]}}, about...)
	} else {
		var each []string
		for i, name := range g.sites[:min(len(g.sites), detailsShown)] {
			each = append(each, name+": "+g.details[i])
		}
		if n := len(g.sites) - detailsShown; n > 0 {
			each = append(each, fmt.Sprintf("and %d more; `revlet status SITE` has each", n))
		}
		about = append([][2]string{{"what", strings.Join(each, "\n")}}, about...)
	}
	a.Facts(about)
}

// showHalfRestored says that a restore stopped half-way.
func (a *Printer) showHalfRestored(site, archive string) {
	fmt.Fprintf(a.Out, "\n%s a restore of %s from %s stopped half-way; `revlet undo %s` or `revlet restore %s` brings it to an end.\n", a.Bad("Half-way:"), site, archive, site, archive)
}

// Whereabouts words where an archive is, or since when it is gone and why.
func (a *Printer) Whereabouts(h history.Archive) string {
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
	return a.Dim(fmt.Sprintf("gone %s: %s", When(last.Gone), last.Why))
}

// ShowReport prints a report as text.
func (a *Printer) ShowReport(p report.Page, half map[string]string) {
	fmt.Fprintf(a.Out, "%s, on %s\n\n", When(p.Made), p.Host)
	a.showTotals(p)
	a.ShowStatus(p, half, true)
	for i := range p.Sites {
		s := &p.Sites[i]
		fmt.Fprintf(a.Out, "\n%s  %s\n\n", a.Bold(s.Name), Printable(s.Address))
		if s.Machine != "" {
			a.Facts([][2]string{{"machine", Printable(s.Machine)}})
		} else {
			a.Facts([][2]string{{"read again", a.ago(s.Verified)}, {"rehearsed", a.ago(s.Rehearsed)}, {"restored", a.ago(s.Restored)}})
		}
		var rows [][]string
		for _, st := range s.Stores {
			room := ""
			if st.Free != nil {
				room = Size(*st.Free)
			}
			if st.FullOn != nil {
				room += ", full about " + st.FullOn.Format(time.DateOnly)
			}
			rows = append(rows, []string{st.Name, st.Where, fmt.Sprint(st.Archives), room, strings.Join(st.Rules, "; ")})
		}
		fmt.Fprintln(a.Out)
		a.Table([]string{"store", "where", "archives", "room", "keep"}, rows, 3)
		a.showKept(s)
		a.showNext(s)
	}
}

// showTotals sums a report up, and says what is otherwise than in the last one.
func (a *Printer) showTotals(p report.Page) {
	t := p.Totals()
	sites := fmt.Sprintf("%d: %d good, %d to look at, %d not backed up", len(p.Sites), t.Good, t.Look, t.None)
	if t.Unknown > 0 {
		sites += fmt.Sprintf(", %d not known", t.Unknown)
	}
	rows := [][2]string{{"sites", sites}, {"archives", fmt.Sprintf("%d; the newest full ones have %s", t.Archives, Size(t.Bytes))}}
	if c := p.Changes; c != nil {
		rows = append(rows, [2]string{"since " + When(c.Last), fmt.Sprintf("%s, %d gone", Count(int64(c.New), "new archive", "new archives"), c.Gone)})
		for _, more := range []struct {
			name string
			all  []string
		}{{"worse", c.Worse}, {"better", c.Better}, {"new sites", c.Added}, {"not in it any more", c.Dropped}} {
			if len(more.all) > 0 {
				rows = append(rows, [2]string{more.name, strings.Join(more.all, "\n")})
			}
		}
	}
	a.Facts(rows)
	fmt.Fprintln(a.Out)
}

func (a *Printer) ago(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return fmt.Sprintf("%s (%s)", a.Age(*t), When(*t))
}

func (a *Printer) showKept(s *report.Site) {
	var rows [][]string
	for _, h := range s.Existing() {
		for _, store := range h.Stores {
			why := strings.Join(h.Kept[store], "; ")
			if why == "" {
				why = "goes next"
			}
			rows = append(rows, []string{Printable(h.Name), Printable(h.Scope), Size(h.StoredBytes), Size(h.NewBytes), fmt.Sprint(h.Gaps), store, PrintableText(why)})
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.Out)
		a.Table([]string{"archive", "scope", "size", "new", "gaps", "in", "why it stays"}, rows, 3, 4, 5)
	}
}

func (a *Printer) showNext(s *report.Site) {
	var rows [][]string
	var lasts, nexts Clock
	for _, d := range s.Duties {
		last, next := "not yet", ""
		if d.Last != nil {
			last = lasts.Cell(*d.Last)
		}
		if d.Next != nil {
			next = nexts.Cell(*d.Next)
		}
		rows = append(rows, []string{d.Duty, last, a.Outcome(d.Outcome), next})
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.Out)
		a.Table([]string{"duty", lasts.Heading("last"), "outcome", nexts.Heading("next")}, rows)
	}
}
