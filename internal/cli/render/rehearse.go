package render

import (
	"fmt"
	"strings"

	"revlet/internal/archives/catalog"
	"revlet/internal/work/rehearse"
)

// ShowRehearsed says how a rehearsal went.
func (a *Printer) ShowRehearsed(h *catalog.Held, r *rehearse.Result) {
	verdict := a.Good("Restores:")
	if !r.Passed() {
		verdict = a.Bad("DOES NOT RESTORE:")
	}
	fmt.Fprintf(a.Out, "%s %s, tried in scratch space\n\n", verdict, a.Bold(h.Name))
	lines := [][2]string{
		{"files", fmt.Sprintf("%s in %s", Count(r.Paths, "path", "paths"), Took(r.Files))},
		{"database", fmt.Sprintf("%s, %s in %s", Count(int64(r.Tables), "table", "tables"), Count(r.Rows, "row", "rows"), Took(r.Database))},
		{"recovery", "takes about " + Took(r.Total) + " on this machine"},
	}
	if len(r.Servers) > 0 {
		lines = append(lines, [2]string{"server", "a scratch server of " + strings.Join(r.Servers, " and ")})
	}
	if r.Passed() && r.Tried != "" {
		lines = append(lines, [2]string{"served", "the copy works: " + r.Tried})
	}
	switch {
	case r.Passed() && len(r.Counted) > 0:
		lines = append(lines, [2]string{"compared", "every byte of the files is as it was saved"},
			[2]string{"", "as many rows as were saved; of these tables it is not proved that they are the same: " + PrintableText(strings.Join(r.Counted, ", "))})
	case r.Passed() && len(r.NotCompared) > 0:
		lines = append(lines, [2]string{"compared", "every byte of the files is as it was saved"},
			[2]string{"", "database " + strings.Join(r.NotCompared, ", ") + ": it loads; what another program has written is not compared row by row"})
	case r.Passed():
		lines = append(lines, [2]string{"compared", "every byte and every row is as it was saved"})
	}
	if n := len(r.Unlinked); n > 0 {
		lines = append(lines, [2]string{"", Count(int64(n), "symbolic link", "symbolic links") + " could not be tried: this system does not let this account make any"})
	}
	if n := len(r.Cut); n > 0 {
		lines = append(lines, [2]string{"links", Count(int64(n), "link that leads", "links that lead") + " out of the copy " + map[bool]string{true: "was", false: "were"}[n == 1] + " taken off before it was served: " + PrintableText(strings.Join(r.Cut, ", "))})
	}
	for _, t := range r.Trouble {
		lines = append(lines, [2]string{"trouble", a.Bad(PrintableText(t))})
	}
	a.Facts(lines)
	fmt.Fprintln(a.Out)
}
