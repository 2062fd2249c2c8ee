package cli

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sync/errgroup"

	"revlet/internal/archive"
	"revlet/internal/backup"
	"revlet/internal/catalog"
	"revlet/internal/compare"
	"revlet/internal/database"
	"revlet/internal/database/engine"
	"revlet/internal/site"
)

func (a *app) compareCommand() *cli.Command {
	return &cli.Command{
		Name: "compare", Usage: "what differs between an archive and another, or the live site", ArgsUsage: "A [B]",
		Description: "Without B, the live site is compared. What a person should look at first comes first:\n" +
			"scripts among uploads, files of the CMS itself that differ, hidden scripts, settings,\n" +
			"administrators, options that load code; each with the archive in which it first appeared.\n" +
			"Files of the same length and time are taken for the same unless --read is given; tables\n" +
			"are always read.\n" +
			"The exit code is 4 when something differs.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "read", Usage: "compare every file by its content"},
			&cli.StringFlag{Name: "only", Usage: "only one `HALF`: files or database"},
			&cli.StringFlag{Name: "table", Usage: "show which rows of the table `NAME` differ (DATABASE.NAME where a site has several databases)"},
			&cli.StringFlag{Name: "text", Usage: "show how the text of the file `PATH` differs"},
			&cli.StringFlag{Name: "since", Usage: "tell in which archive `PATH`, a live file, or TABLE:COLUMN=VALUE, a row, first appeared"},
			&cli.BoolFlag{Name: "all", Usage: "list everything that differs, however much it is"},
			beforeFlag, keyFlag, jsonFlag,
		},
		Action: a.compare,
	}
}

func (a *app) compare(ctx context.Context, c *cli.Command) error {
	if n := c.Args().Len(); n < 1 || n > 2 {
		return usageError("`revlet compare` needs one ARCHIVE, or two; it got %d", n)
	}
	h, err := a.compared(ctx, c)
	if err != nil {
		return err
	}
	if c.String("since") != "" {
		return a.since(ctx, c, h)
	}
	job := compare.Job{A: compare.Archive{Held: h}, Read: c.Bool("read"), Files: h.Scope.HasFiles(), Tables: h.Scope.HasDatabase()}
	other := "the live site"
	if c.Args().Len() == 2 {
		b, err := a.findOpen(ctx, c.Args().Get(1), time.Time{})
		if err != nil {
			return err
		}
		if job.Recipe, err = recipeOf(h); err != nil {
			return err
		}
		job.B, other = compare.Archive{Held: b}, b.Name
		job.Files, job.Tables = job.Files && b.Scope.HasFiles(), job.Tables && b.Scope.HasDatabase()
	} else {
		live, err := a.liveSide(h.Site)
		if err != nil {
			return err
		}
		job.A = compare.Archive{Held: h, Lines: backup.KnownLines(ctx, a.state, h.Site, h.Name)}
		job.B, job.Recipe = live, live.Site.Recipe
	}
	if c.String("text") != "" {
		return a.compareText(ctx, c, h, job, other)
	}
	if c.String("table") != "" {
		return a.compareTable(ctx, c, h, job, other)
	}
	switch c.String("only") {
	case "":
	case "files":
		job.Tables = false
	case "database":
		job.Files = false
	default:
		return usageError("--only %q: it is files or database", c.String("only"))
	}
	r, err := job.Run(ctx)
	if err != nil {
		return err
	}
	clean, err := a.trace(ctx, job, h.Site, r)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.printJSON(struct {
			A    string `json:"a"`
			B    string `json:"b"`
			Same bool   `json:"same"`
			// Clean is the newest archive without any of what is suspect.
			Clean string `json:"clean_archive"`
			*compare.Report
		}{h.Name, other, r.Same(), clean, r})
	} else {
		a.showCompared(h, other, r, c.Bool("all"))
		if clean != "" {
			fmt.Fprintf(a.out, "\n%s has none of that: `revlet restore %s` makes the site exactly what it was then.\n", a.bold(clean), clean)
		}
	}
	if err == nil && !r.Same() {
		return &exitError{code: exitDamage}
	}
	return err
}

