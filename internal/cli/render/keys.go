package render

import (
	"fmt"

	"revlet/internal/jobs"
)

// ShowKeyChecks says which archives a key opens; named tells whether new ones are encrypted for it.
func (a *Printer) ShowKeyChecks(file string, checks []jobs.KeyCheck, named bool) {
	for _, k := range checks {
		if k.Opens {
			fmt.Fprintf(a.Out, "%s %s opens %s\n", a.Good("Works:"), file, k.Archive)
		} else {
			fmt.Fprintf(a.Out, "%s %s\n", a.Bad("Does not open:"), k.Why)
		}
	}
	if len(checks) == 0 {
		fmt.Fprintln(a.Out, "No encrypted archive yet; after the next backup, check again.")
	}
	if !named {
		fmt.Fprintln(a.Out, "Note: new archives are not encrypted for this key: it is not in `encrypt:` in the configuration.")
	}
}
