package render

import (
	"fmt"
	"slices"
	"strings"

	"revlet/internal/archives/catalog"
	"revlet/internal/jobs"
	"revlet/internal/work/verify"
)

// TroubleTexts words stores and records that could not be read.
func TroubleTexts(all []jobs.Trouble) []string {
	var texts []string
	for _, t := range all {
		text := Inline(t.Err)
		if t.Store != "" { // else the error says which
			text = fmt.Sprintf("store %s: %s", t.Store, text)
		}
		if !slices.Contains(texts, text) { // one store is asked for several sites
			texts = append(texts, text)
		}
	}
	return texts
}

// ShowReports is the verdict on each archive in each store, with what is damaged.
func (a *Printer) ShowReports(proof *jobs.Proof) {
	reports, trouble := proof.Reports, TroubleTexts(proof.Trouble)
	if len(reports) == 0 && len(trouble) == 0 {
		fmt.Fprintln(a.Out, "No archives to verify. `revlet backup` takes one.")
		return
	}
	var rows [][]string
	for _, r := range reports {
		verdict := a.Good(string(catalog.Sound))
		if !r.Sound() {
			verdict = a.Bad(strings.ToUpper(string(r.Verdict())))
		}
		rows = append(rows, []string{r.Archive, r.Store, string(r.Level), fmt.Sprint(r.Parts), Size(r.Bytes), Took(r.Took), verdict})
	}
	if len(rows) > 0 {
		a.Table([]string{"archive", "store", "level", "parts", "size", "took", "verdict"}, rows, 4, 5, 6)
	}
	for _, s := range proof.Signers {
		fmt.Fprintf(a.Out, "Signed by %s.\n", a.Signer(s))
	}
	damaged := false
	a.showDamage(reports)
	for _, r := range reports {
		a.showNotReached(r)
		damaged = damaged || len(r.Damage) > 0
	}
	if damaged {
		fmt.Fprintln(a.Out, "\nNext: `revlet stores heal STORE` puts sound copies from other stores in their place; if there is\nno other store, take a new archive now with `revlet backup`, and look at the disk under that one.")
	}
	for _, t := range trouble {
		fmt.Fprintf(a.Out, "%s %s\n", a.Bad("trouble:"), PrintableText(fmt.Sprint(t)))
	}
}

// spoiled is a part that is damaged in a store, with the archives that share it.
type spoiled struct {
	verify.Damage
	archives []string
}

// showDamage tells of each damaged part once, however many archives share it.
func (a *Printer) showDamage(reports []*verify.Report) {
	var all []*spoiled
	for _, r := range reports {
		for _, d := range r.Damage {
			i := slices.IndexFunc(all, func(s *spoiled) bool {
				return d.Object != "list" && s.Object == d.Object && s.Why == d.Why && slices.Equal(s.Held, d.Held) && s.Store == r.Store
			})
			if i < 0 {
				d.Store = r.Store
				all = append(all, &spoiled{Damage: d})
				i = len(all) - 1
			}
			all[i].archives = append(all[i].archives, r.Archive)
		}
	}
	store := ""
	for _, d := range all {
		if d.Store != store {
			store = d.Store
			fmt.Fprintf(a.Out, "\n%s\n", a.Bad("Damage in store "+store+":"))
		}
		what := "part " + d.Object
		if d.Object == "list" {
			what = "the list of contents"
		}
		fmt.Fprintf(a.Out, "  %s\n    of %s\n    %s\n", what, a.archivesOf(d.archives), PrintableText(d.Why))
		for _, name := range d.Held {
			fmt.Fprintf(a.Out, "    held %s\n", Printable(name))
		}
		if more := d.HeldTotal - len(d.Held); more > 0 {
			fmt.Fprintf(a.Out, "    and %d more\n", more)
		}
	}
}

// archivesNamed is how many archives that share a damaged part are named.
const archivesNamed = 4

func (a *Printer) archivesOf(names []string) string {
	text := a.Bold(strings.Join(names[:min(len(names), archivesNamed)], ", "))
	if more := len(names) - archivesNamed; more > 0 {
		text += fmt.Sprintf(" and %d more archives", more)
	}
	return text
}

// missedShown is how many objects that were not reached are listed.
const missedShown = 3

// showNotReached lists what could not be read, of which nothing is known.
func (a *Printer) showNotReached(r *verify.Report) {
	if len(r.NotReached) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "\n%s in store %s: nothing is known of %s\n", a.Bad("Not reached: "+r.Archive), r.Store, Count(int64(len(r.NotReached)), "object", "objects"))
	for _, m := range r.NotReached[:min(len(r.NotReached), missedShown)] {
		fmt.Fprintf(a.Out, "  %s\n    %s\n", m.Object, PrintableText(m.Why))
	}
	if more := len(r.NotReached) - missedShown; more > 0 {
		fmt.Fprintf(a.Out, "  … and %d more\n", more)
	}
}
