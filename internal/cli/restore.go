package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/archive"
	"revlet/internal/catalog"
	"revlet/internal/check"
	"revlet/internal/compare"
	"revlet/internal/config"
	"revlet/internal/database"
	"revlet/internal/extract"
	"revlet/internal/history"
	"revlet/internal/portable"
	"revlet/internal/restore"
	"revlet/internal/site"
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
			&cli.StringSliceFlag{Name: "path", Usage: "only files that match `GLOB`, relative to the webroot; may be given again"},
			&cli.StringSliceFlag{Name: "table", Usage: "only the database's table `NAME`; may be given again"},
			&cli.StringSliceFlag{Name: "rows", Usage: "only rows, with what the recipe knows to belong to them: `TABLE:COLUMN=VALUE`, such as pages:id=12"},
			&cli.StringFlag{Name: "mode", Value: "replace", Usage: "the `MODE`: replace, what is restored becomes exactly the archive's; or fill, files that are missing or differ and rows that are missing are put back, what was added stays"},
			&cli.StringFlag{Name: "sql", Usage: "restore a site's database from an SQL `FILE` of the server's own client (.sql, .sql.gz, .sql.zst) that is no archive"},
			&cli.BoolFlag{Name: "anyway", Usage: "restore even over what looks like another site, to an older server, or rows without the rows that they refer to"},
			beforeFlag, keyFlag, dryRunFlag, yesFlag, jsonFlag,
		},
		Action: a.restore,
	}
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
	s, err := a.restoreSite(ctx, h)
	if err != nil {
		return err
	}
	want, err := wanted(c, s, h)
	if err != nil {
		return err
	}
	if !c.Bool("json") {
		a.announceRestore(h, s, want)
	}
	if c.Bool("dry-run") {
		return a.dryRun(c, h, want)
	}
	if err := a.confirmed(c, "Restore "+h.Site+" from this archive?"); err != nil {
		return err
	}
	unlock, err := a.state.Lock(h.Site)
	if err != nil {
		return err
	}
	defer unlock()
	if err := a.recover(ctx, s); err != nil {
		return err
	}
	watch, quiet := a.observer(c.Bool("quiet") || c.Bool("json"))
	run := history.Run{Site: h.Site, Command: "restore", Archive: h.Name, Started: a.now(), Outcome: "done"}
	r, err := restore.Run(ctx, restore.Job{Site: s, Archive: h, Files: want.files, Database: want.database, Share: want.share, Rows: want.rows,
		State: a.state, Open: a.openTarget, Observer: watch, Now: a.now, Drain: drain(), Anyway: c.Bool("anyway")})
	quiet()
	if err != nil {
		run.Outcome, run.Detail = "failed", err.Error()
		a.remember(ctx, run)
		return err
	}
	a.remember(ctx, run)
	return a.reportRestore(ctx, c, h, s, r)
}

// archiveOrFile finds the archive that was typed, or takes a portable file for
// one.
func (a *app) archiveOrFile(ctx context.Context, c *cli.Command, typed string) (*catalog.Held, func(), error) {
	if isFile(typed) {
		return a.fromFile(ctx, c, typed)
	}
	h, err := a.chosen(ctx, c, typed)
	return h, func() {}, err
}

