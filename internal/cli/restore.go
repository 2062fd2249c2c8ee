package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/archives/catalog"
	"revlet/internal/cli/render"
	"revlet/internal/database"
	"revlet/internal/jobs"
	"revlet/internal/site"
	"revlet/internal/site/check"
	"revlet/internal/work/extract"
	"revlet/internal/work/restore"
)

var (
	yesFlag    = &cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do not ask"}
	dryRunFlag = &cli.BoolFlag{Name: "dry-run", Usage: "show what would happen, change nothing"}
)

func (a *app) restoreCommand() *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "put a site back from an archive", ArgsUsage: "ARCHIVE|FILE",
		DisableSliceFlagSeparator: true, // a pattern may have commas
		Description: "Everything is staged and checked beside the live site first; then both change\n" +
			"places in a moment. What was there is set aside: `revlet undo` puts it back,\n" +
			"`revlet settle` deletes it. ARCHIVE may be a site's name: its newest good archive.\n" +
			"FILE is a portable file that `revlet export` wrote.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "only", Usage: "only `WHAT`: files, database, or components such as themes,uploads; 'revlet show' lists them"},
			&cli.StringSliceFlag{Name: "path", Usage: "only files that match `GLOB`, relative to the webroot, or in another folder of the site's by that one's name (media/2026/**) or a link that leads there; may be given again"},
			&cli.StringSliceFlag{Name: "table", Usage: "only `TABLE`, named with the site's prefix or without (DATABASE.TABLE where a site has several databases); may be given again"},
			&cli.StringSliceFlag{Name: "rows", Usage: "only rows, with what the recipe knows to belong to them: `TABLE:COLUMN=VALUE`, such as pages:id=12"},
			&cli.StringFlag{Name: "mode", Value: "replace", Usage: "the `MODE`: replace, what is restored becomes exactly the archive's; or fill, files that are missing or differ and rows that are missing are put back, what was added stays"},
			&cli.StringFlag{Name: "sql", Usage: "restore a site's database from an SQL `FILE` of the server's own client (.sql, or packed: .gz, .zst, .bz2, .zip) that is no archive"},
			&cli.BoolFlag{Name: "keep-settings", Usage: "keep the present settings file of the CMS instead of the archive's, such as after the database was moved"},
			&cli.StringFlag{Name: "root", Usage: "the webroot's `PATH`, typed by you: the first restore of a site that was found in a store or a file wants it"},
			&cli.StringFlag{Name: "sql-database", Usage: "the database `NAME` that is meant, of an SQL file that holds several"},
			&cli.BoolFlag{Name: "trust-times", Usage: "of a share of the files of a site elsewhere, do not send what has the archive's length and time there; what a web server may run is sent all the same"},
			&cli.BoolFlag{Name: "clean", Usage: "after a break-in: set aside, too, what the archive never held (left out by a skip rule, or a gap)"},
			&cli.BoolFlag{Name: "anyway", Usage: "restore even over what looks like another site, to an older server, rows without the rows that they refer to, or SQL whose values do not fit"},
			salvageFlag, beforeFlag, keyFlag, signedByFlag, dryRunFlag, yesFlag, jsonFlag,
		},
		Action: a.restore,
	}
}

// confirmPlace has the webroot typed of a site whose place is known from an archive only.
// Where nobody can be asked, the restore is refused.
func (a *app) confirmPlace(c *cli.Command, name string, want *wish) error {
	paths, err := a.jobs.Unconfirmed(name)
	if err != nil || len(paths) == 0 || want.Root != "" {
		return err
	}
	if c.Bool("yes") || !terminal(a.in) {
		return nil // it is refused, with the way out
	}
	fmt.Fprintf(a.err, "%s only its archive says where %s belongs: %s\n", a.Bad("Not confirmed:"), name, render.PrintableText(strings.Join(paths, ", ")))
	want.Root = paths[0]
	return a.typed("If that is right, type the webroot's path: ", paths[0])
}

