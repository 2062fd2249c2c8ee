package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/jobs"
	"revlet/internal/site"
)

func (a *app) archivesCommand() *cli.Command {
	return &cli.Command{
		Name: "archives", Usage: "list archives, newest first", ArgsUsage: "[SITE]",
		Flags: []cli.Flag{keyFlag, jsonFlag}, Action: a.archives,
	}
}

func (a *app) archives(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	l, err := a.jobs.Archives(ctx, names)
	if err != nil {
		return err
	}
	trouble := troubleTexts(l.Trouble)
	if c.Bool("json") {
		err = a.printJSON(map[string]any{"archives": nonNil(l.Archives), "trouble": nonNil(trouble)})
	} else {
		a.showListing(l.Archives, trouble)
		for _, name := range names {
			if a.jobs.Onsite(name) && slices.ContainsFunc(l.Archives, func(one jobs.Listed) bool { return one.Site == name }) {
				a.warnOnsite(name)
			}
		}
	}
	switch {
	case err != nil:
		return err
	case l.Verdict() != catalog.Sound:
		return verdictCode(l.Verdict())
	case l.Pending():
		return &exitError{code: exitGaps}
	}
	return nil
}

func (a *printer) showListing(all []jobs.Listed, broken []string) {
	if len(all) == 0 && len(broken) == 0 {
		fmt.Fprintln(a.out, "No archives yet. `revlet backup` takes one.")
		return
	}
	var rows [][]string
	for _, l := range all {
		note := l.Note
		if l.Gaps > 0 {
			note = strings.TrimSpace(a.bad(count(int64(l.Gaps), "gap", "gaps")) + "  " + note)
		}
		if l.Sealed {
			note = a.dim("(encrypted)")
		}
		if l.Held {
			note = strings.TrimSpace(a.good("held") + "  " + note)
		}
		rows = append(rows, []string{l.Name, when(l.Taken), string(l.Scope), size(l.Stored), size(l.New), a.held(l), a.verified(l.Verified) + a.rehearsed(l.Rehearsed), note})
	}
	if len(rows) > 0 {
		a.table([]string{"archive", "taken", "scope", "size", "new", "stores", "verified", "note"}, rows, 4, 5)
	}
	for _, b := range broken {
		fmt.Fprintf(a.out, "%s %s\n", a.bad("trouble:"), b)
	}
}

// held words where an archive is, and where it is not yet.
func (a *printer) held(l jobs.Listed) string {
	words := slices.Clone(l.Stores)
	for _, p := range l.Pending {
		words = append(words, a.bad(p+" PENDING"))
	}
	for _, s := range l.NotReached {
		words = append(words, a.bad(s+" NOT REACHED"))
	}
	return strings.Join(words, ", ")
}

// rehearsed adds to how well an archive is verified whether it was put back.
func (a *printer) rehearsed(r *jobs.ListedRehearsal) string {
	switch {
	case r == nil:
		return ""
	case !r.Passed:
		return ", " + a.bad("DOES NOT RESTORE")
	}
	return ", rehearsed"
}

func (a *printer) verified(v *jobs.ListedProof) string {
	switch {
	case v == nil:
		return "never"
	case !v.Sound:
		return a.bad("DAMAGED")
	default:
		return v.Level + ", " + a.age(v.At)
	}
}

func (a *app) showCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "show one archive: contents, tables, parts, gaps", ArgsUsage: "ARCHIVE",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "files", Usage: "list every path"},
			&cli.BoolFlag{Name: "parts", Usage: "list every part"},
			beforeFlag, keyFlag, jsonFlag,
		},
		Action: a.show,
	}
}

var beforeFlag = &cli.StringFlag{Name: "before", Usage: "with a site's name: the newest archive before `DATE` (2026-11-20 or 2026-11-20 14:00)"}

// before reads --before in local time.
func before(c *cli.Command) (time.Time, error) { return date("--before", c.String("before")) }

