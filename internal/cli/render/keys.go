package render

import (
	"fmt"
	"maps"
	"slices"

	"revlet/internal/jobs"
)

// Signer words who has signed an archive.
func (a *Printer) Signer(s jobs.Signer) string {
	words := s.Fingerprint
	if s.Host != "" {
		words += " (" + Printable(s.Host) + ")"
	}
	switch {
	case s.Key == "":
		return a.Bad("nobody")
	case s.How == jobs.SignerOwn:
		return "this machine, " + words
	case s.How == jobs.SignerConfigured:
		return words + ", named in the configuration"
	case s.How == jobs.SignerFirstSeen:
		return words + ", known since " + When(s.Since)
	}
	return a.Bad(words + ", not known here")
}

// ShowSigners is whose archives are taken.
func (a *Printer) ShowSigners(own jobs.Signer, sites map[string][]jobs.Signer) {
	fmt.Fprintf(a.Out, "This machine signs its archives with %s:\n\n  %s\n\n", own.Fingerprint, own.Key)
	fmt.Fprintln(a.Out, "Where others are to take them, put that line into `signed_by:` of the site there.")
	for _, name := range slices.Sorted(maps.Keys(sites)) {
		for _, s := range sites[name] {
			fmt.Fprintf(a.Out, "%s: archives of %s are taken, too\n", name, a.Signer(s))
		}
	}
}

// ShowFoundSigners says who has signed the archives of a site that was found.
func (a *Printer) ShowFoundSigners(f jobs.FoundSite) {
	for _, s := range f.Signers {
		line := fmt.Sprintf("%s: %s signed by %s", f.Site, Count(int64(s.Archives), "archive", "archives"), s.Fingerprint)
		if s.Host != "" {
			line += " (" + Printable(s.Host) + ")"
		}
		if s.Missing > 0 {
			line += fmt.Sprintf("; %d in between are not there: removed, or withheld", s.Missing)
		}
		fmt.Fprintln(a.Out, line)
	}
	if len(f.Signers) > 1 {
		fmt.Fprintf(a.Out, "%s several machines have signed archives of %s. Take out of `signed_by:` whom you do not know.\n", a.Bad("Look:"), f.Site)
	}
	if f.Unsigned > 0 {
		fmt.Fprintf(a.Out, "%s %s of %s signed by nobody: anybody could have put it there, and it is not taken.\n", a.Bad("Look:"), Count(int64(f.Unsigned), "archive", "archives"), f.Site)
	}
}

// ShowKeyChecks says which archives a key opens; named tells whether new ones are encrypted for it.
func (a *Printer) ShowKeyChecks(file string, checks []jobs.KeyCheck, named bool) {
	for _, k := range checks {
		if k.Opens {
			fmt.Fprintf(a.Out, "%s %s opens %s\n", a.Good("Works:"), file, k.Archive)
		} else {
			fmt.Fprintf(a.Out, "%s %s\n", a.Bad("Does not open:"), PrintableText(k.Why))
		}
	}
	if len(checks) == 0 {
		fmt.Fprintln(a.Out, "No encrypted archive yet; after the next backup, check again.")
	}
	if !named {
		fmt.Fprintln(a.Out, "Note: new archives are not encrypted for this key: it is not in `encrypt:` in the configuration.")
	}
}
