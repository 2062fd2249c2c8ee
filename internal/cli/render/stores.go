package render

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"revlet/internal/jobs"
)

// ShowTested says how stores answered.
func (a *Printer) ShowTested(all []jobs.StoreTest) {
	for _, t := range all {
		if t.OK {
			deleted := ", deleted"
			if t.Elsewhere {
				deleted = ""
			}
			fmt.Fprintf(a.Out, "%s %s (%s): written, read back, compared, listed%s; %s/s there, %s/s back\n", a.Good("Works:"), a.Bold(t.Store), t.Where, deleted, Size(t.Write), Size(t.Read))
			a.showRights(t)
		} else {
			fmt.Fprintf(a.Out, "%s %s: %s\n", a.Bad("Does not work:"), a.Bold(t.Store), Advised(t.Err))
		}
	}
	if len(all) == 0 {
		fmt.Fprintln(a.Out, "No store is configured yet.")
	}
}

// ShowStoreAdded says what was written into the configuration at path.
func (a *Printer) ShowStoreAdded(path string, done *jobs.StoreAdded) {
	fmt.Fprintf(a.Out, "\n%s %s\n\n", a.Good("Written to"), path)
	for line := range strings.SplitSeq(strings.TrimRight(PrintableLines(done.Added), "\n"), "\n") {
		fmt.Fprintln(a.Out, "  "+line)
	}
	fmt.Fprintln(a.Out)
	if done.SecretFile != "" {
		fmt.Fprintf(a.Out, "What you typed is in %s; nobody else can read that file.\n", done.SecretFile)
	}
}

// ShowStoreUsed says what goes to a new store, and what is left to do. closed tells that nobody there can read it, any
// that there are sites at all.
func (a *Printer) ShowStoreUsed(name string, sites []string, closed, any bool) {
	if !closed {
		fmt.Fprintf(a.Out, "%s whoever can read %s can read your archives, passwords in them too;\n`revlet keys new FILE --use` has new ones encrypted.\n", a.Bad("Not encrypted:"), name)
	}
	if !any {
		fmt.Fprintf(a.Out, "Next: `revlet adopt PATH --store %s` describes a site whose archives go there.\n", name)
		return
	}
	if len(sites) == 0 {
		fmt.Fprintf(a.Out, "No site uses it yet: add %s to the `stores:` of a site.\n", name)
		return
	}
	fmt.Fprintf(a.Out, "Next: `revlet stores copy --to %s` sends there what you have of %s; new archives go there by themselves.\n", name, strings.Join(sites, ", "))
}

// ShowUnlinked says that a link is no more.
func (a *Printer) ShowUnlinked(name string, told bool) {
	fmt.Fprintf(a.Out, "%s nothing here may use %s any more.\n", a.Good("Taken back:"), name)
	if !told {
		fmt.Fprintf(a.Out, "%s it has no address for taking back what it gave: look on its own pages for what may use your account, and end it there, too.\n", a.Bad("The place was not told:"))
	}
}

// showRights says what an intruder on this machine could do to what is in a store.
func (a *Printer) showRights(t jobs.StoreTest) {
	switch {
	case t.Onsite:
		fmt.Fprintln(a.Out, "  Whoever takes this machine over can delete and replace what is there.")
	case t.Locked && t.Delete != jobs.Refused:
		fmt.Fprintln(a.Out, "  An intruder on this machine could hide what is there. The bucket's lock holds it all the same:\n  earlier versions come back with the bucket's own tools (docs/SECURITY.md).")
	case t.Delete == jobs.Refused && t.Overwrite == jobs.Refused:
		fmt.Fprintln(a.Out, "  An intruder on this machine could neither delete nor overwrite what is there.")
	case t.Delete == jobs.Unknown || t.Overwrite == jobs.Unknown:
		fmt.Fprintf(a.Out, "  What an intruder on this machine could do there is not known (to delete: %s, to overwrite: %s).\n", t.Delete, t.Overwrite)
	default:
		warn := "  An intruder on this machine could"
		if t.Elsewhere {
			warn = "  " + a.Bad("Look:") + " it says `keeper: elsewhere`, yet an intruder on this machine could"
		}
		fmt.Fprintf(a.Out, "%s %s what is there. docs/SECURITY.md shows accounts that may not.\n", warn, mayDo(t))
	}
}

// mayDo words what is allowed of deleting and overwriting.
func mayDo(t jobs.StoreTest) string {
	switch {
	case t.Delete != jobs.Allowed:
		return "overwrite, and not delete,"
	case t.Overwrite != jobs.Allowed:
		return "delete, and not overwrite,"
	}
	return "delete and overwrite"
}

// ShowCopied says what was brought to stores, or to the one that was named.
func (a *Printer) ShowCopied(all []jobs.Copied, to string) {
	switch {
	case len(all) > 0:
	case to != "":
		fmt.Fprintf(a.Out, "Nothing to copy: %s has every archive of the stores that answer.\n", to)
	default:
		fmt.Fprintln(a.Out, "Nothing to copy: no archive is pending.")
	}
	for _, d := range all {
		if d.Why != "" {
			fmt.Fprintf(a.Out, "%s %s to %s: %s\n", a.Bad("Not copied:"), d.Archive, d.Store, Inline(d.Err))
			continue
		}
		fmt.Fprintf(a.Out, "%s %s is in %s: %s sent in %s\n", a.Good("Copied:"), d.Archive, d.Store, Size(d.Bytes), Count(int64(d.Objects), "object", "objects"))
	}
}

// ShowHealed says what was mended in a store; quick, that only lengths were compared.
func (a *Printer) ShowHealed(target string, healed map[string]*jobs.HealedSite, quick bool) {
	for _, name := range slices.Sorted(maps.Keys(healed)) {
		site := healed[name]
		many := Count(int64(site.Archives), "archive", "archives")
		switch {
		case site.Archives == 0:
			fmt.Fprintf(a.Out, "%s has no archive of %s, and has lost none, as far as is known; `revlet stores copy %s --to %s` sends those of the other stores.\n", target, name, name, target)
		case len(site.Objects) == 0 && quick:
			fmt.Fprintf(a.Out, "%s everything of the %s of %s in %s is there, of the right length; it was not read.\n", a.Good("Nothing to heal:"), many, name, target)
		case len(site.Objects) == 0:
			fmt.Fprintf(a.Out, "%s everything of the %s of %s in %s is sound.\n", a.Good("Nothing to heal:"), many, name, target)
		}
		for _, h := range site.Objects {
			if h.Left != "" {
				fmt.Fprintf(a.Out, "%s %s (%s): %s\n", a.Bad("Still damaged:"), h.Object, PrintableText(h.Why), PrintableText(h.Left))
			} else {
				fmt.Fprintf(a.Out, "%s %s (%s)\n", a.Good("Healed:"), h.Object, PrintableText(h.Why))
			}
		}
	}
}
