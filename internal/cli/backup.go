package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"

	"github.com/urfave/cli/v3"

	"revlet/internal/archives/archive"
	"revlet/internal/jobs"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
	"revlet/internal/work/backup"
)

func (a *app) backupCommand() *cli.Command {
	return &cli.Command{
		Name: "backup", Usage: "take an archive now", ArgsUsage: "[SITE…]",
		Description: "Without SITE, every configured site is backed up. An archive exists whole or not\n" +
			"at all. Files that did not change since the last one are not read again; their\n" +
			"parts are named again. Files that cannot be read are named, and a store that\n" +
			"cannot be reached is made up for by the next run: the exit code is then 3.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "scope", Value: "full", Usage: "the `SCOPE`: full, files or database"},
			&cli.StringFlag{Name: "note", Usage: "`TEXT` that says why, shown with the archive"},
			&cli.BoolFlag{Name: "hold", Usage: "exempt the archive from retention until 'revlet release'"},
			&cli.BoolFlag{Name: "fresh", Usage: "read everything, even what the last archive holds unchanged"},
			jsonFlag,
		},
		Action: a.backup,
	}
}

func (a *app) backup(ctx context.Context, c *cli.Command) error {
	names, err := a.openSites(ctx, c)
	if err != nil {
		return err
	}
	scope, err := archive.ParseScope(c.String("scope"))
	if err != nil {
		return usageError("%w", err)
	}
	if len(names) == 0 {
		return usageError("no site is configured yet; `revlet adopt PATH` adds one")
	}
	quiet := c.Bool("quiet") || c.Bool("json")
	var failed error
	var records []*archive.Record
	gaps := false
	for _, name := range names {
		watch, done := a.observer(quiet)
		d, err := a.jobs.Backup(ctx, name, jobs.Order{Scope: scope, Note: c.String("note"), Fresh: c.Bool("fresh"), Hold: c.Bool("hold"), Observer: watch, Estimate: !quiet && terminal(a.err)})
		done()
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		gaps = gaps || d.Incomplete()
		records = append(records, d.Record)
		if !c.Bool("json") {
			a.showBackup(d)
		}
	}
	if c.Bool("json") {
		if err := a.printJSON(map[string]any{"archives": nonNil(records)}); err != nil {
			return err
		}
	}
	switch {
	case failed != nil:
		return failed
	case gaps:
		return &exitError{code: exitGaps}
	}
	return nil
}

// gapsShown is how many gaps a summary lists; `show` has them all.
const gapsShown = 10

func (a *printer) showBackup(d *jobs.Delivered) {
	r := d.Result
	rec := r.Record
	t := rec.Totals
	fmt.Fprintf(a.out, "%s %s\n\n", a.good("Saved"), a.bold(rec.Name))
	var lines [][2]string
	if rec.Scope.HasFiles() {
		lines = append(lines, [2]string{"files", contents(t)})
	}
	for _, label := range slices.Sorted(maps.Keys(rec.Origin.Databases)) {
		db := rec.Origin.Databases[label]
		lines = append(lines, [2]string{"database", fmt.Sprintf("%s: %s, %s", label, db.Name, db.Consistency)})
	}
	if rec.Scope.HasDatabase() && len(rec.Origin.Databases) > 0 {
		lines = append(lines, [2]string{"", tablesIn(rec) + ", " + size(t.DatabaseBytes) + " as text"})
	}
	if rec.Scope == archive.Full && len(rec.Origin.Databases) == 0 {
		lines = append(lines, [2]string{"database", a.bad("none is known for this site; files alone are no site")})
	}
	lines = append(lines,
		[2]string{"note", rec.Note},
		[2]string{"stored", stored(rec)},
		[2]string{"changed", r.Changes.Words()},
		[2]string{"stores", strings.Join(d.Stores, ", ")},
		[2]string{"left out", leftOut(r)},
		[2]string{"took", took(r.Took)})
	a.facts(lines)
	if n := len(r.Neighbours); n > 0 {
		fmt.Fprintf(a.out, "\n%s in the same database belong to another site and are left out: %s\n", count(int64(n), "table", "tables"), abbreviate(r.Neighbours, 6))
	}
	a.showGaps(rec, gapsShown)
	a.showPending(r)
	a.showRemoved(d.Removed)
	a.showUnusual(rec.Site, d.Alarms)
	if d.Onsite {
		a.warnOnsite(rec.Site)
	}
	if d.KeyUntried {
		fmt.Fprintf(a.out, "\n%s without its key nobody can read this archive, and the key was never tried: `revlet keys check FILE`\n", a.bad("Encrypted:"))
	}
}

