package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/urfave/cli/v3"

	"revlet/internal/archives/catalog"
	"revlet/internal/cli/render"
	"revlet/internal/database"
	"revlet/internal/jobs"
	"revlet/internal/site"
	"revlet/internal/work/restore"
)

// wish is what is to be restored.
type wish struct {
	jobs.RestoreOrder
	// names words the share of the files; uploads tells that they are of it.
	names   []string
	uploads bool
	// above are settings files above the webroot that come back.
	above []string
	// astray are folders from which links would lead elsewhere.
	astray []*jobs.Astray
	// shared are folders that another site has, too.
	shared []site.Shared
	// picks words the share of the database.
	picks []string
}

// folders are those of the site that a share of the files lies in.
func (w wish) folders(s *site.Site) (all []string) {
	if w.Selection == nil {
		return nil
	}
	for _, label := range w.Selection.Folders() {
		all = append(all, cmp.Or(s.FolderOf(label), label))
	}
	return all
}

// words says what becomes of the files.
func (w wish) words(s *site.Site) string {
	where, names := strings.Join(w.folders(s), " and "), slices.Clone(w.names)
	linked := w.Selection.Linked()
	for _, name := range linked[:min(len(linked), mostLinked)] {
		names = append(names, name+" (a link leads there)")
	}
	if n := len(linked) - mostLinked; n > 0 {
		names = append(names, fmt.Sprintf("and %d more places that links lead to", n))
	}
	what := render.PrintableText(strings.Join(names, ", "))
	if w.Selection.Fill {
		return fmt.Sprintf("in %s, what is missing or differs of %s is put back; what was added stays", cmp.Or(where, s.Root), what)
	}
	return fmt.Sprintf("in %s, %s becomes exactly the archive's", cmp.Or(where, s.Root), what)
}

// mostLinked is how many places that links lead to are named.
const mostLinked = 8

// sharesOf makes shares out of tables and rows as they were typed.
type sharesOf func(tables []string, rows []database.RowPick) (map[string]*database.RowSelection, error)

// wanted reads --only, --path and --mode.
func wanted(c *cli.Command, s *site.Site, h *catalog.Held, shares sharesOf) (wish, error) {
	w := wish{RestoreOrder: jobs.RestoreOrder{Files: h.Scope.HasFiles(), Database: h.Scope.HasDatabase() && len(h.Origin.Databases) > 0}}
	fill := c.String("mode") == "fill"
	if !fill && c.String("mode") != "replace" {
		return w, usageError("--mode %q: it is replace or fill", c.String("mode"))
	}
	globs := c.StringSlice("path")
	if err := w.readRows(c, h, fill, shares); err != nil {
		return w, err
	}
	var components []string
	if only := c.String("only"); only != "" {
		w.Files, w.Database = false, w.Rows != nil
		for name := range strings.SplitSeq(only, ",") {
			switch name = strings.TrimSpace(name); name {
			case "files":
				w.Files = true
			case "database":
				if w.Rows != nil {
					return w, usageError("choose one of --only database and --table or --rows")
				}
				w.Database = true
			default:
				components = append(components, name)
			}
		}
	}
	if len(globs) > 0 && len(components) > 0 {
		return w, usageError("choose one of --path and --only %s", strings.Join(components, ","))
	}
	if err := knownComponents(components, s); err != nil {
		return w, err
	}
	for _, g := range globs {
		if !doublestar.ValidatePattern(g) {
			return w, usageError("--path %q is no pattern such as \"uploads/2026/**\"", g)
		}
	}
	switch {
	case len(globs) > 0:
		w.Files, w.names = true, globs
		w.Database = w.Rows != nil || w.Database && c.String("only") != ""
		w.Selection = restore.Matching(globs, fill)
	case len(components) > 0 && !w.Files:
		w.Files, w.names, w.uploads = true, components, slices.Contains(components, "uploads")
		w.Selection = restore.OfComponents(s.Recipe, components, fill)
	case fill && w.Files && (w.Rows == nil || c.String("only") != ""):
		w.Database = w.Rows != nil || w.Database && c.String("only") != ""
		w.names = []string{"the site"}
		w.Selection = restore.Matching([]string{"**"}, true)
	case w.Rows != nil && c.String("only") == "":
		w.Files = false
	case fill && w.Rows == nil:
		return w, usageError("--mode fill is for files, and for tables and rows with --table and --rows; a whole database becomes the archive's")
	}
	return w, nil
}

