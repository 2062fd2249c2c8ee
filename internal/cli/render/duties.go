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
	for _, l := range all {
		last, next := "not yet", ""
		if l.Last != nil {
			last = When(*l.Last)
		}
		for _, t := range l.Next {
			next += When(t) + "\n"
		}
		if l.Due {
			next = a.Bad("due now") + "\n" + next
		}
		rows = append(rows, []string{l.Site, l.Duty, last, a.Outcome(l.Outcome), strings.TrimSpace(next), PrintableText(FirstLine(l.Detail))})
	}
	a.Table([]string{"site", "duty", "last", "outcome", "next", ""}, rows)
	fmt.Fprintln(a.Out, "\n`revlet due`, started by cron every few minutes, or `revlet serve` carries them out: see `revlet schedule install`.")
}

// FirstLine is a text up to its first line break.
func FirstLine(s string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	return line
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
