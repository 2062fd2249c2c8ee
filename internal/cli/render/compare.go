package render

import (
	"fmt"
	"strings"

	"revlet/internal/archives/catalog"
	"revlet/internal/work/compare"
)

// ShowText prints what differs in one file as unified lines.
func (a *Printer) ShowText(h *catalog.Held, other, path string, same bool, lines []string) {
	fmt.Fprintf(a.Out, "%s, from %s (%s) to %s\n\n", a.Bold(Printable(path)), h.Name, When(h.Taken), other)
	if same {
		fmt.Fprintln(a.Out, a.Good("Nothing differs."))
	}
	for _, l := range lines {
		shown := PrintableText(strings.TrimSuffix(l, "\n"))
		switch {
		case strings.HasPrefix(l, "+"):
			shown = a.Good(shown)
		case strings.HasPrefix(l, "-"):
			shown = a.Bad(shown)
		case strings.HasPrefix(l, "@@"):
			shown = a.Dim(shown)
		}
		fmt.Fprintln(a.Out, shown)
	}
}

const (
	// rowsShown is how many rows of a kind are shown, widthShown how much of each.
	rowsShown  = 20
	widthShown = 160
)

// ShowRows tells which rows of a table differ, all of them if everything is set.
func (a *Printer) ShowRows(h *catalog.Held, other string, r *compare.Rows, everything bool) {
	fmt.Fprintf(a.Out, "Table %s, from %s (%s) to %s: %s, %s, %s\n", a.Bold(Printable(r.Table.Table)), h.Name, When(h.Taken), other,
		Count(r.AddedRows, "row added", "rows added"), Count(r.RemovedRows, "removed", "removed"), Count(r.ChangedRows, "changed", "changed"))
	if r.Keyless {
		fmt.Fprintln(a.Out, a.Dim("It has no primary key: a row that changed is one removed and one added."))
	}
	show := func(mark, row string) {
		if !everything && len(row) > widthShown {
			row = strings.ToValidUTF8(row[:widthShown], "") + "…"
		}
		fmt.Fprintf(a.Out, "  %s %s\n", mark, PrintableText(strings.ReplaceAll(row, "\n", "\\n")))
	}
	most := rowsShown
	if everything {
		most = len(r.Added) + len(r.Removed) + len(r.Changed)
	}
	for _, p := range r.Changed[:min(len(r.Changed), most)] {
		fmt.Fprintln(a.Out)
		show(a.Bad("was"), p.Before)
		show(a.Good("is "), p.After)
	}
	for _, list := range []struct {
		mark string
		rows []string
	}{{a.Bad("removed"), r.Removed}, {a.Good("added  "), r.Added}} {
		if len(list.rows) > 0 {
			fmt.Fprintln(a.Out)
		}
		for _, row := range list.rows[:min(len(list.rows), most)] {
			show(list.mark, row)
		}
		a.showMore(len(list.rows), most)
	}
}
