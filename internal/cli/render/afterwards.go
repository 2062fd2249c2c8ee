package render

import (
	"fmt"
	"slices"
	"strings"

	"revlet/internal/archives/catalog"
	"revlet/internal/jobs"
	"revlet/internal/site"
	"revlet/internal/work/compare"
	"revlet/internal/work/restore"
)

// strangersShown is how many files that were taken out are listed.
const strangersShown = 10

// ShowStrangers says what is gone from the webroot and, if it looks like a
// break-in, what only a person can do now. With apart, something
// else stayed, too.
func (a *Printer) ShowStrangers(h *catalog.Held, s *site.Site, gone []compare.File, apart bool) {
	added := slices.DeleteFunc(slices.Clone(gone), func(f compare.File) bool { return f.How != compare.Added })
	suspects := slices.DeleteFunc(slices.Clone(gone), func(f compare.File) bool { return f.Suspect == "" })
	if len(added) > 0 {
		begin := "The webroot"
		if apart {
			begin = "Apart from that, the webroot"
		}
		fmt.Fprintf(a.Out, "\n%s holds nothing that the archive does not: %s set aside.\n", begin, Count(int64(len(added)), "file that was added since is", "files that were added since are"))
	}
	if len(suspects) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "\n%s\n", a.Bad("Among what was set aside:"))
	for _, f := range suspects[:min(len(suspects), strangersShown)] {
		fmt.Fprintf(a.Out, "  %-8s %s  %s\n", f.How, shownPath(f.Path), a.Dim(f.Suspect))
	}
	if len(suspects) > strangersShown {
		fmt.Fprintf(a.Out, "  … and %d more: `revlet aside show %s`\n", len(suspects)-strangersShown, h.Site)
	}
	fmt.Fprintf(a.Out, "\n%s\n", a.Bold("If somebody got in, only you can do the rest:"))
	for i, step := range afterBreakIn(h, s) {
		a.Item(fmt.Sprintf("%d.", i+1), step)
	}
}

// afterBreakIn lists what no program can do after a break-in.
func afterBreakIn(h *catalog.Held, s *site.Site) []string {
	steps := []string{
		fmt.Sprintf("Keep the evidence: `revlet aside export %s FILE`, before `revlet settle %s` deletes it.", h.Site, h.Site),
		fmt.Sprintf("Make sure that the archive is from before the break-in: `revlet compare OLDER %s`.", h.Name),
		"Change every password: of all administrators of the site, of the database, of the hosting account, SFTP and mail.",
	}
	if s.Recipe != nil {
		steps = append(steps, s.Recipe.AfterBreakIn...)
	}
	return append(steps,
		"Find the hole and close it: update the CMS, its themes and extensions, and read the web server's log of those days.",
		"Look at the other sites of the same account: who gets into one gets into all.")
}

// So many paths that an archive never held are listed, and so many scripts in each.
const (
	uncoveredShown = 12
	scriptsShown   = 3
)

// ShowUncovered says what becomes of what the archive never held, in the words given.
func (a *Printer) ShowUncovered(all []restore.Uncovered, clean bool, stays, goes string) {
	a.listUncovered(stays, slices.DeleteFunc(slices.Clone(all), func(u restore.Uncovered) bool { return !u.Stays(clean) }))
	a.listUncovered(goes, slices.DeleteFunc(slices.Clone(all), func(u restore.Uncovered) bool { return u.Stays(clean) }))
}

func (a *Printer) listUncovered(what string, all []restore.Uncovered) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "\nThe archive never held this; it %s:\n", what)
	for _, u := range all[:min(len(all), uncoveredShown)] {
		name := u.Path
		if u.Label != site.RootLabel {
			name = u.Label + "/" + u.Path
		}
		fmt.Fprintf(a.Out, "  %s  %s, %s  %s\n", Printable(name), Count(u.Files, "file", "files"), Size(u.Bytes), a.Dim(PrintableText(strings.ReplaceAll(u.Why, "\n", " "))))
		for _, s := range u.Scripts[:min(len(u.Scripts), scriptsShown)] {
			fmt.Fprintf(a.Out, "    %s %s\n", a.Bad("a script:"), Printable(s))
		}
		if len(u.Scripts) > scriptsShown {
			fmt.Fprintf(a.Out, "    … and more scripts\n")
		}
	}
	if more := len(all) - uncoveredShown; more > 0 {
		fmt.Fprintf(a.Out, "  … and %d more; --json lists all\n", more)
	}
}

// ShowExtraTables says what becomes of tables that the archive does not have.
func (a *Printer) ShowExtraTables(all []jobs.ExtraTable, err error, goes string) {
	if err != nil {
		fmt.Fprintf(a.Out, "%s which tables the archive does not have cannot be told: %s\n", a.Bad("Unknown:"), ErrText(err))
	}
	if len(all) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "\nThe archive does not have these tables; each %s:\n", goes)
	for _, t := range all[:min(len(all), uncoveredShown)] {
		bytes := ""
		if t.Bytes > 0 {
			bytes = "  " + Size(t.Bytes)
		}
		fmt.Fprintf(a.Out, "  %s in database %s%s\n", Printable(t.Table), t.Database, bytes)
	}
	if more := len(all) - uncoveredShown; more > 0 {
		fmt.Fprintf(a.Out, "  … and %d more; --json lists all\n", more)
	}
}
