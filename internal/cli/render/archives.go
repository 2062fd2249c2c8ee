package render

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/jobs"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
)

// ShowListing is the table of `archives`; broken names records that cannot be read.
func (a *Printer) ShowListing(all []jobs.Listed, broken []string) {
	if len(all) == 0 && len(broken) == 0 {
		fmt.Fprintln(a.Out, "No archives yet. `revlet backup` takes one.")
		return
	}
	var rows [][]string
	var taken Clock
	for _, l := range all {
		note := l.Note
		if l.Gaps > 0 {
			note = strings.TrimSpace(a.Bad(Count(int64(l.Gaps), "gap", "gaps")) + "  " + note)
		}
		if l.Sealed {
			note = a.Dim("(encrypted)")
		}
		if l.Held {
			note = strings.TrimSpace(a.Good("held") + "  " + note)
		}
		rows = append(rows, []string{l.Name, taken.Cell(l.Taken), string(l.Scope), Size(l.Stored), Size(l.New), a.held(l), a.verified(l.Verified) + a.rehearsed(l.Rehearsed), note})
	}
	if len(rows) > 0 {
		a.Table([]string{"archive", taken.Heading("taken"), "scope", "size", "new", "stores", "verified", "note"}, rows, 4, 5)
	}
	for _, b := range broken[:min(len(broken), mostTrouble)] {
		fmt.Fprintf(a.Out, "%s %s\n", a.Bad("trouble:"), PrintableText(fmt.Sprint(b)))
	}
	if more := len(broken) - mostTrouble; more > 0 {
		fmt.Fprintf(a.Out, "%s %s more that cannot be used; `revlet archives --json` names them\n", a.Bad("trouble:"), Count(int64(more), "archive", "archives"))
	}
}

// mostTrouble is how many archives that cannot be used are named.
const mostTrouble = 40

// held words where an archive is, and where it is not yet.
func (a *Printer) held(l jobs.Listed) string {
	words := slices.Clone(l.Stores)
	for _, p := range l.Pending {
		words = append(words, a.Bad(p+" PENDING"))
	}
	for _, s := range l.NotReached {
		words = append(words, a.Bad(s+" NOT REACHED"))
	}
	return strings.Join(words, ", ")
}

// rehearsed adds to how well an archive is verified whether it was put back.
func (a *Printer) rehearsed(r *jobs.ListedRehearsal) string {
	switch {
	case r == nil:
		return ""
	case !r.Passed:
		return ", " + a.Bad("DOES NOT RESTORE")
	}
	return ", rehearsed"
}

func (a *Printer) verified(v *jobs.ListedProof) string {
	switch {
	case v == nil:
		return "never"
	case !v.Sound:
		return a.Bad("DAMAGED")
	default:
		return v.Level + ", " + a.Age(v.At)
	}
}

// ShowArchive is what `show` says of one archive.
func (a *Printer) ShowArchive(h *catalog.Held, held *jobs.Contents) {
	fmt.Fprintf(a.Out, "%s\n\n", a.Bold(h.Name))
	o := h.Origin
	lines := [][2]string{
		{"site", strings.TrimSpace(h.Site + "  " + o.Address)},
		{"taken", fmt.Sprintf("%s (%s) on %s, in %s", When(h.Taken), a.Age(h.Taken), h.Host, Took(h.Finished.Sub(h.Taken)))},
		{"scope", string(h.Scope)},
		{"note", h.Note},
		{"system", strings.TrimSpace(o.Recipe + " " + o.Version)},
		{"webroot", o.Roots[site.RootLabel]},
	}
	for _, label := range slices.Sorted(maps.Keys(o.Roots)) {
		if label != site.RootLabel {
			lines = append(lines, [2]string{"folder", label + ": " + o.Roots[label]})
		}
	}
	for _, label := range slices.Sorted(maps.Keys(o.Databases)) {
		db := o.Databases[label]
		lines = append(lines, [2]string{"database", fmt.Sprintf("%s: %s, %s %s; %s", label, db.Where, db.Engine, db.Version, db.Consistency)}, [2]string{"", notRead(db)})
	}
	lines = append(lines,
		[2]string{"not in it", leadsOut(o)},
		[2]string{"stored", stored(h.Record)},
		[2]string{"signed by", a.Signer(held.Signer)},
		[2]string{"stores", a.held(held.Listed)},
		[2]string{"verified", a.verified(held.Verified)})
	a.Facts(lines)
	if len(held.Components) > 0 {
		fmt.Fprintln(a.Out)
		var rows [][]string
		for _, c := range held.Components {
			rows = append(rows, []string{c.Name, fmt.Sprint(c.Files), Size(c.Bytes)})
		}
		a.Table([]string{"component", "files", "size"}, rows, 2, 3)
	}
	if len(held.Tables) > 0 {
		fmt.Fprintln(a.Out)
		var rows [][]string
		for _, t := range held.Tables {
			rows = append(rows, []string{t.Database, Printable(t.Table), fmt.Sprint(t.Rows), Size(t.Bytes)})
		}
		a.Table([]string{"database", "table", "rows", "as text"}, rows, 3, 4)
	}
}

// ShowParts is the table of an archive's parts.
func (a *Printer) ShowParts(h *catalog.Held) {
	fmt.Fprintln(a.Out)
	var rows [][]string
	for _, p := range h.Parts {
		rows = append(rows, []string{p.Name, p.Kind, Printable(p.Table), fmt.Sprint(p.Entries), Size(p.StoredBytes())})
	}
	a.Table([]string{"part", "kind", "table", "entries", "size"}, rows, 4, 5)
}

// ShowFiles writes the paths of an archive's list, or those that match a pattern, a line each, or as JSON.
func (a *Printer) ShowFiles(ctx context.Context, h *catalog.Held, patterns []string, asJSON bool) error {
	typed := patterns
	patterns, err := h.Meaning(ctx, typed)
	if err != nil {
		return err
	}
	some := len(patterns) == 0
	var entries []archive.Entry
	err = h.ReadList(ctx, func(e archive.Entry) error {
		// What is in another folder of the site's begins with that one's name.
		if rel := strings.TrimPrefix(e.Path, site.RootLabel+"/"); len(patterns) > 0 && (!e.IsFileTree() || e.Path == site.RootLabel || !jobs.Matches(patterns, rel)) {
			return nil
		}
		some = true
		if asJSON {
			entries = append(entries, e)
			return nil
		}
		if e.IsFileTree() {
			target := ""
			if e.Target != "" {
				target = " -> " + Printable(e.Target)
			}
			fmt.Fprintf(a.Out, "%s  %10d  %s  %s%s\n", e.Mode, e.Size, When(e.MTime), Printable(strings.TrimPrefix(e.Path, site.RootLabel+"/")), target)
		}
		return nil
	})
	if err == nil && asJSON {
		err = a.PrintJSON(map[string]any{"entries": NonNil(entries)})
	}
	if err == nil && !some {
		err = reason.New(reason.PathNotHeld, reason.Names{"archive": h.Name}, "archive %s holds nothing that matches %s", h.Name, strings.Join(typed, ", "))
	}
	return err
}