// compared finds the archive to compare with.
func (a *app) compared(ctx context.Context, c *cli.Command) (*catalog.Held, error) {
	if err := a.open(ctx, c); err != nil {
		return nil, err
	}
	limit, err := before(c)
	if err != nil {
		return nil, err
	}
	h, err := a.findFull(ctx, c.Args().First(), limit)
	if err != nil {
		return nil, err
	}
	return h, h.Unseal(h.Keys)
}

// trace tells of what is suspect on the live site when it appeared, and names the
// newest archive without any of it.
func (a *app) trace(ctx context.Context, job compare.Job, name string, r *compare.Report) (clean string, err error) {
	if _, live := job.B.(*compare.Live); !live || len(r.Suspects()) == 0 && len(r.Rows) == 0 {
		return "", nil
	}
	archives, err := a.openArchives(ctx, name)
	if err == nil {
		err = r.Trace(ctx, archives)
	}
	return r.CleanArchive(archives), err
}

// recipeOf is the recipe of an archive's site; an unknown one knows nothing.
func recipeOf(h *catalog.Held) (*site.Recipe, error) {
	if h.Origin.Recipe == "" || h.Origin.Recipe == "none" {
		return nil, nil
	}
	return site.RecipeNamed(h.Origin.Recipe)
}

// liveSide is the live site, to compare with.
func (a *app) liveSide(name string) (*compare.Live, error) {
	cfg, err := a.siteConfig(name)
	if err != nil {
		return nil, err
	}
	s, err := site.Open(name, cfg)
	if err != nil {
		return nil, a.halfRestored(name, err)
	}
	statements := map[string][]string{}
	return &compare.Live{Site: s, Disk: a.disk, IsDatabase: engine.IsFile,
		Databases: func(ctx context.Context) (map[compare.TableName]compare.Sum, error) {
			return a.liveTables(ctx, s, statements)
		},
		Statements: func(context.Context) (map[string][]string, error) { return statements, nil },
		Rows: func(ctx context.Context, label string) (compare.Texts, func(), error) {
			return a.liveTexts(ctx, s, label)
		}}, nil
}

// sumTables dumps a site's databases into digests.
func (a *app) sumTables(ctx context.Context, s *site.Site) (map[compare.TableName]compare.Sum, error) {
	return a.liveTables(ctx, s, map[string][]string{})
}

// liveTables does so too, and collects the statements that make the tables and
// what else is in the databases.
func (a *app) liveTables(ctx context.Context, s *site.Site, statements map[string][]string) (map[compare.TableName]compare.Sum, error) {
	all := map[compare.TableName]compare.Sum{}
	for _, db := range s.Databases {
		if err := a.sumDatabase(ctx, db, all, statements); err != nil {
			return nil, fmt.Errorf("database %s: %w", db.Label, err)
		}
	}
	return all, nil
}

// snapshot opens a live database as of this moment, until done is called.
func (a *app) snapshot(ctx context.Context, db site.Database) (snapshot database.Snapshot, done func(), err error) {
	var undo []func()
	done = func() {
		for _, f := range slices.Backward(undo) {
			f()
		}
	}
	scratch, err := os.MkdirTemp(a.state.Dir, "compare-")
	if err != nil {
		return nil, done, err
	}
	undo = append(undo, func() { _ = a.disk.RemoveAll(scratch) })
	source, err := a.openSource(ctx, db, scratch)
	if err != nil {
		return nil, done, err
	}
	undo = append(undo, func() { _ = source.Close() })
	if snapshot, err = source.Snapshot(ctx); err == nil {
		undo = append(undo, func() { _ = snapshot.Close() })
	}
	return snapshot, done, err
}

// rowUnits are the units of a snapshot that hold rows, of one table or of all.
func rowUnits(s database.Snapshot, table string) []database.Unit {
	return slices.DeleteFunc(slices.Clone(s.Units()), func(u database.Unit) bool {
		return u.Kind != database.Rows || table != "" && u.Table != table
	})
}

