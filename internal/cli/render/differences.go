package render

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"revlet/internal/archives/catalog"
	"revlet/internal/site"
	"revlet/internal/work/compare"
)

// differencesShown is how many differences of a kind are listed.
const differencesShown = 30

// ShowCompared tells what differs, what a person should look at first.
func (a *Printer) ShowCompared(h *catalog.Held, other string, r *compare.Report, everything bool) {
	fmt.Fprintf(a.Out, "From %s (%s) to %s\n", a.Bold(h.Name), When(h.Taken), a.Bold(other))
	if r.Same() {
		where := ""
		if r.Half != "" {
			where = ", in the " + r.Half + " alone"
		}
		words := a.Good("Nothing differs" + where + ":")
		if r.Unknown() {
			words = "Nothing differs in what could be compared" + where + ":"
		}
		fmt.Fprintf(a.Out, "\n%s %s compared\n", words, Count(r.Compared, "path and table", "paths and tables"))
	}
	most := differencesShown
	if everything {
		most = len(r.Files) + len(r.Tables)
	}
	a.showSuspects(r, most)
	a.showComponents(r)
	if plain := slices.DeleteFunc(slices.Clone(r.Files), func(f compare.File) bool { return f.Suspect != "" }); len(plain) > 0 {
		fmt.Fprintln(a.Out)
		for _, f := range plain[:min(len(plain), most)] {
			fmt.Fprintf(a.Out, "  %-8s %s%s\n", f.How, shownPath(f.Path), lengths(f))
		}
		a.showMore(len(plain), most)
	}
	a.showTables(r, most)
	for _, g := range r.Gaps {
		fmt.Fprintf(a.Out, "\n%s %s (%s)", a.Bad("Cannot be read:"), shownPath(g.Path), PrintableText(g.Why))
	}
	if len(r.Gaps) > 0 {
		fmt.Fprintln(a.Out)
	}
	if len(r.NotCompared) > 0 {
		fmt.Fprintf(a.Out, "\n%s database %s: it was written by another program, and its tables are not known by their rows\n", a.Bad("Not compared:"), strings.Join(r.NotCompared, ", "))
	}
	if len(r.LeftOut) > 0 {
		byRule := map[string]int64{}
		for _, l := range r.LeftOut {
			byRule[l.Rule] = l.Paths
		}
		fmt.Fprintf(a.Out, "\n%s %s; neither that nor what is below was looked at\n", "Left out by rule:", leftOut(byRule))
	}
	if r.NotRead > 0 {
		fmt.Fprintf(a.Out, "\n%s\n", a.Dim(Count(r.NotRead, "file has", "files have")+" the same length and time, and "+map[bool]string{true: "was", false: "were"}[r.NotRead == 1]+" not read; --read compares content"))
	}
}

// showSuspects lists what a person should look at first, each with when it
// appeared, as far as that is known.
func (a *Printer) showSuspects(r *compare.Report, most int) {
	var lines [][3]string
	for _, f := range r.Suspects() {
		lines = append(lines, [3]string{f.How, shownPath(f.Path), f.Suspect + seen(f.Sighting)})
	}
	for _, s := range r.Rows {
		lines = append(lines, [3]string{s.How, Printable(s.Name) + " in table " + Printable(s.Table), s.Suspect + seen(s.Sighting)})
	}
	for _, d := range r.Definitions {
		if d.Suspect != "" {
			lines = append(lines, [3]string{d.How, Printable(d.Object), d.Suspect})
		}
	}
	if len(lines) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "\n%s\n", a.Bad("Look at these first:"))
	for _, l := range lines[:min(len(lines), most)] {
		fmt.Fprintf(a.Out, "  %-8s %s\n           %s\n", l[0], l[1], a.Dim(l[2]))
	}
	a.showMore(len(lines), most)
}

// seen words when something appeared.
func seen(s compare.Sighting) string {
	switch {
	case s.FirstSeen == "" && s.Clean == "":
		return ""
	case s.FirstSeen == "":
		return "; in no archive yet, the newest is of " + When(s.CleanAt)
	case s.Clean == "":
		return "; in every archive, back to " + When(s.Seen)
	}
	return "; clean until " + When(s.CleanAt) + ", first seen " + When(s.Seen)
}

func (a *Printer) showMore(all, most int) {
	if all > most {
		fmt.Fprintf(a.Out, "  … and %d more: --all\n", all-most)
	}
}

func shownPath(p string) string { return Printable(strings.TrimPrefix(p, site.RootLabel+"/")) }

// lengths words how a file's length changed.
func lengths(f compare.File) string {
	switch {
	case f.How == compare.Changed && f.Was != f.Is:
		return fmt.Sprintf("  (%s, was %s)", Printable(cmp.Or(f.Is, "a file of "+Size(f.After))), Printable(cmp.Or(f.Was, "a file of "+Size(f.Before))))
	case f.How == compare.Added && f.Is != "":
		return "  (" + Printable(f.Is) + ")"
	case f.How == compare.Changed && f.Before != f.After:
		return fmt.Sprintf("  (%s, was %s)", Size(f.After), Size(f.Before))
	case f.How == compare.Added:
		return fmt.Sprintf("  (%s)", Size(f.After))
	}
	return ""
}

// showComponents sums up the differences of each component.
func (a *Printer) showComponents(r *compare.Report) {
	if len(r.Files) == 0 {
		return
	}
	sums := map[string]map[string]int{}
	for _, f := range r.Files {
		if sums[f.Component] == nil {
			sums[f.Component] = map[string]int{}
		}
		sums[f.Component][f.How]++
	}
	var rows [][]string
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		row := []string{name}
		for _, how := range []string{compare.Added, compare.Changed, compare.Removed, compare.Rights} {
			row = append(row, fmt.Sprint(sums[name][how]))
		}
		rows = append(rows, row)
	}
	fmt.Fprintln(a.Out)
	a.Table([]string{"component", "added", "changed", "removed", "rights only"}, rows, 2, 3, 4, 5)
}

func (a *Printer) showTables(r *compare.Report, most int) {
	for i, d := range r.Definitions[:min(len(r.Definitions), most)] {
		if i == 0 {
			fmt.Fprintln(a.Out)
		}
		fmt.Fprintf(a.Out, "  %-8s definition of %s\n", d.How, Printable(d.Object))
	}
	if len(r.Tables) == 0 {
		return
	}
	rowsOf := func(n int64) string {
		if n < 0 {
			return ""
		}
		return fmt.Sprint(n)
	}
	var rows [][]string
	for _, t := range r.Tables[:min(len(r.Tables), most)] {
		rows = append(rows, []string{t.Database, Printable(t.Table), t.How, rowsOf(t.Before), rowsOf(t.After)})
	}
	fmt.Fprintln(a.Out)
	a.Table([]string{"database", "table", "", "rows before", "rows after"}, rows, 4, 5)
	a.showMore(len(r.Tables), most)
}
