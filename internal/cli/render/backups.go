package render

import (
	"fmt"
	"strings"
	"time"

	"revlet/internal/jobs"
	"revlet/internal/site/tree"
)

// BackedUp is what came of the backup of one of several sites.
type BackedUp struct {
	Site string
	*jobs.Delivered
	// Err is why there is no archive; Delivered is nil then.
	Err  error
	Took time.Duration
}

// Words say in a few words what came of it.
func (b BackedUp) Words() string {
	if b.Err != nil {
		text, _, _ := strings.Cut(Inline(b.Err), "; ")
		for _, known := range []string{"site ", "back up "} { // the line begins with the name
			text = strings.TrimPrefix(text, known+b.Site+": ")
		}
		text = strings.Replace(text, tree.ErrUnreachable.Error(), "not reached", 1)
		const most = 72
		if runes := []rune(text); len(runes) > most {
			text = string(runes[:most-1]) + "…"
		}
		return "FAILED: " + PrintableText(text)
	}
	words := []string{"saved"}
	if n := len(b.Record.Gaps); n > 0 {
		words = append(words, Count(int64(n), "gap", "gaps"))
	}
	for _, p := range b.Pending {
		words = append(words, "still to come to "+p.Store)
	}
	for _, f := range b.Alarms {
		words = append(words, "alarm: "+f.Kind)
	}
	return strings.Join(words, ", ")
}

// ShowBackups says what came of the backup of several sites: a line each, and what a person
// should look at.
func (a *Printer) ShowBackups(all []BackedUp) {
	var rows [][]string
	var saved, failed int64
	var onsite []string
	for _, b := range all {
		row := []string{b.Site, "-", "-", "-", Took(b.Took), b.Words()}
		if b.Err != nil {
			failed++
			row[5] = a.Bad(row[5])
		} else {
			saved++
			t := b.Record.Totals
			row[1], row[2], row[3] = strings.TrimPrefix(b.Record.Name, b.Site+"-"), Size(t.FileBytes+t.DatabaseBytes), Size(t.NewBytes)
			if b.Onsite {
				onsite = append(onsite, b.Site)
			}
		}
		rows = append(rows, row)
	}
	a.Table([]string{"site", "archive", "holds", "new", "took", "result"}, rows, 3, 4, 5)
	for _, b := range all {
		if b.Err != nil {
			continue
		}
		if len(b.Record.Gaps) > 0 {
			fmt.Fprintf(a.Out, "\n%s:", b.Site)
			a.ShowGaps(b.Record, 3)
		}
		a.showPending(b.Result)
		a.showUnusual(b.Site, b.Alarms)
	}
	if len(onsite) > 0 {
		fmt.Fprintf(a.Out, "\n%s every copy of %s is on the site's own machine and dies with it. `revlet stores add NAME` adds a place elsewhere.\n", a.Bad("Unsafe:"), Abbreviate(onsite, 6))
	}
	fmt.Fprintf(a.Out, "\n%s saved", Count(saved, "site", "sites"))
	if failed > 0 {
		fmt.Fprintf(a.Out, ", %s", a.Bad(Count(failed, "site", "sites")+" NOT saved"))
	}
	fmt.Fprintln(a.Out, ".")
}
