package render

import (
	"fmt"
	"maps"
	"slices"

	"revlet/internal/jobs"
	"revlet/internal/platform/process"
)

// ShowVersions says which archives have files, and how they changed.
func (a *Printer) ShowVersions(v *jobs.Versions) {
	if len(v.Paths) == 0 {
		fmt.Fprintf(a.Out, "None of %s of %s has such a file.\n", Count(int64(v.Looked), "archive", "archives"), v.Site)
	}
	for _, p := range v.Paths {
		gone := ""
		if p.Gone {
			gone = "  " + a.Bad("the newest archive does not have it")
		}
		fmt.Fprintf(a.Out, "%s%s\n", a.Bold(Printable(p.Path)), gone)
		var rows [][]string
		var changed Clock
		for _, one := range p.Versions {
			held := one.Last
			if one.First != one.Last {
				held = one.First + " to " + one.Last
			}
			rows = append(rows, []string{"  " + changed.Cell(one.MTime), Size(one.Size), one.Mode, fmt.Sprint(one.Archives), held})
		}
		a.Table([]string{changed.Heading("  changed"), "size", "rights", "archives", "in"}, rows, 2, 4)
		fmt.Fprintln(a.Out)
	}
	for _, name := range slices.Sorted(maps.Keys(v.NotRead)) {
		fmt.Fprintf(a.Out, "%s %s: %s\n", a.Bad("Not looked into:"), name, PrintableText(v.NotRead[name]))
	}
	if len(v.Paths) > 0 {
		last := v.Paths[0].Versions[0]
		fmt.Fprintf(a.Out, "`revlet extract %s %s --to FOLDER` copies one out.\n", last.Last, process.ShellQuote(Printable(v.Paths[0].Path)))
	}
}

// mostComponents and mostTables are of how many it is told where the bytes are.
const mostComponents, mostTables = 10, 10

// ShowSpace says where the bytes of a site's archives are.
func (a *Printer) ShowSpace(s *jobs.SiteSpace) {
	fmt.Fprintln(a.Out, a.Bold(s.Site))
	for _, name := range slices.Sorted(maps.Keys(s.NotReached)) {
		fmt.Fprintf(a.Out, "%s store %s: %s\n", a.Bad("Not reached:"), name, PrintableText(s.NotReached[name]))
	}
	if s.Archive == "" {
		fmt.Fprintln(a.Out, "There is no archive.")
		fmt.Fprintln(a.Out)
		return
	}
	for _, st := range s.Stores {
		fmt.Fprintf(a.Out, "\nStore %s: %s in %s, of which several share %s\n", a.Bold(st.Store), Size(st.Bytes), Count(int64(len(st.Archives)), "archive", "archives"), Size(st.Shared))
		var rows [][]string
		for _, one := range st.Archives {
			rows = append(rows, []string{one.Name, string(one.Scope), Size(one.Bytes), Size(one.Own)})
		}
		a.Table([]string{"archive", "scope", "made of", "a removal gives back"}, rows, 3, 4)
	}
	fmt.Fprintf(a.Out, "\n%s is made of\n", a.Bold(s.Archive))
	var rows [][]string
	for i, c := range s.Components {
		if i == mostComponents {
			break
		}
		rows = append(rows, []string{c.Name, Count(c.Files, "file", "files"), Size(c.Bytes)})
	}
	for i, t := range s.Tables {
		if i == mostTables {
			rows = append(rows, []string{fmt.Sprintf("%d more tables", len(s.Tables)-i), "", ""})
			break
		}
		rows = append(rows, []string{"table " + Printable(t.Table), Count(t.Rows, "row", "rows"), Size(t.Bytes)})
	}
	a.Table([]string{"what", "", "before compression"}, rows, 2, 3)
	fmt.Fprintln(a.Out)
}
