package render

import (
	"fmt"
	"strings"

	"revlet/internal/jobs"
	"revlet/internal/watch/history"
)

// ShowDuties is the table of what is scheduled.
func (a *Printer) ShowDuties(all []jobs.Duty) {
	if len(all) == 0 {
		fmt.Fprintln(a.Out, "Nothing is scheduled. A site's `schedule:` lists its duties, such as `full, every day at 03:20`.")
		return
	}
	var rows [][]string
	var lasts, nexts Clock
	for _, l := range all {
		last, next := "not yet", ""
		if l.Last != nil {
			last = lasts.Cell(*l.Last)
		}
		for _, t := range l.Next {
			next += nexts.Cell(t) + "\n"
		}
		if l.Due {
			next = a.Bad("due now") + "\n" + next
		}
		rows = append(rows, []string{l.Site, l.Duty, last, a.Outcome(l.Outcome), strings.TrimSpace(next), PrintableText(FirstLine(l.Detail))})
	}
	a.Table([]string{"site", "duty", lasts.Heading("last"), "outcome", nexts.Heading("next"), ""}, rows)
	fmt.Fprintln(a.Out, "\n`revlet due`, started by cron every few minutes, or `revlet serve` carries them out: see `revlet schedule install`.")
}

// FirstLine is a text up to its first line break.
func FirstLine(s string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	return line
}

// ShowDue says what came of the duties of several sites; of one alone it was said already.
func (a *Printer) ShowDue(all []jobs.DutyDone) {
	var rows [][]string
	sites, failed := map[string]bool{}, map[string]bool{}
	for _, d := range all {
		sites[d.Site] = true
		row := []string{d.Site, d.Duty, "-", Took(d.Took), a.Outcome(d.Outcome)}
		if d.Archive != "" {
			row[2] = strings.TrimPrefix(d.Archive, d.Site+"-")
		}
		if d.Outcome == history.Failed || d.Outcome == history.Damage {
			failed[d.Site] = true
		}
		rows = append(rows, row)
	}
	if len(sites) < 2 {
		return
	}
	fmt.Fprintln(a.Out)
	a.Table([]string{"site", "duty", "archive", "took", "result"}, rows, 4)
	fmt.Fprintf(a.Out, "\n%s had their turn", Count(int64(len(sites)), "site", "sites"))
	if len(failed) > 0 {
		fmt.Fprintf(a.Out, ", %s", a.Bad(Count(int64(len(failed)), "site is", "sites are")+" in trouble: `revlet status` says why"))
	}
	fmt.Fprintln(a.Out, ".")
}

// Outcome colours the outcome of a run.
func (a *Printer) Outcome(o string) string {
	switch o {
	case history.Done:
		return a.Good(o)
	case "":
		return ""
	default:
		return a.Bad(o)
	}
}
