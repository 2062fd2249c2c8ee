package render

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"revlet/internal/jobs"
	"revlet/internal/site"
	"revlet/internal/site/check"
	"revlet/internal/work/backup"
	"revlet/internal/work/move"
)

// Line prints one line.
func (a *Printer) Line(text string) { fmt.Fprintln(a.Out, text) }

// arrow says what becomes what.
func arrow(from, now string) string {
	if from == "" {
		return now
	}
	return Printable(from) + " → " + Printable(now)
}

// ShowMovePlan says from where to where a site is moved.
func (a *Printer) ShowMovePlan(m *jobs.Move) {
	h := m.Order.Archive
	fmt.Fprintf(a.Out, "%s from %s\n\n", a.Bold(fmt.Sprintf("Bring %s up as %s", h.Site, m.Order.To)), h.Name)
	lines := [][2]string{
		{"taken", fmt.Sprintf("%s (%s)", When(h.Taken), a.Age(h.Taken))},
		{"webroot", arrow(h.Origin.Roots[site.RootLabel], m.Entry.Root)},
		{"address", arrow(h.Origin.Address, m.Site.Address)},
	}
	for _, label := range slices.Sorted(maps.Keys(m.Entry.Roots)) {
		lines = append(lines, [2]string{"folder", label + ": " + arrow(h.Origin.Roots[label], m.Entry.Roots[label])})
	}
	for _, db := range m.Site.Databases {
		origin, held := h.Origin.Databases[db.Label]
		rel, inside := m.Site.Inside(db)
		switch {
		case held && inside:
			lines = append(lines, [2]string{"database", Printable(rel) + " in the webroot, " + TablesIn(h.Record)})
		case held:
			lines = append(lines, [2]string{"database", arrow(origin.Where, db.Where()) + ", " + TablesIn(h.Record)})
		}
	}
	a.Facts(append(lines, a.placeLines(m)...))
	fmt.Fprintln(a.Out)
}

// placeLines say what is special about a move, and what there is at its new place.
func (a *Printer) placeLines(m *jobs.Move) (lines [][2]string) {
	for _, db := range m.Plan.To().Databases {
		if was, ok := m.Site.Database(db.Label); ok && was.Prefix != db.Prefix {
			lines = append(lines, [2]string{"tables", arrow(was.Prefix+"…", db.Prefix+"…")})
		}
	}
	for _, pair := range m.Order.Also {
		lines = append(lines, [2]string{"also", arrow(pair.Old, pair.New)})
	}
	if m.Order.SubSite != "" {
		lines = append(lines, [2]string{"only", "the site " + Printable(m.Order.SubSite) + " of the network, with its uploads, and all accounts"})
	}
	if m.Order.Copy {
		lines = append(lines, [2]string{"practice", "a copy that keeps quiet; what is not switched off is said in the end"})
	}
	lines = append(lines, [2]string{"old site", "stays as it is"})
	for _, what := range m.Replaces {
		lines = append(lines, [2]string{"set aside", what})
	}
	for _, n := range m.Needs {
		verdict := n.Verdict
		if verdict != jobs.NeedMet {
			verdict = a.Bad(verdict)
		}
		has := ""
		if n.Has != "" {
			has = "; there: " + Printable(n.Has)
		}
		lines = append(lines, [2]string{"needs", fmt.Sprintf("%s %s: %s%s", n.What, Printable(n.Wants), verdict, has)})
	}
	for _, db := range m.Makes {
		lines = append(lines, [2]string{"is made", "database " + Printable(db.Name) + " and account " + Printable(db.User) + ", by " + Printable(m.Order.MakeDatabase)})
	}
	for _, what := range m.Beside {
		lines = append(lines, [2]string{"stays", what})
	}
	return lines
}

// columnsShown is how many columns are listed.
const columnsShown = 25

