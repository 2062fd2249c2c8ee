package jobs

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/database"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/work/backup"
	"revlet/internal/work/compare"
)

// Comparison is what is compared, and with what.
type Comparison struct {
	compare.Job
	Archive *catalog.Held
	// Other is the other archive, nil for the live site.
	Other *catalog.Held
}

// Name words the other side.
func (c *Comparison) Name() string {
	if c.Other != nil {
		return c.Other.Name
	}
	return "the live site"
}

// Comparison opens both sides: an archive, and another or the live site if that is
// empty.
func (a *Agent) Comparison(ctx context.Context, typed, other string, before time.Time) (*Comparison, error) {
	h, err := a.FindFull(ctx, typed, before)
	if err != nil {
		return nil, err
	}
	if err := h.Unseal(h.Keys); err != nil {
		return nil, err
	}
	if other != "" {
		return a.comparisonOf(ctx, h, other)
	}
	c := newComparison(h)
	live, err := a.liveSide(ctx, h.Site)
	if err != nil {
		return nil, err
	}
	c.A = compare.Archive{Held: h, Lines: backup.KnownLines(ctx, a.State, h.Site, h.Name)}
	c.B, c.Recipe = live, live.Site.Recipe
	return c, nil
}

func newComparison(h *catalog.Held) *Comparison {
	return &Comparison{Archive: h, Job: compare.Job{A: compare.Archive{Held: h}, Files: h.Scope.HasFiles(), Tables: h.Scope.HasDatabase()}}
}

// comparisonOf compares an archive that is open with another one.
func (a *Agent) comparisonOf(ctx context.Context, h *catalog.Held, other string) (c *Comparison, err error) {
	c = newComparison(h)
	if c.Other, err = a.FindOpen(ctx, other, time.Time{}, Need{}); err != nil {
		return nil, err
	}
	if c.Recipe, err = a.recipeOf(h); err != nil {
		return nil, err
	}
	c.B = compare.Archive{Held: c.Other}
	c.Files, c.Tables = c.Files && c.Other.Scope.HasFiles(), c.Tables && c.Other.Scope.HasDatabase()
	return c, nil
}

// databases reads live databases.
func (a *Agent) databases() compare.Databases {
	return compare.Databases{Disk: a.Disk, Scratch: a.State.Dir}
}

// liveSide is the live site, to compare with.
func (a *Agent) liveSide(ctx context.Context, name string) (*compare.Live, error) {
	cfg, err := a.SiteConfig(name)
	if err != nil {
		return nil, err
	}
	s, err := a.openSite(ctx, name, cfg)
	if err != nil {
		return nil, a.halfRestored(name, err)
	}
	return a.databases().Live(s), nil
}

// CompareTable tells which rows of one table differ, named as catalog.Held.FindTable has it.
func (a *Agent) CompareTable(ctx context.Context, c *Comparison, typed string) (*compare.Rows, error) {
	before, err := compare.TextsOf(ctx, c.Archive)
	if err != nil {
		return nil, err
	}
	name, after, done, err := c.table(ctx, typed)
	defer done()
	if err != nil {
		return nil, err
	}
	rows, _ := rowsIn(c.Archive, name)
	if c.Other != nil {
		others, _ := rowsIn(c.Other, name)
		rows = max(rows, others)
	}
	statements, err := c.A.Definitions(ctx)
	if err != nil {
		return nil, err
	}
	keyed := compare.Keyed(statements[name.Database], name.Table)
	return compare.CompareRows(ctx, name, c.Archive.Origin.Databases[name.Database].Engine, rows, keyed, before, after)
}

