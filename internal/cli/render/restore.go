package render

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/jobs"
	"revlet/internal/site"
	"revlet/internal/work/restore"
)

// TablesIn words what an archive holds of databases.
func TablesIn(rec *archive.Record) string {
	t := rec.Totals
	for _, p := range rec.Parts {
		if p.Kind == archive.KindDump {
			return Size(t.DatabaseBytes) + " of SQL that another program has written"
		}
	}
	return fmt.Sprintf("%s, %s", Count(t.Tables, "table", "tables"), Count(t.Rows, "row", "rows"))
}

// lostShown is how much of what is damaged is listed.
const lostShown = 20

// ShowLost names what is damaged in every store.
func (a *Printer) ShowLost(lost []string, what string) {
	if len(lost) == 0 {
		return
	}
	a.showNames(a.Bad("Lost:")+" damaged in every store, and "+what, lost)
}

// ShowPairs lists a few of some names below a heading, with what belongs to each.
func (a *Printer) ShowPairs(heading string, pairs map[string]string) {
	var lines []string
	for _, name := range slices.Sorted(maps.Keys(pairs)) {
		lines = append(lines, name+" → "+pairs[name])
	}
	if len(lines) > 0 {
		a.showNames(heading, lines)
	}
}

// showNames lists a few of some names below a heading.
func (a *Printer) showNames(heading string, lost []string) {
	fmt.Fprintf(a.Out, "\n%s:\n", heading)
	for _, one := range lost[:min(len(lost), lostShown)] {
		fmt.Fprintf(a.Out, "  %s\n", Printable(strings.TrimPrefix(one, site.RootLabel+"/")))
	}
	if more := len(lost) - lostShown; more > 0 {
		fmt.Fprintf(a.Out, "  … and %d more; --json lists all\n", more)
	}
}

// given says whose things belong to others on this machine.
func given(all [][2]string) (lines [][2]string) {
	for i, one := range all[:min(len(all), lostShown)] {
		lines = append(lines, [2]string{[]string{"owner", ""}[min(i, 1)], "what belonged to the " + Printable(one[0]) + " belongs to " + Printable(one[1])})
	}
	if more := len(all) - lostShown; more > 0 {
		lines = append(lines, [2]string{"", fmt.Sprintf("… and %d more; --json lists all", more)})
	}
	return lines
}

// ShowDisarmed names files that came without the rights they gave, and says why.
func (a *Printer) ShowDisarmed(names []string, why string) {
	if len(names) > 0 {
		a.showNames("Left off: the rights that files give to whoever runs them (set-user-ID, capabilities), "+why, names)
	}
}

// anotherSaved is why a site comes up without such rights.
const anotherSaved = "for another machine has saved them; give them anew if the site needs them"

// ShowRestored says what a restore has put back, set aside and left.
func (a *Printer) ShowRestored(r *jobs.Restored) {
	h := r.Archive
	did := a.Good("Restored")
	switch {
	case len(r.Lost) > 0:
		did = a.Bad("Restored what was left:")
	case len(r.Unlinked) > 0:
		did = a.Bad("Restored without some links:")
	}
	fmt.Fprintf(a.Out, "%s %s from %s\n\n", did, a.Bold(h.Site), h.Name)
	var lines [][2]string
	if r.Paths > 0 {
		lines = append(lines, [2]string{"files", Count(r.Paths, "path", "paths") + " put back, each digest checked"})
		if r.Still.Paths > 0 {
			lines = append(lines, [2]string{"", fmt.Sprintf("%s of them, %s, the site still had as they were saved", Count(r.Still.Paths, "file", "files"), Size(r.Still.Bytes))})
		}
	}
	for i, m := range r.Moves {
		lines = append(lines, [2]string{[]string{"database", ""}[min(i, 1)], m.Table + ": " + Count(m.Put, "row", "rows") + " put back"})
	}
	if r.Tables > 0 && len(r.Moves) == 0 {
		lines = append(lines, [2]string{"database", fmt.Sprintf("%s, %s put back", Count(int64(r.Tables), "table", "tables"), Count(r.Rows, "row", "rows"))})
	}
	lines = append(lines, [2]string{"took", fmt.Sprintf("%s, of which the exchange %s", Took(r.Took), Took(r.Swap))})
	for _, one := range r.Answers {
		lines = append(lines, [2]string{"check", a.Checked(one)})
	}
	for _, place := range r.Aside {
		lines = append(lines, [2]string{"set aside", place})
	}
	if r.Paths > 0 && r.Site.Far() && !strings.Contains(r.Site.Root, "://root@") {
		lines = append(lines, [2]string{"owner", "all files belong to the account there"})
	} else if os.Geteuid() != 0 && r.Paths > 0 {
		lines = append(lines, [2]string{"owner", "all files belong to this account; only root can give them to others"})
	}
	lines = append(lines, given(r.Given)...)
	a.Facts(lines)
	a.ShowUncovered(r.Uncovered, r.Clean, "was carried over", "was set aside too")
	a.ShowExtraTables(r.ExtraTables, nil, "was set aside")
	a.ShowLost(r.Lost, "not put back; what the site had is set aside")
	if len(r.Unlinked) > 0 {
		a.showNames(a.Bad("Not put back:")+" links, which cannot be made on that machine; ask its host, or make them there", r.Unlinked)
	}
	a.ShowDisarmed(r.Disarmed, anotherSaved)
	a.ShowStrangers(h, r.Site, r.TakenOut, slices.ContainsFunc(r.Uncovered, func(u restore.Uncovered) bool { return u.Stays(r.Clean) }))
	next := "look at the site"
	if r.Tables > 0 && len(r.Moves) == 0 {
		next += ", and log in with the accounts of " + h.Taken.Local().Format("2 January")
	}
	fmt.Fprintf(a.Out, "\nNext: %s.\n", next)
	settles := "deletes what was set aside"
	if len(r.Aside) == 0 {
		settles = "keeps it for good: there was nothing to set aside"
	}
	fmt.Fprintf(a.Out, "`revlet undo %s` takes this back; `revlet settle %s` %s.\n", h.Site, h.Site, settles)
}
