package render

import (
	"fmt"

	"revlet/internal/jobs"
	"revlet/internal/work/replicate"
)

// ShowTested says how stores answered.
func (a *Printer) ShowTested(all []jobs.StoreTest) {
	for _, t := range all {
		if t.OK {
			fmt.Fprintf(a.Out, "%s %s (%s): written, read back, compared, listed, deleted; %s/s there, %s/s back\n", a.Good("Works:"), a.Bold(t.Store), t.Where, Size(t.Write), Size(t.Read))
		} else {
			fmt.Fprintf(a.Out, "%s %s: %s\n", a.Bad("Does not work:"), a.Bold(t.Store), PrintableText(Advised(t.Err)))
		}
	}
	if len(all) == 0 {
		fmt.Fprintln(a.Out, "No store is configured yet.")
	}
}

// ShowCopied says what was brought to stores.
func (a *Printer) ShowCopied(all []jobs.Copied) {
	if len(all) == 0 {
		fmt.Fprintln(a.Out, "Nothing to copy: every archive is where it should be.")
		return
	}
	for _, d := range all {
		if d.Why != "" {
			fmt.Fprintf(a.Out, "%s %s to %s: %s\n", a.Bad("Not copied:"), d.Archive, d.Store, PrintableText(Inline(d.Err)))
			continue
		}
		fmt.Fprintf(a.Out, "%s %s is in %s: %s sent in %s\n", a.Good("Copied:"), d.Archive, d.Store, Size(d.Bytes), Count(int64(d.Objects), "object", "objects"))
	}
}

// ShowHealed says what was mended in a store.
func (a *Printer) ShowHealed(target string, names []string, healed map[string][]replicate.Healed) {
	for _, name := range names {
		if len(healed[name]) == 0 {
			fmt.Fprintf(a.Out, "%s everything of %s in %s is sound.\n", a.Good("Nothing to heal:"), name, target)
		}
		for _, h := range healed[name] {
			if h.Left != "" {
				fmt.Fprintf(a.Out, "%s %s (%s): %s\n", a.Bad("Still damaged:"), h.Object, h.Why, PrintableText(h.Left))
			} else {
				fmt.Fprintf(a.Out, "%s %s (%s)\n", a.Good("Healed:"), h.Object, h.Why)
			}
		}
	}
}