func (a *app) sumDatabase(ctx context.Context, db site.Database, all map[compare.TableName]compare.Sum, statements map[string][]string) error {
	snapshot, done, err := a.snapshot(ctx, db)
	defer done()
	if err != nil {
		return err
	}
	units := rowUnits(snapshot, "")
	digests, rows := make([]string, len(units)), make([]int64, len(units))
	g, inGroup := errgroup.WithContext(ctx)
	g.SetLimit(snapshot.Lanes())
	for i, u := range units {
		g.Go(func() (err error) {
			sum := sha256.New()
			rows[i], err = snapshot.Dump(inGroup, u, sum)
			digests[i] = hex.EncodeToString(sum.Sum(nil))
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	if statements[db.Label], err = statementsOf(ctx, snapshot, db.Engine); err != nil {
		return err
	}
	for i, u := range units {
		name := compare.TableName{Database: db.Label, Table: u.Table}
		sum := all[name]
		all[name] = compare.Sum{Rows: sum.Rows + rows[i], Digests: append(sum.Digests, digests[i])}
	}
	return nil
}

// statementsOf are the statements of a snapshot that are not of rows.
func statementsOf(ctx context.Context, snapshot database.Snapshot, make string) ([]string, error) {
	var text bytes.Buffer
	for _, u := range snapshot.Units() {
		if u.Kind == database.Rows {
			continue
		}
		if _, err := snapshot.Dump(ctx, u, &text); err != nil {
			return nil, err
		}
	}
	return engine.Statements(make, &text)
}

// compareText shows how a text file differs, as lines with those around them.
func (a *app) compareText(ctx context.Context, c *cli.Command, h *catalog.Held, job compare.Job, other string) error {
	path := strings.TrimPrefix(c.String("text"), "/")
	before, err := compare.TextIn(ctx, job.A, path)
	if err != nil {
		return err
	}
	after, err := compare.TextIn(ctx, job.B, path)
	if err != nil {
		return err
	}
	if !before.There && !after.There {
		return usageError("there is no file %q on either side; `revlet show %s --files` lists them", path, h.Name)
	}
	lines := compare.TextLines(before, after)
	same := before == after
	if c.Bool("json") {
		err = a.printJSON(map[string]any{"a": h.Name, "b": other, "path": path, "same": same, "lines": nonNil(lines)})
	} else {
		a.showText(h, other, path, same, lines)
	}
	if err == nil && !same {
		return &exitError{code: exitDamage}
	}
	return err
}

func (a *app) showText(h *catalog.Held, other, path string, same bool, lines []string) {
	fmt.Fprintf(a.out, "%s, from %s (%s) to %s\n\n", a.bold(printable(path)), h.Name, when(h.Taken), other)
	if same {
		fmt.Fprintln(a.out, a.good("Nothing differs."))
	}
	for _, l := range lines {
		shown := printableText(strings.TrimSuffix(l, "\n"))
		switch {
		case strings.HasPrefix(l, "+"):
			shown = a.good(shown)
		case strings.HasPrefix(l, "-"):
			shown = a.bad(shown)
		case strings.HasPrefix(l, "@@"):
			shown = a.dim(shown)
		}
		fmt.Fprintln(a.out, shown)
	}
}

// compareTable shows which rows of one table differ.
func (a *app) compareTable(ctx context.Context, c *cli.Command, h *catalog.Held, job compare.Job, other string) error {
	name, err := tableNamed(c.String("table"), h)
	if err != nil {
		return err
	}
	before, err := compare.TextsOf(ctx, h)
	if err != nil {
		return err
	}
	after, done, err := job.B.Texts(ctx, name.Database)
	defer done()
	if err != nil {
		return err
	}
	rows, there := rowsIn(h, name)
	if b, ok := job.B.(compare.Archive); ok {
		others, alsoThere := rowsIn(b.Held, name)
		rows, there = max(rows, others), there || alsoThere
	} else if !there {
		there = wroteSome(ctx, after, name)
	}
	if !there {
		return usageError("there is no table %q on either side; `revlet show %s` lists them", name.Table, h.Name)
	}
	statements, err := job.A.Definitions(ctx)
	if err != nil {
		return err
	}
	keyed := compare.Keyed(statements[name.Database], name.Table)
	r, err := compare.CompareRows(ctx, name, h.Origin.Databases[name.Database].Engine, rows, keyed, before, after)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.printJSON(struct {
			A     string `json:"a"`
			B     string `json:"b"`
			Table string `json:"table"`
			*compare.Rows
		}{h.Name, other, name.Table, r})
	} else {
		a.showRows(h, other, r, c.Bool("all"))
	}
	if err == nil && r.AddedRows+r.RemovedRows+r.ChangedRows > 0 {
		return &exitError{code: exitDamage}
	}
	return err
}

// tableNamed finds a table of an archive as typed.
func tableNamed(typed string, h *catalog.Held) (compare.TableName, error) {
	label, table, dotted := strings.Cut(typed, ".")
	if _, known := h.Origin.Databases[label]; dotted && known {
		return compare.TableName{Database: label, Table: table}, nil
	}
	labels := slices.Sorted(maps.Keys(h.Origin.Databases))
	switch len(labels) {
	case 0:
		return compare.TableName{}, usageError("archive %s holds no database", h.Name)
	case 1:
		return compare.TableName{Database: labels[0], Table: typed}, nil
	}
	return compare.TableName{}, usageError("--table %q: the archive has the databases %s; write DATABASE.%s", typed, strings.Join(labels, ", "), typed)
}

// wroteSome tells whether there is a table to read: even an empty one has a frame.
func wroteSome(ctx context.Context, texts compare.Texts, name compare.TableName) bool {
	return errors.Is(texts(ctx, name, firstWrite{}), errFound)
}

// firstWrite ends a writing at once.
type firstWrite struct{}

func (firstWrite) Write([]byte) (int, error) { return 0, errFound }

// rowsIn counts a table's rows in an archive, if it is there.
func rowsIn(h *catalog.Held, name compare.TableName) (rows int64, there bool) {
	for _, p := range h.Parts {
		if p.Kind == archive.KindRows && p.Database == name.Database && p.Table == name.Table {
			rows, there = rows+p.Entries, true
		}
	}
	return rows, there
}

// liveTexts gives the rows of a live database's tables as of one moment, until
// done is called.
func (a *app) liveTexts(ctx context.Context, s *site.Site, label string) (texts compare.Texts, done func(), err error) {
	db, ok := s.Database(label)
	if !ok {
		return nil, func() {}, fmt.Errorf("the site has no database %s now", label)
	}
	snapshot, done, err := a.snapshot(ctx, db)
	if err != nil {
		return nil, done, err
	}
	return func(ctx context.Context, name compare.TableName, w io.Writer) error {
		for _, u := range rowUnits(snapshot, name.Table) {
			if _, err := snapshot.Dump(ctx, u, w); err != nil {
				return err
			}
		}
		return nil
	}, done, nil
}

const (
	// rowsShown is how many rows of a kind are shown, widthShown how much of each.
	rowsShown  = 20
	widthShown = 160
)

func (a *app) showRows(h *catalog.Held, other string, r *compare.Rows, everything bool) {
	fmt.Fprintf(a.out, "Table %s, from %s (%s) to %s: %s, %s, %s\n", a.bold(printable(r.Table.Table)), h.Name, when(h.Taken), other,
		count(r.AddedRows, "row added", "rows added"), count(r.RemovedRows, "removed", "removed"), count(r.ChangedRows, "changed", "changed"))
	if r.Keyless {
		fmt.Fprintln(a.out, a.dim("It has no primary key: a row that changed is one removed and one added."))
	}
	show := func(mark, row string) {
		if !everything && len(row) > widthShown {
			row = strings.ToValidUTF8(row[:widthShown], "") + "…"
		}
		fmt.Fprintf(a.out, "  %s %s\n", mark, printableText(strings.ReplaceAll(row, "\n", "\\n")))
	}
	most := rowsShown
	if everything {
		most = len(r.Added) + len(r.Removed) + len(r.Changed)
	}
	for _, p := range r.Changed[:min(len(r.Changed), most)] {
		fmt.Fprintln(a.out)
		show(a.bad("was"), p.Before)
		show(a.good("is "), p.After)
	}
	for _, list := range []struct {
		mark string
		rows []string
	}{{a.bad("removed"), r.Removed}, {a.good("added  "), r.Added}} {
		if len(list.rows) > 0 {
			fmt.Fprintln(a.out)
		}
		for _, row := range list.rows[:min(len(list.rows), most)] {
			show(list.mark, row)
		}
		a.showMore(len(list.rows), most)
	}
}