// table finds a table on either side, and opens the second side's databases until done is called.
func (c *Comparison) table(ctx context.Context, typed string) (name compare.TableName, after compare.Texts, done func(), err error) {
	done = func() {}
	label, table, notHeld := c.Archive.FindTable(c.Archive.Tables(), typed)
	if notHeld != nil && !reason.Is(notHeld, reason.TableNotHeld) {
		return name, nil, done, notHeld
	}
	if notHeld != nil && c.Other != nil {
		if label, table, err = c.Other.FindTable(c.Other.Tables(), typed); err != nil {
			return name, nil, done, c.noTable(typed)
		}
		notHeld = nil
	}
	if notHeld == nil {
		name = compare.TableName{Database: label, Table: table}
		after, done, err = c.B.Texts(ctx, label)
		return name, after, done, err
	}
	for _, label := range slices.Sorted(maps.Keys(c.Archive.Origin.Databases)) {
		if after, done, err = c.B.Texts(ctx, label); err != nil {
			return name, nil, done, err
		}
		bare := strings.TrimPrefix(typed, label+".")
		for _, table := range []string{typed, bare, c.Archive.Origin.Databases[label].Prefix + bare} {
			name = compare.TableName{Database: label, Table: table}
			if there, err := wroteSome(ctx, after, name); there || err != nil {
				return name, after, done, err
			}
		}
		done()
	}
	return name, nil, func() {}, c.noTable(typed)
}

// noTable says that neither side has a table.
func (c *Comparison) noTable(typed string) error {
	return reason.Because(reason.TableNotHeld, reason.Names{"archive": c.Archive.Name}, reason.BadUsage("there is no table %q on either side", typed))
}

// Trace tells of what is suspect on the live site when it appeared, and names the
// newest archive without any of it.
func (a *Agent) Trace(ctx context.Context, job compare.Job, name string, r *compare.Report) (clean string, err error) {
	if _, live := job.B.(*compare.Live); !live || len(r.Suspects()) == 0 && len(r.Rows) == 0 {
		return "", nil
	}
	archives, err := a.openArchives(ctx, name)
	if err == nil {
		err = r.Trace(ctx, archives)
	}
	return r.CleanArchive(archives), err
}

// recipeOf is the recipe of an archive's site: one that Revlet brings, or the one whose file
// the site's entry names.
func (a *Agent) recipeOf(h *catalog.Held) (*site.Recipe, error) {
	if h.Origin.Recipe == "" || h.Origin.Recipe == "none" {
		return nil, nil
	}
	files := []string{a.Config.Sites[h.Site].Recipe}
	for _, cfg := range a.Config.Sites { // a copy that was moved has it, too
		files = append(files, cfg.Recipe)
	}
	for _, file := range files {
		if site.IsRecipeFile(file) {
			if r, err := site.ReadRecipe(file); err == nil && r.Name == h.Origin.Recipe {
				return r, nil
			}
		}
	}
	return site.RecipeNamed(h.Origin.Recipe)
}