// readRows reads --table and --rows.
func (w *wish) readRows(c *cli.Command, h *catalog.Held, fill bool, shares sharesOf) error {
	tables, typed := c.StringSlice("table"), c.StringSlice("rows")
	if len(tables) == 0 && len(typed) == 0 {
		return nil
	}
	if !w.Database {
		return fmt.Errorf("archive %s holds no database (its scope is %s)", h.Name, h.Scope)
	}
	var picks []database.RowPick
	for _, text := range typed {
		more, err := rowPicks(text)
		if err != nil {
			return err
		}
		picks = append(picks, more...)
	}
	rows, err := shares(tables, picks)
	if err != nil {
		return err
	}
	for _, label := range slices.Sorted(maps.Keys(rows)) {
		share := rows[label]
		share.Fill, share.Anyway = fill, c.Bool("anyway")
		w.picks = append(w.picks, pickWords(share)...)
	}
	w.Rows = rows
	return nil
}

// rowPicks reads TABLE:COLUMN=VALUE[,[TABLE:]COLUMN=VALUE…].
func rowPicks(text string) ([]database.RowPick, error) {
	var all []database.RowPick
	table := ""
	for one := range strings.SplitSeq(text, ",") {
		head, value, ok := strings.Cut(one, "=")
		if t, column, named := strings.Cut(head, ":"); named {
			table, head = t, column
		}
		if !ok || table == "" || head == "" {
			return nil, usageError("--rows %q: it is TABLE:COLUMN=VALUE, such as pages:id=12, and more after a comma", text)
		}
		all = append(all, database.RowPick{Table: table, Column: head, Value: value})
	}
	return all, nil
}

// pickWords says what of a database comes back.
func pickWords(share *database.RowSelection) []string {
	became := "becomes the archive's"
	if share.Fill {
		became = "gets back the rows that are missing"
	}
	var all []string
	for _, t := range share.Tables {
		all = append(all, "table "+t+" "+became)
	}
	for _, r := range share.Rows {
		all = append(all, fmt.Sprintf("rows of %s where %s is %s come back", r.Table, r.Column, r.Value))
	}
	var exact, missing []string
	for _, table := range share.Staged() {
		i := slices.IndexFunc(share.Relations, func(r database.Relation) bool { return r.Table == table && !r.Parent })
		switch {
		case len(share.Rows) == 0 || i < 0 || slices.Contains(share.Tables, table):
		case share.Relations[i].Keep || share.Fill:
			missing = append(missing, table)
		default:
			exact = append(exact, table)
		}
	}
	if len(exact) > 0 {
		all = append(all, "with what belongs to them in "+strings.Join(exact, ", "))
	}
	if len(missing) > 0 {
		all = append(all, "and what is missing of it in "+strings.Join(missing, ", ")+"; later rows stay")
	}
	return append(all, "all other rows stay as they are")
}

// knownComponents makes sure that the recipe has the components that were asked for.
func knownComponents(components []string, s *site.Site) error {
	names := []string{"other"}
	if s.Recipe != nil {
		for _, c := range s.Recipe.Components {
			names = append(names, c.Name)
		}
	}
	slices.Sort(names)
	for _, c := range components {
		if !slices.Contains(names, c) {
			return usageError("there is no component %q; there are files, database, %s", c, strings.Join(names, ", "))
		}
	}
	return nil
}
