package render

import (
	"fmt"

	"revlet/internal/jobs"
)

// ShowSince says in which archive something first appeared.
func (a *Printer) ShowSince(what string, s jobs.SightingNow) {
	gone := s.Live != nil && !*s.Live
	switch {
	case s.NotAsked != "":
		fmt.Fprintf(a.Out, "%s whether the live site has %s: %s\n", a.Bad("Not known:"), what, PrintableText(s.NotAsked))
	case gone:
		fmt.Fprintf(a.Out, "%s is not on the live site.\n", what)
	}
	if s.Last != "" {
		fmt.Fprintf(a.Out, "The newest archive that has it is %s, of %s.\n", s.Last, When(s.LastAt))
	}
	switch {
	case s.FirstSeen == "" && s.NotAsked != "":
		fmt.Fprintln(a.Out, "No archive has it.")
	case s.FirstSeen == "":
		fmt.Fprintf(a.Out, "%s is newer than every archive: none has it.\n", what)
	case s.Clean == "" && s.Last != "":
		fmt.Fprintf(a.Out, "It is in the oldest archive, too (%s, of %s).\n", s.FirstSeen, When(s.Seen))
	case s.Clean == "":
		fmt.Fprintf(a.Out, "%s is in every archive, back to %s (%s).\n", what, When(s.Seen), s.FirstSeen)
	default:
		fmt.Fprintf(a.Out, "%s: clean until %s (%s), first seen %s (%s).\n", what, When(s.CleanAt), s.Clean, When(s.Seen), s.FirstSeen)
	}
	switch {
	case s.Last != "" || s.AsItIs == s.FirstSeen:
	case s.AsItIs == "":
		fmt.Fprintln(a.Out, "No archive has it as it is now: it was changed since.")
	default:
		fmt.Fprintf(a.Out, "As it is now since %s.\n", s.AsItIs)
	}
}