// ShowMoveReport says what a move changes, or has changed, and what names the old place
// still. dumped tells that the values of a copy made by hand are not known ahead.
func (a *Printer) ShowMoveReport(r move.Report, ahead, dumped bool) {
	var rows [][]string
	more := 0
	for _, c := range r.Columns {
		switch {
		case c.Values == 0:
		case len(rows) == columnsShown:
			more++
		default:
			rows = append(rows, []string{Printable(c.Table + "." + c.Column), fmt.Sprint(c.Values), fmt.Sprint(c.Places), Printable(c.Before), Printable(c.After)})
		}
	}
	did := "changed"
	if ahead {
		did = "would change"
	}
	if len(rows) == 0 && ahead && dumped {
		fmt.Fprintln(a.Out, "The copy was made by hand: which values change is known once it is moved.")
	} else if len(rows) == 0 {
		fmt.Fprintln(a.Out, "No value of the database names the old place.")
	} else {
		fmt.Fprintf(a.Out, "%s in the database %s:\n\n", Count(r.Places(), "place", "places"), did)
		a.Table([]string{"column", "values", "places", "for example", "becomes"}, rows, 2, 3)
	}
	if more > 0 {
		fmt.Fprintf(a.Out, "… and %d more columns; --json lists all\n", more)
	}
	a.showRowChanges(r.Rows, ahead)
	a.showMovedFiles(r.Files)
	if len(r.Emptied) > 0 {
		var all []string
		for _, t := range r.Emptied[:min(len(r.Emptied), columnsShown)] {
			all = append(all, fmt.Sprintf("%s (%s)", Printable(t.Table), Count(t.Rows, "row", "rows")))
		}
		fmt.Fprintf(a.Out, "\nWithout rows, for the CMS makes them anew: %s\n", strings.Join(all, ", "))
	}
	a.showLeft(r)
	for i, note := range r.Notes {
		if i == 0 {
			fmt.Fprintln(a.Out)
		}
		how := ""
		if note.Host != "" {
			how = "; --also https://" + Printable(note.Host) + "=… changes it"
		}
		fmt.Fprintf(a.Out, "%s %s%s\n", a.Bad("Note:"), Printable(note.Text), how)
	}
}

// showMovedFiles lists the files and links that were changed, those that were left first.
func (a *Printer) showMovedFiles(all []move.File) {
	changed := func(f move.File) bool { return !f.Link }
	all = slices.Concat(slices.DeleteFunc(slices.Clone(all), changed), slices.DeleteFunc(slices.Clone(all), func(f move.File) bool { return f.Link }))
	for i, f := range all[:min(len(all), columnsShown)] {
		if i == 0 {
			fmt.Fprintln(a.Out)
		}
		what := "changed"
		switch {
		case f.Leads != "":
			what = "leads to " + Printable(f.Leads)
		case f.Link:
			what = a.Bad("is a link, and what it leads to was left as it is")
		case f.Added:
			what = "written, for this is a practice copy"
		}
		fmt.Fprintf(a.Out, "  %s  %s\n", Printable(f.Path), what)
	}
	if more := len(all) - columnsShown; more > 0 {
		fmt.Fprintf(a.Out, "  … and %d more; --json lists all\n", more)
	}
}

// showRowChanges lists the rows that change for what they are.
func (a *Printer) showRowChanges(all []move.RowChange, ahead bool) {
	if len(all) == 0 {
		return
	}
	if ahead {
		fmt.Fprint(a.Out, "\nAnd these rows would, for what they are:\n\n")
	} else {
		fmt.Fprint(a.Out, "\nAnd these rows, for what they are:\n\n")
	}
	var rows [][]string
	for _, c := range all {
		what := c.What
		if c.TooLong > 0 {
			what += a.Bad(fmt.Sprintf(" (%d left: too long for the column)", c.TooLong))
		}
		rows = append(rows, []string{Printable(c.Table + "." + c.Column), fmt.Sprint(c.Rows), what})
	}
	a.Table([]string{"column", "rows", "what"}, rows, 2)
}

// showLeft names the columns in which the old place stands still.
func (a *Printer) showLeft(r move.Report) {
	var lines []string
	for _, c := range r.Columns {
		var what []string
		for _, one := range []struct {
			n    int64
			text string
		}{
			{c.Kept, "identifiers, which stay"}, {c.Mail, "mail addresses; --mail-too changes them"},
			{c.Malformed, a.Bad("damaged by some program before: another length would break them for good")},
			{c.Encoded, a.Bad("in base64, which is not looked into")}, {c.Custom, a.Bad("objects that write themselves")}, {c.Keys, a.Bad("with keys that would collide")}, {c.TooLong, a.Bad("too long for the column with the new place in it")},
		} {
			if one.n > 0 {
				what = append(what, fmt.Sprintf("%d %s", one.n, one.text))
			}
		}
		if len(what) > 0 {
			lines = append(lines, fmt.Sprintf("  %s  %s", Printable(c.Table+"."+c.Column), strings.Join(what, ", ")))
		}
	}
	if len(lines) == 0 {
		return
	}
	fmt.Fprintln(a.Out, "\nLeft as it is, with the old place in it:")
	for _, l := range lines[:min(len(lines), columnsShown)] {
		fmt.Fprintln(a.Out, l)
	}
	if more := len(lines) - columnsShown; more > 0 {
		fmt.Fprintf(a.Out, "  … and %d more columns; --json lists all\n", more)
	}
}