// wanted reads what is to be restored of an archive, and how.
func (a *app) wanted(ctx context.Context, c *cli.Command, s *site.Site, h *catalog.Held) (wish, error) {
	w, err := wanted(c, s, h, func(tables []string, rows []database.RowPick) (map[string]*database.RowSelection, error) {
		return a.jobs.RowShares(ctx, h, s, tables, rows, c.String("sql-database"))
	})
	if err != nil {
		return w, err
	}
	w.Archive, w.Site, w.Anyway, w.Clean, w.Dumped = h, s, c.Bool("anyway"), c.Bool("clean"), c.String("sql-database")
	w.Root = c.String("root")
	w.TrustTimes = c.Bool("trust-times")
	w.KeepSettings, w.Salvage = c.Bool("keep-settings"), c.Bool("salvage")
	switch {
	case w.KeepSettings && (!w.Files || w.Selection != nil || s.Recipe == nil):
		return w, usageError("--keep-settings is for a restore of all files of a site whose CMS is known")
	case w.TrustTimes && (w.Selection == nil || !s.Far()):
		return w, usageError("--trust-times is for a share of the files of a site elsewhere; --path '**' is all of them")
	case w.Clean && (!w.Files || w.Selection != nil):
		return w, usageError("--clean is for a restore of all files")
	}
	if w.above, err = a.jobs.GoneAbove(ctx, w.RestoreOrder); err != nil {
		return w, err
	}
	if w.astray, err = a.jobs.Astray(ctx, w.RestoreOrder); err == nil && w.Selection != nil {
		err = catalog.BecauseDamaged(h, w.Selection.Look(ctx, h))
	}
	if err == nil && w.Files {
		err = restore.FoldersNamed(s, h, w.Selection)
	}
	w.shared = a.jobs.SharedFolders(w.RestoreOrder)
	return w, err
}

func (a *app) restore(ctx context.Context, c *cli.Command) error {
	typed, err := oneArg(c, "ARCHIVE")
	if err != nil {
		return err
	}
	if c.String("sql") != "" {
		return a.restoreSQL(ctx, c, typed)
	}
	h, done, err := a.archiveOrFile(ctx, c, typed)
	if err != nil {
		return err
	}
	defer done()
	lost, err := a.salvage(ctx, c, h)
	if err != nil {
		return err
	}
	s, err := a.jobs.OpenForRestore(ctx, h)
	if err != nil {
		return err
	}
	want, err := a.wanted(ctx, c, s, h)
	if err != nil {
		return err
	}
	uncovered, err := a.jobs.Uncovered(ctx, want.RestoreOrder)
	if err != nil {
		return err
	}
	// A server that cannot tell is no reason to stop here: the restore says what is wrong.
	extra, extraErr := a.jobs.ExtraTables(ctx, want.RestoreOrder)
	if !c.Bool("json") {
		a.announceRestore(h, s, want, uncovered)
		a.ShowExtraTables(extra, extraErr, "is set aside")
	}
	if c.Bool("dry-run") {
		if err := a.jobs.CheckRestore(ctx, want.RestoreOrder); err != nil {
			return err
		}
		return a.dryRun(c, h, want, uncovered, extra)
	}
	if err := a.confirmPlace(c, h.Site, &want); err != nil {
		return err
	}
	if err := a.confirmed(c, "Restore "+h.Site+" from this archive?"); err != nil {
		return err
	}
	watch, quiet := a.observer(c.Bool("quiet") || c.Bool("json"))
	want.Observer = watch
	r, err := a.jobs.Restore(ctx, want.RestoreOrder)
	quiet()
	if err != nil {
		return err
	}
	r.Lost = append(lost, r.Lost...)
	return a.reportRestore(c, r)
}

var salvageFlag = &cli.BoolFlag{Name: "salvage", Usage: "of an archive that is damaged: take what the damage has left, and name the rest"}

// salvage prepares a damaged archive, if that is wanted, and returns what cannot be told
// of it any more.
func (a *app) salvage(ctx context.Context, c *cli.Command, h *catalog.Held) ([]string, error) {
	if !c.Bool("salvage") {
		return nil, nil
	}
	return h.Salvage(ctx)
}