// date reads a moment as typed, in local time; nothing is the zero time.
func date(flag, typed string) (time.Time, error) {
	if typed == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{"2006-01-02", "2006-01-02 15:04", "2006-01-02 15:04:05", time.RFC3339} {
		if t, err := time.ParseInLocation(layout, typed, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, usageError("%s %q is not a date such as 2026-11-20 or \"2026-11-20 14:00\"", flag, typed)
}

// chosen opens everything and finds the archive that the arguments name; one
// that is sealed is opened, and whoever has its key is asked for that.
func (a *app) chosen(ctx context.Context, c *cli.Command, typed string, need jobs.Need) (*catalog.Held, error) {
	if err := a.open(ctx, c); err != nil {
		return nil, err
	}
	limit, err := before(c)
	if err != nil {
		return nil, err
	}
	return a.jobs.FindOpen(ctx, typed, limit, need)
}

func (a *app) show(ctx context.Context, c *cli.Command) error {
	typed, err := oneArg(c, "ARCHIVE")
	if err != nil {
		return err
	}
	h, err := a.chosen(ctx, c, typed, jobs.Need{})
	if err != nil {
		return err
	}
	if c.Bool("files") {
		return a.showFiles(ctx, h, c.Bool("json"))
	}
	held, err := a.jobs.Show(ctx, h)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.printJSON(map[string]any{"record": h.Record, "components": held.Components, "tables": held.Tables, "stores": held.Stores, "pending": held.Pending, "verified": held.Verified})
	}
	a.showArchive(h, held)
	if c.Bool("parts") {
		a.showParts(h)
	}
	a.showGaps(h.Record, len(h.Gaps))
	return nil
}

func (a *printer) showArchive(h *catalog.Held, held *jobs.Contents) {
	fmt.Fprintf(a.out, "%s\n\n", a.bold(h.Name))
	o := h.Origin
	lines := [][2]string{
		{"site", strings.TrimSpace(h.Site + "  " + o.Address)},
		{"taken", fmt.Sprintf("%s (%s) on %s, in %s", when(h.Taken), a.age(h.Taken), h.Host, took(h.Finished.Sub(h.Taken)))},
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
		lines = append(lines, [2]string{"database", fmt.Sprintf("%s: %s, %s %s; %s", label, db.Where, db.Engine, db.Version, db.Consistency)})
	}
	lines = append(lines,
		[2]string{"stored", stored(h.Record)},
		[2]string{"stores", a.held(held.Listed)},
		[2]string{"verified", a.verified(held.Verified)})
	a.facts(lines)
	if len(held.Components) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, c := range held.Components {
			rows = append(rows, []string{c.Name, fmt.Sprint(c.Files), size(c.Bytes)})
		}
		a.table([]string{"component", "files", "size"}, rows, 2, 3)
	}
	if len(held.Tables) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, t := range held.Tables {
			rows = append(rows, []string{t.Database, printable(t.Table), fmt.Sprint(t.Rows), size(t.Bytes)})
		}
		a.table([]string{"database", "table", "rows", "as text"}, rows, 3, 4)
	}
}

func (a *printer) showParts(h *catalog.Held) {
	fmt.Fprintln(a.out)
	var rows [][]string
	for _, p := range h.Parts {
		rows = append(rows, []string{p.Name, p.Kind, printable(p.Table), fmt.Sprint(p.Entries), size(p.Bytes)})
	}
	a.table([]string{"part", "kind", "table", "entries", "size"}, rows, 4, 5)
}

func (a *printer) showFiles(ctx context.Context, h *catalog.Held, asJSON bool) error {
	var entries []archive.Entry
	err := h.ReadList(ctx, func(e archive.Entry) error {
		if asJSON {
			entries = append(entries, e)
			return nil
		}
		if e.IsFileTree() {
			target := ""
			if e.Target != "" {
				target = " -> " + printable(e.Target)
			}
			fmt.Fprintf(a.out, "%s  %10d  %s  %s%s\n", e.Mode, e.Size, when(e.MTime), printable(strings.TrimPrefix(e.Path, site.RootLabel+"/")), target)
		}
		return nil
	})
	if err == nil && asJSON {
		err = a.printJSON(map[string]any{"entries": nonNil(entries)})
	}
	return err
}
