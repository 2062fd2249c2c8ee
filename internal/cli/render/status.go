package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"revlet/internal/watch/history"
	"revlet/internal/watch/report"
)

// ShowStatus is a line for each site, then alarms; half are interrupted restores by site.
func (a *Printer) ShowStatus(p report.Page, half map[string]string) {
	if len(p.Sites) == 0 {
		fmt.Fprintln(a.Out, "No site is configured yet; `revlet adopt PATH` adds one.")
		return
	}
	var rows [][]string
	for i := range p.Sites {
		rows = append(rows, a.statusRow(&p.Sites[i]))
	}
	a.Table([]string{"site", "", "newest good archive", "age", "elsewhere", "alarms"}, rows)
	for i := range p.Sites {
		a.showAlarms(&p.Sites[i])
		if archive, ok := half[p.Sites[i].Name]; ok {
			a.showHalfRestored(p.Sites[i].Name, archive)
		}
	}
	for _, u := range p.Unsent {
		fmt.Fprintf(a.Out, "\n%s %s\n", a.Bad("A message could not be sent:"), PrintableText(u))
	}
}

func (a *Printer) statusRow(s *report.Site) []string {
	health := map[string]string{"good": a.Good("good"), "look": a.Bad("look"), "none": a.Bad("not backed up")}[s.Health()]
	name, age := a.Bad("none"), ""
	if s.Newest != nil {
		name, age = s.Newest.Name, a.Age(s.Newest.Taken)
	}
	elsewhere := a.Good("yes")
	switch {
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

func (a *Printer) showAlarms(s *report.Site) {
	for _, o := range s.Alarms {
		if o.Accepted != nil {
			fmt.Fprintf(a.Out, "\n%s %s/%s: accepted on %s by %s: %s\n", a.Dim("Accepted:"), s.Name, o.Kind, When(*o.Accepted), o.By, PrintableText(o.Because))
			continue
		}
		fmt.Fprintf(a.Out, "\n%s %s/%s, since %s\n", a.Bad("Alarm:"), s.Name, o.Kind, When(o.Since))
		a.Facts([][2]string{{"what", PrintableText(o.Detail)}, {"why it matters", o.Why}, {"what to do", o.Do}})
	}
	if len(s.Open()) > 0 {
		fmt.Fprintf(a.Out, "\nTo silence an alarm that you know and can live with:\n  revlet status --accept %s/%s --why TEXT\n", s.Name, s.Open()[0].Kind)
	}
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
	a.ShowStatus(p, half)
	for i := range p.Sites {
		s := &p.Sites[i]
		fmt.Fprintf(a.Out, "\n%s  %s\n\n", a.Bold(s.Name), s.Address)
		a.Facts([][2]string{{"read again", a.ago(s.Verified)}, {"rehearsed", a.ago(s.Rehearsed)}, {"restored", a.ago(s.Restored)}})
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
			rows = append(rows, []string{h.Name, h.Scope, Size(h.StoredBytes), Size(h.NewBytes), fmt.Sprint(h.Gaps), store, PrintableText(why)})
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.Out)
		a.Table([]string{"archive", "scope", "size", "new", "gaps", "in", "why it stays"}, rows, 3, 4, 5)
	}
}

func (a *Printer) showNext(s *report.Site) {
	var rows [][]string
	for _, d := range s.Duties {
		last, next := "not yet", ""
		if d.Last != nil {
			last = When(*d.Last)
		}
		if d.Next != nil {
			next = When(*d.Next)
		}
		rows = append(rows, []string{d.Duty, last, a.Outcome(d.Outcome), next})
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.Out)
		a.Table([]string{"duty", "last", "outcome", "next"}, rows)
	}
}