// archiveOrFile finds the archive that was typed, or takes a portable file for
// one.
func (a *app) archiveOrFile(ctx context.Context, c *cli.Command, typed string) (*catalog.Held, func(), error) {
	if jobs.IsFile(typed) {
		if c.IsSet("before") {
			return nil, nil, usageError("--before chooses among the archives of a site; %s is one", typed)
		}
		if err := a.open(ctx, c); err != nil {
			return nil, nil, err
		}
		watch, quiet := a.observer(c.Bool("quiet") || c.Bool("json"))
		defer quiet()
		return a.jobs.ArchiveInFile(ctx, typed, watch)
	}
	h, err := a.chosen(ctx, c, typed, neededFor(c))
	return h, func() {}, err
}

// neededFor is what an archive must hold for a restore, and that it must be clean.
func neededFor(c *cli.Command) jobs.Need {
	rows := len(c.StringSlice("table"))+len(c.StringSlice("rows")) > 0
	files := len(c.StringSlice("path")) > 0
	switch only := c.String("only"); {
	case only == "database" || only == "" && rows && !files:
		return jobs.Need{Database: true, Clean: true}
	case only != "" && !strings.Contains(only, "database") && !rows || only == "" && files && !rows:
		return jobs.Need{Files: true, Clean: true}
	}
	return jobs.Need{Files: true, Database: true, Clean: true}
}

// restoreSQL puts a database back from an SQL file that is no archive.
func (a *app) restoreSQL(ctx context.Context, c *cli.Command, name string) error {
	if err := goesWith(c, "--sql", "sql-database", "anyway", "dry-run", "yes"); err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	file := c.String("sql")
	s, db, err := a.jobs.OpenForSQL(ctx, name, file)
	if err != nil {
		return err
	}
	if !c.Bool("json") {
		fmt.Fprintf(a.Out, "%s from %s\n\n", a.Bold("Restore the database of "+name), file)
		a.Facts([][2]string{{"database", db.Where() + " becomes what the SQL file makes"}, {"files", "stay as they are"}, {"replaced", "what is there now is set aside, not deleted"}})
		fmt.Fprintln(a.Out)
	}
	if c.Bool("dry-run") && c.Bool("json") {
		return a.PrintJSON(map[string]any{"site": name, "database": db.Where(), "dry_run": true})
	}
	if c.Bool("dry-run") {
		fmt.Fprintln(a.Out, "Dry run: nothing was changed.")
		return nil
	}
	if err := a.confirmed(c, "Restore the database from this file?"); err != nil {
		return err
	}
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	r, err := a.jobs.RestoreSQL(ctx, s, file, c.String("sql-database"), c.Bool("anyway"), watch)
	done()
	if err != nil {
		return err
	}
	return a.reportRestore(c, r)
}

// wholeFolders says what becomes of the site's folders in a restore of all files.
func (a *app) wholeFolders(h *catalog.Held, s *site.Site) [][2]string {
	where, become, stays := s.Root, "becomes", []string{}
	for _, label := range slices.Sorted(maps.Keys(s.Roots)) {
		if h.Origin.Roots[label] == "" {
			stays = append(stays, s.Roots[label])
			continue
		}
		where, become = where+" and "+s.Roots[label], "become"
	}
	lines := [][2]string{{"files", fmt.Sprintf("%s %s exactly the archive's: %s", where, become, render.Contents(h.Totals))}}
	if len(stays) > 0 {
		lines = append(lines, [2]string{"", a.Bad("as it is, for the archive does not hold it, stays " + render.PrintableText(strings.Join(stays, " and ")))})
	}
	return lines
}

