package render

import (
	"fmt"

	"revlet/internal/work/compare"
)

// ShowSince says in which archive something first appeared.
func (a *Printer) ShowSince(what string, s compare.Sighting) {
	switch {
	case s.FirstSeen == "":
		fmt.Fprintf(a.Out, "%s is newer than every archive: none has it.\n", what)
	case s.Clean == "":
		fmt.Fprintf(a.Out, "%s is in every archive, back to %s (%s).\n", what, When(s.Seen), s.FirstSeen)
	default:
		fmt.Fprintf(a.Out, "%s: clean until %s (%s), first seen %s (%s).\n", what, When(s.CleanAt), s.Clean, When(s.Seen), s.FirstSeen)
	}
	switch s.AsItIs {
	case s.FirstSeen:
	case "":
		fmt.Fprintln(a.Out, "No archive has it as it is now: it was changed since.")
	default:
		fmt.Fprintf(a.Out, "As it is now since %s.\n", s.AsItIs)
	}
}
