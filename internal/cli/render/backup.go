package render

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"

	"revlet/internal/archives/archive"
	"revlet/internal/jobs"
	"revlet/internal/platform/reason"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
	"revlet/internal/work/backup"
)

// gapsShown is how many gaps a summary lists; `show` has them all.
const GapsShown = 10

// dated says what the time of a copy that was made by hand is.
func dated(rec *archive.Record) string {
	if !rec.Scope.ByHand() {
		return ""
	}
	return When(rec.Taken) + ", when its file was last changed; of when it is, nobody can tell"
}

// ShowBackup says what a backup has saved, where, and what is amiss.
func (a *Printer) ShowBackup(d *jobs.Delivered) {
	r := d.Result
	rec := r.Record
	t := rec.Totals
	fmt.Fprintf(a.Out, "%s %s\n\n", a.Good("Saved"), a.Bold(rec.Name))
	var lines [][2]string
	if rec.Scope.HasFiles() {
		lines = append(lines, [2]string{"files", Contents(t)})
	}
	for _, label := range slices.Sorted(maps.Keys(rec.Origin.Databases)) {
		db := rec.Origin.Databases[label]
		lines = append(lines, [2]string{"database", fmt.Sprintf("%s: %s, %s", label, Printable(db.Name), db.Consistency)}, [2]string{"", notRead(db)})
	}
	if rec.Scope.HasDatabase() && len(rec.Origin.Databases) > 0 {
		lines = append(lines, [2]string{"", TablesIn(rec) + ", " + Size(t.DatabaseBytes) + " as text"})
	}
	if rec.Scope == archive.Full && len(rec.Origin.Databases) == 0 {
		lines = append(lines, [2]string{"database", a.Bad("none is known for this site; files alone are no site")})
	}
	lines = append(lines,
		[2]string{"dated", dated(rec)},
		[2]string{"note", rec.Note},
		[2]string{"stored", stored(rec)},
		[2]string{"changed", r.Changes.Words()},
		[2]string{"stores", strings.Join(d.Stores, ", ")},
		[2]string{"left out", leftOut(r.Skipped)},
		[2]string{"not in it", leadsOut(rec.Origin)},
		[2]string{"took", Took(r.Took)})
	a.Facts(lines)
	if n := len(r.Neighbours); n > 0 {
		fmt.Fprintf(a.Out, "\n%s in the same database belong to another site and are left out: %s\n", Count(int64(n), "table", "tables"), Abbreviate(r.Neighbours, 6))
	}
	a.ShowGaps(rec, GapsShown)
	a.showPending(r)
	a.ShowRemoved(d.Removed)
	a.showUnusual(rec.Site, d.Alarms)
	if d.Onsite {
		a.WarnOnsite(rec.Site)
	}
	if d.KeyUntried {
		fmt.Fprintf(a.Out, "\n%s without its key nobody can read this archive, and the key was never tried: `revlet keys check FILE`\n", a.Bad("Encrypted:"))
	}
}

// showUnusual prints alarms about a new archive.
func (a *Printer) showUnusual(site string, found []history.Finding) {
	for _, f := range found {
		m, _ := alarm.Meant(f.Kind)
		fmt.Fprintf(a.Out, "\n%s %s: %s.\n  Why it matters: %s.\n  What to do: %s. If it is all right: `revlet status --accept %s/%s --why …`\n",
			a.Bad("Alarm:"), f.Kind, PrintableText(f.Detail), m.Why, Remedies[f.Kind], site, f.Kind)
	}
}

func stored(rec *archive.Record) string {
	t := rec.Totals
	text := fmt.Sprintf("%s in %s, %s of it new", Size(t.StoredBytes), Count(int64(len(rec.Parts)), "part", "parts"), Size(t.NewBytes))
	if rec.Encrypted {
		text += ", encrypted"
	}
	return text
}

func (a *Printer) showPending(r *backup.Result) {
	if len(r.Pending) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "\n%s\n", a.Bad("The archive is still to come to:"))
	for _, p := range r.Pending {
		fmt.Fprintf(a.Out, "  %s  (%s)\n", p.Store, Inline(p.Err))
	}
	fmt.Fprintln(a.Out, "The next backup, or `revlet stores copy`, sends what is missing there.")
}

// Contents words what an archive holds of files.
func Contents(t archive.Totals) string {
	s := fmt.Sprintf("%s in %s, %s", Count(t.Files, "file", "files"), Count(t.Folders, "folder", "folders"), Size(t.FileBytes))
	if t.Links > 0 {
		s += ", " + Count(t.Links, "link", "links")
	}
	return s
}

// leadsOut says which links lead to what is not saved, or nothing.
func leadsOut(o archive.Origin) string {
	out := backup.LeadsOut(o)
	if out == "" {
		return ""
	}
	return "what lies behind links: " + PrintableText(out)
}

// leftOut words how many paths rules have left out.
func leftOut(byRule map[string]int64) string {
	var all []string
	for _, rule := range slices.Sorted(maps.Keys(byRule)) {
		all = append(all, fmt.Sprintf("%d × %s", byRule[rule], Printable(rule)))
	}
	return strings.Join(all, ", ")
}

// Abbreviate names at most so many, and counts the rest.
func Abbreviate(names []string, most int) string {
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s … and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// ShowGaps names at most so many gaps of an archive.
func (a *Printer) ShowGaps(rec *archive.Record, most int) {
	if len(rec.Gaps) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "\n%s\n", a.Bad(Count(int64(len(rec.Gaps)), "path could not be saved:", "paths could not be saved:")))
	for i, g := range rec.Gaps {
		if i == most {
			fmt.Fprintf(a.Out, "  … and %d more: `revlet show %s`\n", len(rec.Gaps)-most, rec.Name)
			break
		}
		fmt.Fprintf(a.Out, "  %s  (%s: %s)\n", Printable(g.Path), g.Kind, PrintableText(g.Why))
	}
}

// WarnOnsite says what it means when every copy is on the machine of the site.
func (a *Printer) WarnOnsite(site string) {
	fmt.Fprintf(a.Out, "\n%s every copy of %s is on the site's own machine and dies with it. `revlet stores add NAME` adds a place elsewhere.\n", a.Bad("Unsafe:"), site)
}

// Printable shows a name with what a terminal must not be sent made visible.
func Printable(s string) string {
	q := fmt.Sprintf("%q", s)
	if q == `"`+s+`"` {
		return s
	}
	return q
}

// PrintableText shows a sentence that may have names in it, or what others say: only what a
// terminal must not be sent is replaced. It makes no lines: a line is what is said here.
func PrintableText(s string) string {
	return PrintableLines(strings.ReplaceAll(s, "\n", `\n`))
}

// ErrText is the text of an error, on one line.
func ErrText(err error) string {
	return PrintableText(strings.ReplaceAll(reason.Text(err), "\n", "; "))
}

// PrintableLines is PrintableText for what may have lines.
func PrintableLines(s string) string {
	return strings.Map(func(r rune) rune {
		if r != '\n' && !unicode.IsPrint(r) {
			return '\uFFFD'
		}
		return r
	}, s)
}

// notRead says which tables of a database an archive has from an earlier one.
func notRead(db archive.DBOrigin) string {
	if db.NotRead == 0 {
		return ""
	}
	return fmt.Sprintf("not read: %s unchanged since %s, for which the server vouches", Count(int64(db.NotRead), "table", "tables"), Printable(db.NotReadSince))
}