// restoreSQL puts a database back from an SQL file that is no archive.
func (a *app) restoreSQL(ctx context.Context, c *cli.Command, name string) error {
	if err := a.open(ctx, c); err != nil {
		return err
	}
	cfg, err := a.siteConfig(name)
	if err != nil {
		return err
	}
	s, err := site.Open(name, cfg)
	if err != nil {
		return err
	}
	if len(s.Databases) != 1 {
		return usageError("--sql is for a site with one database; %s has %d", name, len(s.Databases))
	}
	db := s.Databases[0]
	text, closeText, err := portable.OpenSQL(c.String("sql"))
	if err != nil {
		return err
	}
	defer closeText()
	if !c.Bool("json") {
		fmt.Fprintf(a.out, "%s from %s\n\n", a.bold("Restore the database of "+name), c.String("sql"))
		a.facts([][2]string{{"database", db.Where() + " becomes what the SQL file makes"}, {"files", "stay as they are"}, {"replaced", "what is there now is set aside, not deleted"}})
		fmt.Fprintln(a.out)
	}
	if c.Bool("dry-run") {
		fmt.Fprintln(a.out, "Dry run: nothing was changed.")
		return nil
	}
	if err := a.confirmed(c, "Restore the database from this file?"); err != nil {
		return err
	}
	unlock, err := a.state.Lock(name)
	if err != nil {
		return err
	}
	defer unlock()
	if err := a.recover(ctx, s); err != nil {
		return err
	}
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	run := history.Run{Site: name, Command: "restore", Archive: c.String("sql"), Started: a.now(), Outcome: "done"}
	r, err := restore.RunSQL(ctx, restore.SQLJob{Site: s, Label: db.Label, Name: filepath.Base(c.String("sql")), Text: text, State: a.state, Open: a.openTarget, Now: a.now, Observer: watch})
	done()
	if err != nil {
		run.Outcome, run.Detail = "failed", err.Error()
	}
	a.remember(ctx, run)
	if err != nil {
		return err
	}
	return a.reportRestore(ctx, c, &catalog.Held{Record: &archive.Record{Site: name, Name: filepath.Base(c.String("sql")), Taken: a.now()}}, s, r)
}

// restoreSite opens the site as it is now; when its webroot or its settings
// are gone, the settings inside the archive serve.
func (a *app) restoreSite(ctx context.Context, h *catalog.Held) (*site.Site, error) {
	cfg := a.config.Sites[h.Site]
	s, err := site.Open(h.Site, cfg)
	if err == nil && (s.Recipe != nil || h.Origin.Recipe == "" || len(cfg.Databases) > 0) {
		return s, nil
	}
	if !h.Scope.HasFiles() {
		return s, err
	}
	if cfg.Recipe == "" || cfg.Recipe == "auto" {
		cfg.Recipe = h.Origin.Recipe
	}
	fromArchive, second := site.OpenFrom(h.Site, cfg, func(rel string) ([]byte, error) {
		if name, above := strings.CutPrefix(rel, "../"); above {
			return h.ReadFile(ctx, site.AboveLabel+"/"+name)
		}
		return h.ReadFile(ctx, site.RootLabel+"/"+rel)
	})
	if second != nil {
		return nil, errors.Join(err, second)
	}
	if len(cfg.Databases) == 0 && len(fromArchive.Databases) > 0 {
		fmt.Fprintln(a.err, "note: the live settings cannot be read; the database settings in the archive are used.")
	}
	return fromArchive, nil
}

func (a *app) announceRestore(h *catalog.Held, s *site.Site, want wish) {
	fmt.Fprintf(a.out, "%s from %s\n\n", a.bold("Restore "+h.Site), h.Name)
	lines := [][2]string{
		{"taken", fmt.Sprintf("%s (%s)", when(h.Taken), a.age(h.Taken))},
		{"note", h.Note},
	}
	switch {
	case want.share != nil:
		lines = append(lines, [2]string{"files", want.words(s.Root)}, [2]string{"", "everything else stays as it is"})
	case want.files:
		where := s.Root
		for _, label := range slices.Sorted(maps.Keys(s.Roots)) {
			where += " and " + s.Roots[label]
		}
		lines = append(lines, [2]string{"files", fmt.Sprintf("%s becomes exactly the archive's: %s", where, contents(h.Totals))})
	case !h.Scope.HasFiles():
		lines = append(lines, [2]string{"files", a.bad("stay as they are: this archive holds only the database")})
	default:
		lines = append(lines, [2]string{"files", "stay as they are"})
	}
	switch {
	case want.rows != nil:
		for i, pick := range want.picks {
			lines = append(lines, [2]string{[]string{"database", ""}[min(i, 1)], pick})
		}
	case want.database:
		for label := range h.Origin.Databases {
			if db, ok := s.Database(label); ok {
				lines = append(lines, [2]string{"database", fmt.Sprintf("%s (%s) becomes the archive's: %s", label, db.Where(), tablesIn(h.Record))})
			}
		}
	default:
		lines = append(lines, [2]string{"database", "stays as it is"})
	}
	a.facts(append(lines, [2]string{"replaced", "what is there now is set aside, not deleted"}))
	a.showGaps(h.Record, gapsShown)
	fmt.Fprintln(a.out)
	if want.uploads && !want.database {
		fmt.Fprintf(a.out, "%s the database stays: uploads come back without what the CMS has noted of them.\n\n", a.bold("Mind:"))
	}
}