// wroteSome tells whether there is a table to read: even an empty one has a frame.
func wroteSome(ctx context.Context, texts compare.Texts, name compare.TableName) (bool, error) {
	err := texts(ctx, name, firstWrite{})
	if errors.Is(err, errFound) {
		return true, nil
	}
	return false, err
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

// errFound ends a search.
var errFound = errors.New("found")

// openArchives are a site's archives, newest first, each of them open.
func (a *Agent) openArchives(ctx context.Context, name string) ([]*catalog.Held, error) {
	l, err := a.List(ctx, name)
	if err != nil {
		return nil, err
	}
	var all []*catalog.Held
	for i := range l.Archives {
		h := &l.Archives[i]
		if err := h.Unseal(h.Keys); err != nil {
			return nil, err
		}
		all = append(all, h)
	}
	return all, nil
}

// Since tells in which archive of a site a live file, or a row in whatever state, first appeared, and of a row
// that is gone which has it last: path is the file's, relative to the webroot, unless row is given.
func (a *Agent) Since(ctx context.Context, c *Comparison, path string, row *database.RowPick) (SightingNow, error) {
	var found SightingNow
	var subject compare.Subject
	if row != nil {
		of := &compare.RowSubject{Is: func(r compare.Row) bool { return r[row.Column] == row.Value }}
		var err error
		if of.Table, of.Engine, err = a.rowTable(ctx, c.Archive, *row); err != nil {
			return found, err
		}
		subject.Row = of
		now, err := a.liveRow(ctx, c.Archive.Site, subject.Row)
		if err != nil {
			found.NotAsked = err.Error()
		}
		found.Live = now
		subject.Gone = now == nil || !*now
	} else {
		live, err := a.liveSide(ctx, c.Archive.Site)
		if err != nil {
			return found, err
		}
		if subject, err = liveFile(ctx, live, path); err != nil {
			return found, err
		}
		found.Live = new(true)
	}
	archives, err := a.openArchives(ctx, c.Archive.Site)
	if err != nil {
		return found, err
	}
	seen, err := compare.Trace(ctx, archives, []compare.Subject{subject})
	if err != nil {
		return found, err
	}
	found.Sighting = seen[0]
	if found.FirstSeen == "" && found.Live != nil && !*found.Live {
		return found, reason.BadUsage("neither the live site nor an archive has a row %s of table %s", row.Column+"="+row.Value, row.Table)
	}
	return found, nil
}

// SightingNow is where something was seen, and whether the live site has it.
type SightingNow struct {
	compare.Sighting
	// Live tells whether the live site has it; nil where that could not be asked, and why in NotAsked.
	Live     *bool  `json:"live"`
	NotAsked string `json:"not_asked,omitempty"`
}

// liveRow tells whether the live site has a row.
func (a *Agent) liveRow(ctx context.Context, name string, row *compare.RowSubject) (*bool, error) {
	live, err := a.liveSide(ctx, name)
	if err != nil {
		return nil, err
	}
	texts, done, err := live.Texts(ctx, row.Table.Database)
	defer done()
	if err != nil {
		return nil, err
	}
	there := false
	err = compare.EachRow(ctx, texts, row.Table, row.Engine, func(r compare.Row) error {
		if row.Is(r) {
			there = true
			return errFound
		}
		return nil
	})
	if err != nil && !errors.Is(err, errFound) {
		return nil, err
	}
	return &there, nil
}

// rowTable finds the table of a row, and its dialect. A table, or a column, that neither the archives nor the
// live site have is refused: it would be called newer than every archive.
func (a *Agent) rowTable(ctx context.Context, newest *catalog.Held, row database.RowPick) (name compare.TableName, dialect string, err error) {
	archives, err := a.openArchives(ctx, newest.Site)
	if err != nil {
		return name, "", err
	}
	for _, h := range archives {
		label, table, err := h.FindTable(h.Tables(), row.Table)
		if reason.Is(err, reason.TableNotHeld) {
			continue
		}
		if err != nil {
			return name, "", err
		}
		name = compare.TableName{Database: label, Table: table}
		columns, err := compare.ColumnsOf(ctx, h, name)
		switch {
		case err != nil:
			return name, "", err
		case slices.Contains(columns, row.Column):
			return name, h.Origin.Databases[label].Engine, nil
		case columns != nil:
			return name, "", reason.BadUsage("table %s has no column %q; it has: %s", table, row.Column, strings.Join(columns, ", "))
		}
	}
	s, err := a.openForRestore(ctx, newest)
	if err != nil {
		return name, "", err
	}
	for _, db := range s.Databases {
		live, err := a.tableNames(ctx, db)
		if err != nil {
			return name, "", err
		}
		for _, table := range []string{row.Table, db.Prefix + row.Table} {
			if slices.Contains(live, table) {
				return compare.TableName{Database: db.Label, Table: table}, db.Engine, nil
			}
		}
	}
	return name, "", reason.BadUsage("neither an archive nor the live site has a table %q with rows", row.Table)
}

// liveFile finds a file on the live site.
func liveFile(ctx context.Context, live *compare.Live, path string) (compare.Subject, error) {
	wanted := site.RootLabel + "/" + strings.TrimPrefix(path, "/")
	for e, err := range live.Files(ctx) {
		if err != nil {
			return compare.Subject{}, err
		}
		if e.Path != wanted || e.Digest == nil {
			continue
		}
		digest, err := e.Digest()
		return compare.Subject{Path: wanted, Digest: digest}, err
	}
	return compare.Subject{}, reason.BadUsage("the live site has no file %q; a row is named TABLE:COLUMN=VALUE", path)
}
