package pagematch

import (
	_ "embed" // the page
	"html/template"
	"io"
	"strings"
	"sync"
	"time"
)

//go:embed report.html
var pageText string

var pageTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("match").Funcs(template.FuncMap{
		"shown": func(p Page) string { return "/" + p.Path },
		"grave": func(k Kind) bool { return k == Status || k == Signs || k == Broken || k == Circle },
		"few": func(all []string) (some []string) {
			for _, text := range all[:min(len(all), mostShown)] {
				some = append(some, Relative(text))
			}
			return some
		},
		"rest": func(all []string) int { return max(len(all)-mostShown, 0) },
	}).Parse(pageText))
})

// Relative is an address of the site as people know it, without the mark for its host.
func Relative(text string) string { return strings.ReplaceAll(text, here+"/", "/") }

// mostShown is how many texts of one difference the page shows.
const mostShown = 30

// WritePage writes a report as a self-contained page, the two sides beside each other where they differ.
// Nothing of the sites runs in it, and it loads nothing.
func (r *Report) WritePage(w io.Writer, old, now Side, at time.Time) error {
	name := func(s Side) string {
		if s.At.IsValid() {
			return s.Base.String() + " at " + s.At.String()
		}
		return s.Base.String()
	}
	var differ, unknown []Page
	for _, p := range r.Pages {
		switch p.Verdict {
		case Differs:
			differ = append(differ, p)
		case Unknown:
			unknown = append(unknown, p)
		}
	}
	return pageTemplate().Execute(w, map[string]any{"Report": r, "Old": name(old), "New": name(now), "At": at.Local().Format("2 January 2006, 15:04"), "Differ": differ, "NotReached": unknown})
}