func (a *app) announceRestore(h *catalog.Held, s *site.Site, want wish, uncovered []restore.Uncovered) {
	fmt.Fprintf(a.Out, "%s from %s\n\n", a.Bold("Restore "+h.Site), h.Name)
	lines := [][2]string{
		{"taken", fmt.Sprintf("%s (%s)", render.When(h.Taken), a.Age(h.Taken))},
		{"note", h.Note},
	}
	switch {
	case want.Selection != nil:
		lines = append(lines, [2]string{"files", want.words(s)}, [2]string{"", "everything else stays as it is"})
	case want.Files:
		lines = append(lines, a.wholeFolders(h, s)...)
	case !h.Scope.HasFiles():
		lines = append(lines, [2]string{"files", a.Bad("stay as they are: this archive holds only the database")})
	default:
		lines = append(lines, [2]string{"files", "stay as they are"})
	}
	switch {
	case want.Rows != nil:
		for i, pick := range want.picks {
			lines = append(lines, [2]string{[]string{"database", ""}[min(i, 1)], pick})
		}
	case want.Database:
		for label := range h.Origin.Databases {
			if db, ok := s.Database(label); ok {
				lines = append(lines, [2]string{"database", fmt.Sprintf("%s (%s) becomes the archive's: %s", label, db.Where(), render.TablesIn(h.Record))})
			}
		}
	default:
		lines = append(lines, [2]string{"database", "stays as it is"})
	}
	for _, name := range want.above {
		lines = append(lines, [2]string{"settings", render.Printable(s.Beside(name)) + " is gone and comes back"})
	}
	if signer := a.jobs.Signed(h.Record); signer.How != jobs.SignerOwn {
		lines = append(lines, [2]string{"signed by", a.Signer(signer)})
	}
	a.Facts(append(lines, [2]string{"replaced", "what is there now is set aside, not deleted"}))
	a.ShowUncovered(uncovered, want.Clean, "stays as it is", "is set aside too")
	a.ShowGaps(h.Record, render.GapsShown)
	fmt.Fprintln(a.Out)
	for _, at := range want.astray {
		fmt.Fprintf(a.Out, "%s %s lay at %s, and is put at %s: %s of it lead elsewhere from there (%s). If that is not meant, make %s first, and have %s lead there.\n\n", a.Bad("Warning:"),
			render.Printable(at.Named), render.Printable(at.Was), render.Printable(at.Is), render.Count(int64(at.Count), "link", "links"), render.PrintableText(strings.Join(at.Links, ", ")), render.Printable(at.Was), render.Printable(at.Named))
	}
	for _, shared := range want.shared {
		fmt.Fprintf(a.Out, "%s %s is a folder of site %s, too: what becomes of it becomes of both sites.\n\n", a.Bad("Warning:"), render.Printable(shared.Folder), shared.Site)
	}
	if want.uploads && !want.Database {
		fmt.Fprintf(a.Out, "%s the database stays: uploads come back without what the CMS has noted of them.\n\n", a.Bold("Warning:"))
	}
}

func (a *app) dryRun(c *cli.Command, h *catalog.Held, want wish, uncovered []restore.Uncovered, extra []jobs.ExtraTable) error {
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"archive": h.Name, "files": want.Files, "database": want.Database, "share": render.NonNil(want.names), "folders": render.NonNil(want.folders(want.Site)), "rows": render.NonNil(want.picks), "clean": want.Clean, "uncovered": render.NonNil(uncovered), "extra_tables": render.NonNil(extra), "above": render.NonNil(want.above), "astray": render.NonNil(want.astray), "shared": render.NonNil(want.shared), "dry_run": true})
	}
	fmt.Fprintln(a.Out, "Dry run: nothing was changed.")
	return nil
}

func (a *app) reportRestore(c *cli.Command, r *jobs.Restored) error {
	if c.Bool("json") {
		err := a.PrintJSON(map[string]any{"archive": r.Archive.Name, "site": r.Archive.Site, "paths": r.Paths, "tables": r.Tables, "rows": r.Rows,
			"rows_by_table": rowsByTable(r.Moves), "swap_seconds": r.Swap.Seconds(), "seconds": r.Took.Seconds(), "aside": render.NonNil(r.Aside), "taken_out": render.NonNil(r.TakenOut), "uncovered": render.NonNil(r.Uncovered), "extra_tables": render.NonNil(r.ExtraTables), "still_there": map[string]any{"paths": r.Still.Paths, "bytes": r.Still.Bytes}, "lost": render.NonNil(r.Lost), "unlinked": render.NonNil(r.Unlinked), "disarmed": render.NonNil(r.Disarmed), "given": givenJSON(r.Given), "clean": r.Clean, "checks": render.NonNil(r.Answers)})
		if err != nil {
			return err
		}
	} else {
		a.ShowRestored(r)
	}
	if worst := check.Worst(r.Answers); worst != nil && !worst.OK() || len(r.Lost)+len(r.Unlinked) > 0 {
		return &exitError{code: exitDamage}
	}
	return nil
}

// given is an account or group of the archive whose things belong to another one here, as JSON.
type given struct {
	Was string `json:"was"`
	Is  string `json:"is"`
}