// tablesIn words what an archive holds of databases.
func tablesIn(rec *archive.Record) string {
	t := rec.Totals
	for _, p := range rec.Parts {
		if p.Kind == archive.KindDump {
			return size(t.DatabaseBytes) + " of SQL that another program has written"
		}
	}
	return fmt.Sprintf("%s, %s", count(t.Tables, "table", "tables"), count(t.Rows, "row", "rows"))
}

func (a *app) dryRun(c *cli.Command, h *catalog.Held, want wish) error {
	if c.Bool("json") {
		return a.printJSON(map[string]any{"archive": h.Name, "files": want.files, "database": want.database, "share": nonNil(want.names), "rows": nonNil(want.picks), "dry_run": true})
	}
	fmt.Fprintln(a.out, "Dry run: nothing was changed.")
	return nil
}

// confirmed asks before something is overwritten. Without a terminal it
// refuses, unless --yes was given.
func (a *app) confirmed(c *cli.Command, question string) error {
	if c.Bool("yes") {
		return nil
	}
	if !terminal(a.in) {
		return usageError("this overwrites the site and nobody can be asked here; --yes answers")
	}
	fmt.Fprintf(a.out, "%s [y/N] ", question)
	answer, err := bufio.NewReader(a.in).ReadString('\n')
	if err != nil || !strings.EqualFold(strings.TrimSpace(answer), "y") && !strings.EqualFold(strings.TrimSpace(answer), "yes") {
		return &exitError{exitFailed, errors.New("not confirmed; nothing was changed")}
	}
	return nil
}

func (a *app) reportRestore(ctx context.Context, c *cli.Command, h *catalog.Held, s *site.Site, r *restore.Result) error {
	answers := a.checkRestored(ctx, s)
	var gone []compare.File
	if h.Parts != nil {
		gone = a.strangers(ctx, h, r)
	}
	if c.Bool("json") {
		err := a.printJSON(map[string]any{"archive": h.Name, "site": h.Site, "paths": r.Paths, "tables": r.Tables, "rows": r.Rows,
			"rows_by_table": rowsByTable(r.Moves), "swap_seconds": r.Swap.Seconds(), "seconds": r.Took.Seconds(), "aside": nonNil(r.Aside), "taken_out": nonNil(gone), "checks": nonNil(answers)})
		if err != nil {
			return err
		}
	} else {
		a.showRestored(h, s, r, answers, gone)
	}
	if worst := check.Worst(answers); worst != nil && !worst.OK() {
		return &exitError{code: exitDamage}
	}
	return nil
}

// checkSite asks the site whether it works; it is empty when it has no check.
func (a *app) checkSite(ctx context.Context, s *site.Site) []check.Result {
	if s.Address == "" {
		return nil
	}
	var broken []string
	if s.Recipe != nil {
		broken = s.Recipe.Broken
	}
	return check.All(ctx, s.Address, s.Checks, broken)
}

// checkRestored asks a site that was just exchanged: for a moment, a server with
// PHP may still answer from scripts that it has kept in memory.
func (a *app) checkRestored(ctx context.Context, s *site.Site) []check.Result {
	end := time.Now().Add(2 * cachedScripts)
	if _, err := a.disk.Stat(filepath.Join(s.Root, "index.php")); err != nil {
		end = time.Now()
	}
	for ; ; time.Sleep(cachedScripts / 5) {
		answers := a.checkSite(ctx, s)
		if worst := check.Worst(answers); worst == nil || worst.OK() || !time.Now().Before(end) || ctx.Err() != nil {
			return answers
		}
	}
}

