package render

import (
	"fmt"

	"revlet/internal/site/check"
)

// Checked words one answer of a check.
func (a *Printer) Checked(r check.Result) string {
	if r.OK() {
		text := a.Good(fmt.Sprintf("%s answers %d", r.URL, r.Status)) + " in " + Took(r.Took)
		if r.Note != "" {
			text += ", but " + PrintableText(r.Note)
		}
		return text
	}
	return a.Bad(r.URL + ": " + PrintableText(r.Trouble))
}
