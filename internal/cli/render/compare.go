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
	switch {
	case r.AddedRows+r.RemovedRows+r.ChangedRows == 0:
		fmt.Fprintln(a.Out, a.Good("Nothing differs."))
	case r.Keyless:
		fmt.Fprintln(a.Out, a.Dim("It has no primary key: a row that changed is one removed and one added."))
	case r.TooMany:
		fmt.Fprintln(a.Out, a.Dim("So many differ that it was not found out which of them changed: such a row is one removed and one added."))
	}
	most := rowsShown
	if everything {
		most = len(r.Added) + len(r.Removed) + len(r.Changed)
	}
	for _, p := range r.Changed[:min(len(r.Changed), most)] {
		a.showChanged(p, everything)
	}
	a.showMore(len(r.Changed), most)
	for _, list := range []struct {
		mark string
		rows []string
	}{{a.Bad("removed"), r.Removed}, {a.Good("added  "), r.Added}} {
		if len(list.rows) > 0 {
			fmt.Fprintln(a.Out)
		}
		for _, row := range list.rows[:min(len(list.rows), most)] {
			a.showRow(list.mark, row, everything)
		}
		a.showMore(len(list.rows), most)
	}
}

// showChanged shows the values of a row that differ, or all of it where they are not known.
func (a *Printer) showChanged(p compare.RowPair, everything bool) {
	fmt.Fprintln(a.Out)
	if len(p.Columns) == 0 {
		a.showRow(a.Bad("was"), p.Before, everything)
		a.showRow(a.Good("is "), p.After, everything)
		return
	}
	a.showRow(a.Dim("row"), p.After, false)
	for _, c := range p.Columns {
		fmt.Fprintf(a.Out, "    %s\n", a.Bold(Printable(c.Column)))
		a.showRow("    "+a.Bad("was"), c.Before, everything)
		a.showRow("    "+a.Good("is "), c.After, everything)
	}
}

// showRow shows the beginning of a row or of a value in a line, or all of it.
func (a *Printer) showRow(mark, row string, everything bool) {
	if !everything && len(row) > widthShown {
		row = strings.ToValidUTF8(row[:widthShown], "") + "…"
	}
	fmt.Fprintf(a.Out, "  %s %s\n", mark, PrintableText(strings.ReplaceAll(row, "\n", "\\n")))
}