// checked words one answer of a check.
func (a *app) checked(r check.Result) string {
	if r.OK() {
		return a.good(fmt.Sprintf("%s answers %d", r.URL, r.Status)) + " in " + took(r.Took)
	}
	return a.bad(r.URL + ": " + printableText(r.Trouble))
}

func (a *app) showRestored(h *catalog.Held, s *site.Site, r *restore.Result, answers []check.Result, gone []compare.File) {
	fmt.Fprintf(a.out, "%s %s from %s\n\n", a.good("Restored"), a.bold(h.Site), h.Name)
	var lines [][2]string
	if r.Paths > 0 {
		lines = append(lines, [2]string{"files", count(r.Paths, "path", "paths") + " put back, each digest checked"})
	}
	for i, m := range r.Moves {
		lines = append(lines, [2]string{[]string{"database", ""}[min(i, 1)], m.Table + ": " + count(m.Put, "row", "rows") + " put back"})
	}
	if r.Tables > 0 && len(r.Moves) == 0 {
		lines = append(lines, [2]string{"database", fmt.Sprintf("%s, %s put back", count(int64(r.Tables), "table", "tables"), count(r.Rows, "row", "rows"))})
	}
	lines = append(lines, [2]string{"took", fmt.Sprintf("%s, of which the exchange %s", took(r.Took), took(r.Swap))})
	for _, one := range answers {
		lines = append(lines, [2]string{"check", a.checked(one)})
	}
	for _, place := range r.Aside {
		lines = append(lines, [2]string{"set aside", place})
	}
	if os.Geteuid() != 0 && r.Paths > 0 {
		lines = append(lines, [2]string{"owner", "all files belong to this account; only root can give them to others"})
	}
	a.facts(lines)
	a.showStrangers(h, s, gone)
	next := "look at the site"
	if r.Tables > 0 && len(r.Moves) == 0 {
		next += ", and log in with the accounts of " + h.Taken.Local().Format("2 January")
	}
	fmt.Fprintf(a.out, "\nNext: %s.\n", next)
	fmt.Fprintf(a.out, "`revlet undo %s` takes this back; `revlet settle %s` deletes what was set aside.\n", h.Site, h.Site)
}

// rowsByTable says how many rows a share has put into which tables; nil when
// whole databases were restored.
func rowsByTable(moves []database.ShareMove) map[string]int64 {
	var all map[string]int64
	for _, m := range moves {
		if all == nil {
			all = map[string]int64{}
		}
		all[m.Table] += m.Put
	}
	return all
}

func (a *app) undoCommand() *cli.Command {
	return &cli.Command{
		Name: "undo", Usage: "put back what the last restore set aside", ArgsUsage: "SITE",
		Flags: []cli.Flag{dryRunFlag, yesFlag, jsonFlag}, Action: a.undo,
	}
}

func (a *app) settleCommand() *cli.Command {
	return &cli.Command{
		Name: "settle", Usage: "delete for good what restores have set aside", ArgsUsage: "SITE",
		Flags: []cli.Flag{dryRunFlag, yesFlag, jsonFlag}, Action: a.settle,
	}
}

func (a *app) undo(ctx context.Context, c *cli.Command) error {
	return a.onAside(ctx, c, "Undo the restore of %s from %s? What was restored will be deleted.", func(r restore.Recoverer) ([]restore.Outcome, error) {
		o, err := r.Undo(ctx)
		if err != nil {
			return nil, err
		}
		return []restore.Outcome{*o}, nil
	})
}

func (a *app) settle(ctx context.Context, c *cli.Command) error {
	return a.onAside(ctx, c, "Delete for good what was set aside from %s by the restore of %s?", func(r restore.Recoverer) ([]restore.Outcome, error) {
		return r.Settle(ctx)
	})
}

