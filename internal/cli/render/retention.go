package render

import (
	"fmt"
	"slices"
	"strings"

	"revlet/internal/jobs"
)

// ShowRetention says which archives stay and why, by store.
func (a *Printer) ShowRetention(all []jobs.StoreRetention, applied bool) {
	for i, r := range all {
		if i > 0 {
			fmt.Fprintln(a.Out)
		}
		rules := strings.Join(r.Rules, "; ")
		if rules == "" {
			rules = "everything, there are no rules (`keep:`)"
		}
		fmt.Fprintf(a.Out, "%s in store %s\n  %s  %s\n", a.Bold(r.Site), a.Bold(r.Store), a.Dim("keep"), rules)
		if len(r.Archives) > 0 {
			fmt.Fprintln(a.Out)
			var taken Clock
			rows := a.retentionRows(r, &taken)
			a.Table([]string{"archive", taken.Heading("taken"), "scope", "", "why"}, rows)
		}
		fmt.Fprintln(a.Out)
		a.showVerdict(r, applied)
	}
}

func (a *Printer) retentionRows(r jobs.StoreRetention, taken *Clock) [][]string {
	var rows [][]string
	for _, d := range r.Archives {
		verdict := a.Good("stays")
		switch {
		case !d.Keep && slices.Contains(r.Removed, d.Name):
			verdict = a.Bad("gone")
		case !d.Keep:
			verdict = a.Bad("goes")
		}
		rows = append(rows, []string{d.Name, taken.Cell(d.Taken), d.Scope, verdict, PrintableText(strings.Join(d.Why, "; "))})
	}
	return rows
}

func (a *Printer) showVerdict(r jobs.StoreRetention, applied bool) {
	going := len(r.Going())
	switch {
	case r.Elsewhere && going > 0:
		fmt.Fprintf(a.Out, "%s may go by these rules; the store's keeper removes there, this machine does not.\n", Count(int64(going), "archive", "archives"))
	case len(r.Stopped) > 0:
		fmt.Fprintf(a.Out, "%s nothing is removed until this is settled:\n", a.Bad("Stopped:"))
		for _, why := range r.Stopped {
			fmt.Fprintf(a.Out, "  %s\n", PrintableText(why))
		}
		fmt.Fprintln(a.Out, "`revlet status` says what each alarm means, and how to accept one.")
	case applied:
		a.ShowRemoved([]jobs.StoreRetention{r})
		if len(r.Removed) == 0 {
			fmt.Fprintln(a.Out, "Nothing was to be removed.")
		}
	case going > 0:
		fmt.Fprintf(a.Out, "%s would go with the next backup, or now with --apply.\n", Count(int64(going), "archive", "archives"))
	default:
		fmt.Fprintln(a.Out, "Nothing goes.")
	}
}

// ShowRemoved prints what was removed, or why space was not given back.
func (a *Printer) ShowRemoved(all []jobs.StoreRetention) {
	for _, r := range all {
		if len(r.Removed) > 0 {
			fmt.Fprintf(a.Out, "\nBy the keep rules %s went from %s, %s given back:\n  %s\n", Count(int64(len(r.Removed)), "archive", "archives"), r.Store, Size(r.Freed), Abbreviate(r.Removed, 3))
		}
		if r.Left != "" {
			fmt.Fprintf(a.Out, "\nNothing was removed from %s this time: %s\n", r.Store, PrintableText(r.Left))
		}
		if len(r.Stopped) > 0 {
			fmt.Fprintf(a.Out, "\n%s nothing goes from %s: %s\n", a.Bad("Removal is stopped:"), r.Store, PrintableText(strings.Join(r.Stopped, "; ")))
		}
	}
}

// ShowRemoval says which stores an archive goes from by hand, and where it stays.
func (a *Printer) ShowRemoval(p *jobs.RemovalPlan) {
	h := p.Archive
	fmt.Fprintf(a.Out, "%s, taken %s (%s)%s\n", a.Bold(h.Name), When(h.Taken), h.Scope, noteOf(h.Note))
	lines := [][2]string{{"goes from", strings.Join(p.From, ", ")}}
	for _, t := range p.Stays {
		lines = append(lines, [2]string{"stays in", t.Store + ": " + ErrText(t.Err)})
	}
	a.Facts(lines)
	if p.Last {
		fmt.Fprintln(a.Out, a.Bad("It is the last good full archive of "+p.Site+"."))
	}
}

func noteOf(note string) string {
	if note == "" {
		return ""
	}
	return ": " + PrintableText(note)
}
