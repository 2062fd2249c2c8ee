package render

import (
	"fmt"

	"revlet/internal/work/preflight"
)

// ShowFindings says what `preflight` has found.
func (a *Printer) ShowFindings(name string, found []preflight.Finding) {
	fmt.Fprintln(a.Out, a.Bold(name))
	headings := map[preflight.Level]string{
		preflight.Stop:   a.Bad("Stands in the way"),
		preflight.Look:   a.Bold("Look at this"),
		preflight.Passed: a.Good("Passed"),
	}
	for _, level := range []preflight.Level{preflight.Stop, preflight.Look, preflight.Passed} {
		var lines [][2]string
		for _, f := range found {
			if f.Level == level {
				lines = append(lines, [2]string{f.About, PrintableText(f.Text + adviceFor(f.Reason))})
			}
		}
		if len(lines) > 0 {
			fmt.Fprintf(a.Out, "\n%s\n", headings[level])
			a.Facts(lines)
		}
	}
	fmt.Fprintln(a.Out)
}