// onAside runs undo or settle, which begin and end alike.
func (a *app) onAside(ctx context.Context, c *cli.Command, question string, work func(restore.Recoverer) ([]restore.Outcome, error)) error {
	name, err := oneArg(c, "SITE")
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	cfg, err := a.siteConfig(name)
	if err != nil {
		return err
	}
	unlock, err := a.state.Lock(name)
	if err != nil {
		return err
	}
	defer unlock()
	journals, err := restore.Journals(a.state, name)
	if err != nil {
		return err
	}
	if len(journals) == 0 {
		return fmt.Errorf("site %s: %w", name, restore.ErrNothingAside)
	}
	s, err := a.siteForAside(ctx, name, cfg, journals[0])
	if err != nil {
		return err
	}
	if !c.Bool("json") {
		a.showAside(journals)
	}
	if c.Bool("dry-run") {
		fmt.Fprintln(a.out, "Dry run: nothing was changed.")
		return nil
	}
	if err := a.confirmed(c, fmt.Sprintf(question, name, journals[0].Archive)); err != nil {
		return err
	}
	run := history.Run{Site: name, Command: c.Name, Archive: journals[0].Archive, Started: a.now(), Outcome: "done"}
	done, err := work(a.recoverer(s))
	if err != nil {
		run.Outcome, run.Detail = "failed", err.Error()
	}
	a.remember(ctx, run)
	if c.Bool("json") && err == nil {
		return a.printJSON(map[string]any{"site": name, "did": done[0].Did, "restores": len(done)})
	}
	for _, o := range done {
		if o.Did == "undone" {
			fmt.Fprintf(a.out, "%s %s is as it was before the restore of %s.\n", a.good("Undone:"), name, o.Journal.Archive)
		} else {
			fmt.Fprintf(a.out, "%s what the restore of %s had set aside is deleted.\n", a.good("Settled:"), o.Journal.Archive)
		}
	}
	return err
}

func (a *app) showAside(journals []*restore.Journal) {
	var lines [][2]string
	for _, j := range journals {
		lines = append(lines, [2]string{"set aside", fmt.Sprintf("%s, by the restore of %s", when(j.Started), j.Archive)})
		for _, place := range j.AsidePlaces() {
			lines = append(lines, [2]string{"", place})
		}
	}
	a.facts(lines)
	fmt.Fprintln(a.out)
}

// siteForAside opens the site; when its webroot is broken, its settings are
// read from the archive that was restored.
func (a *app) siteForAside(ctx context.Context, name string, cfg config.Site, j *restore.Journal) (*site.Site, error) {
	s, err := site.Open(name, cfg)
	if err == nil && (len(s.Databases) > 0 || len(j.Databases) == 0) {
		return s, nil
	}
	h, second := a.find(ctx, j.Archive, time.Time{})
	if second != nil {
		return s, errors.Join(err, second)
	}
	return a.restoreSite(ctx, h)
}

func (a *app) extractCommand() *cli.Command {
	return &cli.Command{
		Name: "extract", Usage: "copy files or tables out of an archive", ArgsUsage: "ARCHIVE [PATH…]",
		DisableSliceFlagSeparator: true,
		Description: "PATH is relative to the webroot: a file, a folder with all below it, or a pattern\n" +
			"such as \"uploads/**/*.png\". The site is not touched, and nothing is replaced.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "to", Value: ".", Usage: "the `FOLDER` to copy into"},
			&cli.StringSliceFlag{Name: "table", Usage: "a table's `NAME`, written as SQL text; may be given again"},
			beforeFlag, keyFlag, jsonFlag,
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
	h, err := a.chosen(ctx, c, args[0])
	if err != nil {
		return err
	}
	to, err := filepath.Abs(c.String("to"))
	if err != nil {
		return err
	}
	watch, done := a.observer(c.Bool("quiet") || c.Bool("json"))
	r, err := extract.Run(ctx, extract.Job{Archive: h, Paths: args[1:], Tables: tables, To: to, Disk: a.disk, Observer: watch})
	done()
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.printJSON(map[string]any{"archive": h.Name, "to": to, "paths": r.Paths, "tables": nonNil(r.Tables)})
	}
	if r.Paths > 0 {
		fmt.Fprintf(a.out, "Copied %s from %s into %s\n", count(r.Paths, "path", "paths"), h.Name, to)
	}
	for _, file := range r.Tables {
		fmt.Fprintf(a.out, "Wrote %s\n", file)
	}
	return nil
}