// showUnusual prints alarms about a new archive.
func (a *printer) showUnusual(site string, found []history.Finding) {
	for _, f := range found {
		m, _ := alarm.Meant(f.Kind)
		fmt.Fprintf(a.out, "\n%s %s: %s.\n  Why it matters: %s.\n  What to do: %s. If it is all right: `revlet status --accept %s/%s --why …`\n",
			a.bad("Alarm:"), f.Kind, printableText(f.Detail), m.Why, remedies[f.Kind], site, f.Kind)
	}
}

func stored(rec *archive.Record) string {
	t := rec.Totals
	text := fmt.Sprintf("%s in %s, %s of it new", size(t.StoredBytes), count(int64(len(rec.Parts)), "part", "parts"), size(t.NewBytes))
	if rec.Encrypted {
		text += ", encrypted"
	}
	return text
}

func (a *printer) showPending(r *backup.Result) {
	if len(r.Pending) == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s\n", a.bad("The archive is still to come to:"))
	for _, p := range r.Pending {
		fmt.Fprintf(a.out, "  %s  (%s)\n", p.Store, printableText(inline(p.Err)))
	}
	fmt.Fprintln(a.out, "The next backup, or `revlet stores copy`, sends what is missing there.")
}

func contents(t archive.Totals) string {
	s := fmt.Sprintf("%s in %s, %s", count(t.Files, "file", "files"), count(t.Folders, "folder", "folders"), size(t.FileBytes))
	if t.Links > 0 {
		s += ", " + count(t.Links, "link", "links")
	}
	return s
}

func leftOut(r *backup.Result) string {
	var all []string
	for _, rule := range slices.Sorted(maps.Keys(r.Skipped)) {
		all = append(all, fmt.Sprintf("%d × %s", r.Skipped[rule], rule))
	}
	return strings.Join(all, ", ")
}

func abbreviate(names []string, most int) string {
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s … and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

func (a *printer) showGaps(rec *archive.Record, most int) {
	if len(rec.Gaps) == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s\n", a.bad(count(int64(len(rec.Gaps)), "path could not be saved:", "paths could not be saved:")))
	for i, g := range rec.Gaps {
		if i == most {
			fmt.Fprintf(a.out, "  … and %d more: `revlet show %s`\n", len(rec.Gaps)-most, rec.Name)
			break
		}
		fmt.Fprintf(a.out, "  %s  (%s: %s)\n", printable(g.Path), g.Kind, g.Why)
	}
}

// warnOnsite says what it means when every copy is on this machine.
func (a *printer) warnOnsite(site string) {
	fmt.Fprintf(a.out, "\n%s every copy of %s is on this machine and dies with it. Copy the store folder elsewhere.\n", a.bad("Unsafe:"), site)
}

// printable shows a name with what a terminal must not be sent made visible.
func printable(s string) string {
	q := fmt.Sprintf("%q", s)
	if q == `"`+s+`"` {
		return s
	}
	return q
}

// printableText shows a sentence that may have names in it: only what a
// terminal must not be sent is replaced.
func printableText(s string) string {
	return strings.Map(func(r rune) rune {
		if r != '\n' && !unicode.IsPrint(r) {
			return '\uFFFD'
		}
		return r
	}, s)
}

// joined lists names.
func joined(names []string) string { return strings.Join(names, ", ") }
