package render

import (
	"fmt"
	"strings"

	"revlet/internal/jobs"
	"revlet/internal/site"
	"revlet/internal/work/restore"
)

// ShowAside names what restores have set aside.
func (a *Printer) ShowAside(journals []*restore.Journal) {
	var lines [][2]string
	for _, j := range journals {
		lines = append(lines, [2]string{"set aside", fmt.Sprintf("%s, by the restore of %s", When(j.Started), j.Archive)})
		for _, place := range j.AsidePlaces() {
			lines = append(lines, [2]string{"", place})
		}
	}
	a.Facts(lines)
	fmt.Fprintln(a.Out)
}

// ShowDeletedByUndo names what undo deletes beside what was restored.
func (a *Printer) ShowDeletedByUndo(w *jobs.WrittenSince) {
	if w.Elsewhere != "" {
		fmt.Fprintf(a.Out, "%s %s\n\n", a.Bad("The site is another folder now:"), PrintableText(w.Elsewhere))
	}
	if w.Empty() {
		return
	}
	if w.Unknown != "" {
		fmt.Fprintf(a.Out, "%s what was written since the restore, and is deleted by undo: %s\n\n", a.Bad("Unknown:"), PrintableText(w.Unknown))
		return
	}
	fmt.Fprintln(a.Out, "Written since the restore, and deleted by undo:")
	for _, t := range w.Tables[:min(len(w.Tables), unsavedShown)] {
		fmt.Fprintf(a.Out, "  table %s of database %s\n", Printable(t.Table), t.Database)
	}
	if more := len(w.Tables) - unsavedShown; more > 0 {
		fmt.Fprintf(a.Out, "  … and %s\n", Count(int64(more), "more table", "more tables"))
	}
	for _, f := range w.Files[:min(len(w.Files), unsavedShown)] {
		fmt.Fprintf(a.Out, "  %-8s %s  %s\n", f.How, Printable(strings.TrimPrefix(f.Path, site.RootLabel+"/")), Size(f.After))
	}
	if more := len(w.Files) - unsavedShown; more > 0 {
		fmt.Fprintf(a.Out, "  … and %s; --json --dry-run lists them\n", Count(int64(more), "more file", "more files"))
	}
	fmt.Fprintln(a.Out)
}

// unsavedShown is how much of what no archive holds is listed.
const unsavedShown = 12

// ShowUnsaved names what is set aside and no archive holds.
func (a *Printer) ShowUnsaved(u *jobs.Unsaved) {
	if u.Empty() {
		return
	}
	fmt.Fprintf(a.Out, "%s no archive holds this:\n", a.Bad("Exists nowhere else:"))
	for _, t := range u.Tables[:min(len(u.Tables), unsavedShown)] {
		fmt.Fprintf(a.Out, "  table %s of database %s, as it was, with %s\n", Printable(t.Table), t.Database, Count(t.Rows, "row", "rows"))
	}
	if more := len(u.Tables) - unsavedShown; more > 0 {
		fmt.Fprintf(a.Out, "  … and %s\n", Count(int64(more), "more table", "more tables"))
	}
	for _, f := range u.Files[:min(len(u.Files), unsavedShown)] {
		fmt.Fprintf(a.Out, "  %s  %s\n", Printable(strings.TrimPrefix(f.Path, site.RootLabel+"/")), Size(f.Bytes))
	}
	if more := len(u.Files) - unsavedShown; more > 0 {
		fmt.Fprintf(a.Out, "  … and %s (%s in all); --json --dry-run lists them\n", Count(int64(more), "more file", "more files"), Size(u.Bytes()))
	}
	for _, one := range u.Unknown {
		fmt.Fprintf(a.Out, "  %s cannot be looked into: %s\n", a.Bad("Unknown:"), PrintableText(one))
	}
	for _, one := range u.Unread[:min(len(u.Unread), scriptsShown)] {
		fmt.Fprintf(a.Out, "%s not looked into: %s\n", a.Bad("Unknown:"), PrintableText(one))
	}
	if more := len(u.Unread) - scriptsShown; more > 0 {
		fmt.Fprintf(a.Out, "  … and %d more were not looked into\n", more)
	}
	fmt.Fprintln(a.Out)
}
