package cli

import (
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
			"scripts among uploads, files of the CMS itself that differ, hidden scripts, settings.\n" +
			"Files of the same length and time are taken for the same unless --read is given; tables\n" +
			"are always read. --since PATH tells in which archive a file first appeared as it is now.\n" +
			"The exit code is 4 when something differs.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "read", Usage: "compare every file by its content"},
			&cli.StringFlag{Name: "only", Usage: "files or database"},
			&cli.StringFlag{Name: "table", Usage: "show which rows of the table `NAME` differ (DATABASE.NAME where a site has several databases)"},
			&cli.StringFlag{Name: "since", Usage: "tell since when the live file `PATH` is as it is"},
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
	h, err := a.chosen(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	if c.String("since") != "" {
		return a.since(ctx, c, h.Site)
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
		job.B, job.Recipe = live, live.Site.Recipe
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
	if c.Bool("json") {
		err = a.printJSON(struct {
			A    string `json:"a"`
			B    string `json:"b"`
			Same bool   `json:"same"`
			*compare.Report
		}{h.Name, other, r.Same(), r})
	} else {
		a.showCompared(h, other, r, c.Bool("all"))
	}
	if err == nil && !r.Same() {
		return &exitError{code: exitDamage}
	}
	return err
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
	return &compare.Live{Site: s, Disk: a.disk, IsDatabase: engine.IsFile,
		Databases: func(ctx context.Context) (map[compare.TableName]compare.Sum, error) { return a.liveTables(ctx, s) }}, nil
}

// liveTables dumps a site's databases into digests.
func (a *app) liveTables(ctx context.Context, s *site.Site) (map[compare.TableName]compare.Sum, error) {
	all := map[compare.TableName]compare.Sum{}
	for _, db := range s.Databases {
		if err := a.sumDatabase(ctx, db, all); err != nil {
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

func (a *app) sumDatabase(ctx context.Context, db site.Database, all map[compare.TableName]compare.Sum) error {
	snapshot, done, err := a.snapshot(ctx, db)
	defer done()
	if err != nil {
		return err
	}
	units := rowUnits(snapshot, "")
	digests, rows := make([]string, len(units)), make([]int64, len(units))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(snapshot.Lanes())
	for i, u := range units {
		g.Go(func() (err error) {
			sum := sha256.New()
			rows[i], err = snapshot.Dump(ctx, u, sum)
			digests[i] = hex.EncodeToString(sum.Sum(nil))
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for i, u := range units {
		name := compare.TableName{Database: db.Label, Table: u.Table}
		sum := all[name]
		all[name] = compare.Sum{Rows: sum.Rows + rows[i], Digests: append(sum.Digests, digests[i])}
	}
	return nil
}

// differencesShown is how many differences of a kind are listed.
const differencesShown = 30

func (a *app) showCompared(h *catalog.Held, other string, r *compare.Report, everything bool) {
	fmt.Fprintf(a.out, "From %s (%s) to %s\n", a.bold(h.Name), when(h.Taken), a.bold(other))
	if r.Same() {
		fmt.Fprintf(a.out, "\n%s %s compared\n", a.good("Nothing differs:"), count(r.Compared, "path and table", "paths and tables"))
	}
	most := differencesShown
	if everything {
		most = len(r.Files) + len(r.Tables)
	}
	if suspects := r.Suspects(); len(suspects) > 0 {
		fmt.Fprintf(a.out, "\n%s\n", a.bad("Look at these first:"))
		for _, f := range suspects[:min(len(suspects), most)] {
			fmt.Fprintf(a.out, "  %-8s %s  (%s)\n", f.How, shownPath(f.Path), f.Suspect)
		}
		a.showMore(len(suspects), most)
	}
	a.showComponents(r)
	if plain := slices.DeleteFunc(slices.Clone(r.Files), func(f compare.File) bool { return f.Suspect != "" }); len(plain) > 0 {
		fmt.Fprintln(a.out)
		for _, f := range plain[:min(len(plain), most)] {
			fmt.Fprintf(a.out, "  %-8s %s%s\n", f.How, shownPath(f.Path), lengths(f))
		}
		a.showMore(len(plain), most)
	}
	a.showTables(r, most)
	for _, g := range r.Gaps {
		fmt.Fprintf(a.out, "\n%s %s (%s)", a.bad("Cannot be read:"), shownPath(g.Path), g.Why)
	}
	if len(r.Gaps) > 0 {
		fmt.Fprintln(a.out)
	}
	if r.NotRead > 0 {
		fmt.Fprintf(a.out, "\n%s\n", a.dim(count(r.NotRead, "file has", "files have")+" the same length and time and were not read; --read compares content"))
	}
}

func (a *app) showMore(all, most int) {
	if all > most {
		fmt.Fprintf(a.out, "  … and %d more: --all\n", all-most)
	}
}

func shownPath(p string) string { return printable(strings.TrimPrefix(p, site.RootLabel+"/")) }

// lengths words how a file's length changed.
func lengths(f compare.File) string {
	switch {
	case f.How == compare.Changed && f.Before != f.After:
		return fmt.Sprintf("  (%s, was %s)", size(f.After), size(f.Before))
	case f.How == compare.Added:
		return fmt.Sprintf("  (%s)", size(f.After))
	}
	return ""
}

// showComponents sums up the differences of each component.
func (a *app) showComponents(r *compare.Report) {
	if len(r.Files) == 0 {
		return
	}
	sums := map[string]map[string]int{}
	for _, f := range r.Files {
		if sums[f.Component] == nil {
			sums[f.Component] = map[string]int{}
		}
		sums[f.Component][f.How]++
	}
	var rows [][]string
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		row := []string{name}
		for _, how := range []string{compare.Added, compare.Changed, compare.Removed, compare.Rights} {
			row = append(row, fmt.Sprint(sums[name][how]))
		}
		rows = append(rows, row)
	}
	fmt.Fprintln(a.out)
	a.table([]string{"component", "added", "changed", "removed", "rights only"}, rows, 2, 3, 4, 5)
}

func (a *app) showTables(r *compare.Report, most int) {
	if len(r.Tables) == 0 {
		return
	}
	rowsOf := func(n int64) string {
		if n < 0 {
			return ""
		}
		return fmt.Sprint(n)
	}
	var rows [][]string
	for _, t := range r.Tables[:min(len(r.Tables), most)] {
		rows = append(rows, []string{t.Database, printable(t.Table), t.How, rowsOf(t.Before), rowsOf(t.After)})
	}
	fmt.Fprintln(a.out)
	a.table([]string{"database", "table", "", "rows before", "rows after"}, rows, 4, 5)
	a.showMore(len(r.Tables), most)
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
	var after compare.Texts
	rows, there := rowsIn(h, name)
	var alsoThere bool
	switch b := job.B.(type) {
	case compare.Archive:
		var others int64
		others, alsoThere = rowsIn(b.Held, name)
		rows = max(rows, others)
		after, err = compare.TextsOf(ctx, b.Held)
	case *compare.Live:
		var done func()
		after, alsoThere, done, err = a.liveTexts(ctx, b.Site, name)
		defer done()
	}
	if err != nil {
		return err
	}
	if !there && !alsoThere {
		return usageError("there is no table %q on either side; `revlet show %s` lists them", name.Table, h.Name)
	}
	r, err := compare.CompareRows(ctx, name, h.Origin.Databases[name.Database].Engine, rows, before, after)
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

// rowsIn counts a table's rows in an archive, if it is there.
func rowsIn(h *catalog.Held, name compare.TableName) (rows int64, there bool) {
	for _, p := range h.Parts {
		if p.Kind == archive.KindRows && p.Database == name.Database && p.Table == name.Table {
			rows, there = rows+p.Entries, true
		}
	}
	return rows, there
}

// liveTexts gives the rows of a live table as of one moment, until done is
// called, and tells whether the table is there.
func (a *app) liveTexts(ctx context.Context, s *site.Site, name compare.TableName) (texts compare.Texts, there bool, done func(), err error) {
	db, ok := s.Database(name.Database)
	if !ok {
		return nil, false, func() {}, fmt.Errorf("the site has no database %s now", name.Database)
	}
	snapshot, done, err := a.snapshot(ctx, db)
	if err != nil {
		return nil, false, done, err
	}
	units := rowUnits(snapshot, name.Table)
	return func(ctx context.Context, _ compare.TableName, w io.Writer) error {
		for _, u := range units {
			if _, err := snapshot.Dump(ctx, u, w); err != nil {
				return err
			}
		}
		return nil
	}, len(units) > 0, done, nil
}

const (
	// rowsShown is how many rows of a kind are shown, widthShown how much of each.
	rowsShown  = 20
	widthShown = 160
)

func (a *app) showRows(h *catalog.Held, other string, r *compare.Rows, everything bool) {
	fmt.Fprintf(a.out, "Table %s, from %s (%s) to %s: %s, %s, %s\n", a.bold(printable(r.Table.Table)), h.Name, when(h.Taken), other,
		count(r.AddedRows, "row added", "rows added"), count(r.RemovedRows, "removed", "removed"), count(r.ChangedRows, "changed", "changed"))
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

// errFound ends the search for a path.
var errFound = errors.New("found")

// since walks back through the archives and tells in which a live file first
// appeared as it is now.
func (a *app) since(ctx context.Context, c *cli.Command, name string) error {
	live, err := a.liveSide(name)
	if err != nil {
		return err
	}
	wanted := site.RootLabel + "/" + strings.TrimPrefix(c.String("since"), "/")
	var now *compare.Entry
	for e, err := range live.Files(ctx) {
		if err != nil {
			return err
		}
		if e.Path == wanted {
			now = &e
			break
		}
	}
	if now == nil || now.Digest == nil {
		return usageError("the live site has no file %q", c.String("since"))
	}
	digest, err := now.Digest()
	if err != nil {
		return err
	}
	l, err := a.list(ctx, name)
	if err != nil {
		return err
	}
	var first, clean *catalog.Held
	for i := range l.Archives {
		h := &l.Archives[i]
		if !h.Scope.HasFiles() {
			continue
		}
		sum, err := digestIn(ctx, h, wanted)
		if err != nil {
			return err
		}
		if sum != digest {
			clean = h
			break
		}
		first = h
	}
	return a.showSince(c, shownPath(wanted), first, clean)
}

// digestIn is the digest that a file has in an archive; empty when it is not
// there.
func digestIn(ctx context.Context, h *catalog.Held, name string) (digest string, err error) {
	if err := h.Unseal(h.Keys); err != nil {
		return "", err
	}
	err = h.ReadList(ctx, func(e archive.Entry) error {
		if e.Path == name && e.Type == archive.TypeFile {
			digest = e.SHA256
			return errFound
		}
		return nil
	})
	if errors.Is(err, errFound) {
		err = nil
	}
	return digest, err
}

func (a *app) showSince(c *cli.Command, path string, first, clean *catalog.Held) error {
	nameOf := func(h *catalog.Held) string {
		if h == nil {
			return ""
		}
		return h.Name
	}
	if c.Bool("json") {
		return a.printJSON(map[string]any{"path": path, "first_seen": nameOf(first), "clean": nameOf(clean)})
	}
	switch {
	case first == nil:
		fmt.Fprintf(a.out, "%s is newer than every archive: none has it as it is now.\n", path)
	case clean == nil:
		fmt.Fprintf(a.out, "%s is the same in every archive, back to %s.\n", path, first.Name)
	default:
		fmt.Fprintf(a.out, "%s: clean until %s (%s), first seen as it is now in %s (%s).\n", path, when(clean.Taken), clean.Name, when(first.Taken), first.Name)
	}
	return nil
}