// ShowMoved says what came of a move, and what is left for a person.
func (a *Printer) ShowMoved(r *jobs.Moved) {
	m := r.Move
	a.ShowMoveReport(r.Report, false, false)
	answers := len(r.Answers) > 0 && check.Worst(r.Answers).OK()
	fmt.Fprintf(a.Out, "\n%s %s as %s\n\n", a.Good("Came up:"), m.Order.Archive.Name, a.Bold(m.Order.To))
	lines := [][2]string{
		{"files", Count(r.Paths, "path", "paths") + ", each digest checked"},
		{"database", fmt.Sprintf("%s, %s", Count(int64(r.Tables), "table", "tables"), Count(r.Rows, "row", "rows"))},
		{"took", fmt.Sprintf("%s, of which the exchange %s", Took(r.Took), Took(r.Swap))},
	}
	for _, one := range r.Made {
		lines = append(lines, [2]string{"made", Printable(one)})
	}
	for _, one := range r.Answers {
		lines = append(lines, [2]string{"check", a.Checked(one)})
	}
	for _, place := range r.Aside {
		lines = append(lines, [2]string{"set aside", place})
	}
	if r.Added != "" {
		lines = append(lines, [2]string{"entry", m.Order.To + " was added to the configuration, without a schedule and keep rules"})
	}
	a.Facts(append(lines, given(r.Given)...))
	a.ShowDisarmed(r.Disarmed, "for it is another place; give them anew if the site needs them")
	a.showToDo(m, answers, slices.ContainsFunc(r.Report.Columns, (*move.Column).Lost))
}

// showToDo lists what only a person can do.
func (a *Printer) showToDo(m *jobs.Move, answers, lost bool) {
	var list []string
	if !answers {
		list = append(list, fmt.Sprintf("%s does not answer as the new site yet: its name has to lead here, and the web server has to serve %s.", m.Site.Address, m.Entry.Root))
	}
	if out := backup.LeadsOut(m.Order.Archive.Origin); out != "" {
		list = append(list, "Bring over what no archive holds: "+PrintableText(out)+".")
	}
	if lost {
		list = append(list, "Look at the columns above in which the old place stands still.")
	}
	if m.Site.Recipe != nil {
		list = append(list, m.Site.Recipe.Move.Afterwards...)
	}
	if m.Order.Copy {
		not := []string{"mail and scheduled tasks: how this CMS is kept from them is not known"}
		if m.Site.Recipe != nil && len(m.Site.Recipe.Move.NotInCopy) > 0 {
			not = m.Site.Recipe.Move.NotInCopy
		}
		list = append(list, "Not switched off in the copy: "+strings.Join(not, "; ")+".")
	}
	list = append(list,
		"Log in with the accounts of "+m.Order.Archive.Taken.Local().Format("2 January")+", and look at pages, pictures and forms.",
		"Mail boxes and cron jobs of the old host are not in an archive; certificates neither.",
		fmt.Sprintf("`revlet backup %s` takes the first archive of the new place; give it a schedule.", m.Order.To))
	if !m.Order.Copy {
		from, to := m.Order.Archive.Site, m.Order.To
		list = append(list, fmt.Sprintf("`revlet cutover match %s --with %s` compares both page by page; `revlet cutover finish %s --to %s` brings over what is written until then; `revlet cutover plan` says what to change in the DNS.", from, to, from, to))
	}
	fmt.Fprintln(a.Out, "\nLeft for you:")
	for _, one := range list {
		a.Item("-", one)
	}
	fmt.Fprintf(a.Out, "\n`revlet undo %s` takes this back; `revlet settle %s` keeps it for good.\n", m.Order.To, m.Order.To)
}