func givenJSON(all [][2]string) []given {
	list := []given{}
	for _, one := range all {
		list = append(list, given{one[0], one[1]})
	}
	return list
}

// rowsByTable says how many rows a share has put into which tables; nil when
// whole databases were restored.
func rowsByTable(moves []database.RowMove) map[string]int64 {
	var all map[string]int64
	for _, m := range moves {
		if all == nil {
			all = map[string]int64{}
		}
		all[m.Table] += m.Put
	}
	return all
}

func (a *app) extractCommand() *cli.Command {
	return &cli.Command{
		Name: "extract", Usage: "copy files or tables out of an archive", ArgsUsage: "ARCHIVE [PATH…]",
		DisableSliceFlagSeparator: true,
		Description: "PATH is relative to the webroot: a file, a folder with all below it, or a pattern\n" +
			"such as \"uploads/**/*.png\". What is in another folder of the site's (`roots:`) is asked for by\n" +
			"that one's name, such as media/2026, or by a link that leads there, and is put into a folder of\n" +
			"that name. The site is not touched, and nothing is replaced.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "to", Value: ".", Usage: "the `FOLDER` to copy into; - writes one file to the standard output"},
			&cli.StringSliceFlag{Name: "table", Usage: "a `TABLE`, named with the site's prefix or without (DATABASE.TABLE where a site has several databases), written as SQL text; may be given again"},
			salvageFlag, beforeFlag, keyFlag, signedByFlag, jsonFlag,
		},
		Action: a.extract,
	}
}

func (a *app) extract(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	tables := c.StringSlice("table")
	if len(args) == 0 || len(args) == 1 && len(tables) == 0 {
		return usageError("`revlet extract` needs an ARCHIVE and what to copy: paths, or --table NAME")
	}
	h, err := a.chosen(ctx, c, args[0], jobs.Need{Files: len(args) > 1, Database: len(c.StringSlice("table")) > 0})
	if err != nil {
		return err
	}
	if c.String("to") == "-" {
		if len(args) != 2 || len(c.StringSlice("table")) > 0 || c.Bool("json") || c.Bool("salvage") {
			return usageError("--to - writes the content of one file: revlet extract ARCHIVE PATH --to -")
		}
		return a.jobs.FileTo(ctx, h, args[1], a.Out)
	}
	lost, err := a.salvage(ctx, c, h)
	if err != nil {
		return err
	}
	to, err := filepath.Abs(c.String("to"))
	if err == nil && len(tables) > 0 {
		err = a.jobs.NotInSites(to)
	}
	if err != nil {
		return err
	}
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	r, err := extract.Run(ctx, extract.Job{Archive: h, Paths: args[1:], Tables: tables, To: to, Salvage: c.Bool("salvage"), Disk: a.jobs.Disk, Observer: watch})
	done()
	if err != nil {
		return err
	}
	r.Lost = append(lost, r.Lost...)
	var worst error
	if len(r.Lost) > 0 {
		worst = &exitError{code: exitDamage}
	} else if len(r.Renamed)+len(r.Unmade) > 0 {
		worst = &exitError{code: exitGaps}
	}
	if c.Bool("json") {
		return cmp.Or(a.PrintJSON(map[string]any{"archive": h.Name, "to": to, "paths": r.Paths, "tables": render.NonNil(r.Tables), "lost": render.NonNil(r.Lost), "renamed": r.Renamed, "unmade": r.Unmade, "behind": r.Behind, "disarmed": render.NonNil(r.Disarmed)}), worst)
	}
	a.ShowPairs("Called otherwise, for this system cannot have such names", r.Renamed)
	a.ShowPairs("Links that this system has not let this account make", r.Unmade)
	a.ShowPairs("Links that lead where they did on the site; what was there lies here in", r.Behind)
	a.ShowDisarmed(r.Disarmed, "for these are copies to look at")
	a.ShowLost(r.Lost, "not copied")
	if r.Paths > 0 {
		fmt.Fprintf(a.Out, "Copied %s from %s into %s\n", render.Count(r.Paths, "path", "paths"), h.Name, to)
	}
	for _, file := range r.Tables {
		fmt.Fprintf(a.Out, "Wrote %s\n", file)
	}
	return worst
}
