// Package move plans how an archive is changed to come up at another place: the values of
// its rows, its settings, and the texts in its webroot that say where the site is.
//
// A Plan is made once for each move, by New. Its Moving goes into a restore, which stages
// the archive, changes what was staged, and only then exchanges it; Count does the same
// without writing anything. What was changed, and what names the old place still, is in
// Plan.Report.
package move

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/database"
	"revlet/internal/database/rowvalues"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/store"
	"revlet/internal/work/restore"
	"revlet/internal/work/rewrite"
)

// Options say what is special about a move.
type Options struct {
	// Also are further pairs of addresses or folders.
	Also []rewrite.Pair
	// Mail has host names changed in mail addresses, too.
	Mail bool
	// Keep are columns whose values stay, each TABLE.COLUMN.
	Keep []string
	// Copy makes a practice copy, which keeps quiet: see site.CopyStep.
	Copy bool
	// ExtensionsOff are extensions that are not loaded any more, by their folder or file, or
	// AllExtensions.
	ExtensionsOff []string
	// SubSite names one site of a network, by its path or its host name, which alone comes up.
	SubSite string
	// Prefix begins the names of the tables at the new place; empty as it is.
	Prefix string
	// NewKeys has the settings get new secret keys, which ends all sessions.
	NewKeys bool
	// Changes, if set, is written a JSON line for each value that changes: see Change.
	Changes io.Writer `json:"-"`
}

// Plan is how one archive is changed for its new place. It is safe for concurrent use.
type Plan struct {
	archive *catalog.Held
	to      *site.Site
	recipe  *site.Recipe
	rewrite *rewrite.Rewriter
	keep    map[string]bool
	also    []rewrite.Pair
	copy    bool
	newKeys bool
	// own is the database that the recipe describes, prefix what begins its tables now.
	own    own
	prefix string
	// from is the old address, sub the one site of a network that comes, if it is one.
	from string
	sub  *subSite
	// rules are those for the rows of a table, rowChanges what came of each.
	rules      map[tableName][]rowRule
	rowChanges []*RowChange
	// domains are what the names of a network's sites become; stays are those that stay.
	domains map[string]string
	stays   map[string]bool
	// notes are for people: what stays as it is, and what could not be done. off are the
	// extensions to switch off, seen those of them that are loaded.
	notes []Note
	off   []string
	seen  map[string]bool

	mu      sync.Mutex
	columns map[columnName]*Column
	files   []File
	changes *json.Encoder
	failed  error
}

type columnName struct{ database, table, column string }

// Column counts what was changed in one column, and what was left.
type Column struct {
	Database string `json:"database"`
	Table    string `json:"table"`
	Column   string `json:"column"`
	// Values have changed, at Places in all.
	Values int64 `json:"values"`
	Places int64 `json:"places"`
	// Kept are values that name the old place and are identifiers, which stay.
	Kept int64 `json:"kept"`
	// Malformed, Encoded, Custom, Mail and Keys were left: see rewrite.Left.
	Malformed int64 `json:"malformed"`
	Encoded   int64 `json:"encoded"`
	Custom    int64 `json:"custom"`
	Mail      int64 `json:"mail"`
	Keys      int64 `json:"keys"`
	// TooLong are values that would not fit into the column any more, and stay.
	TooLong int64 `json:"too_long"`
	// Before and After are the beginning of the first place that was changed, or left.
	Before string `json:"before"`
	After  string `json:"after,omitempty"`
}

// Lost tells whether values name the old place that a person should look at.
func (c *Column) Lost() bool { return c.Malformed+c.Encoded+c.Custom+c.Keys+c.TooLong > 0 }

// File is a text in the site's folders that was changed, or a link.
type File struct {
	Path   string `json:"path"`
	Places int    `json:"places"`
	// Leads is what a link leads to now that led to the old place; empty for what is no link.
	Leads string `json:"leads"`
	// Link tells that it is none, but a link to one, and was left.
	Link bool `json:"link"`
	// Added tells that the move has written it.
	Added bool `json:"added"`
}

// Report is what a move has changed and left, by database, table and column.
type Report struct {
	Columns []*Column `json:"columns"`
	Files   []File    `json:"files"`
	// Rows are those that were changed for what they are.
	Rows []RowChange `json:"rows"`
	// Emptied are the tables that come without their rows.
	Emptied []Emptied `json:"emptied"`
	// Notes say what stays as it is, and what could not be done.
	Notes []Note `json:"notes"`
}

// Emptied is a table that comes without its rows, for the CMS makes them anew.
type Emptied struct {
	Database string `json:"database"`
	Table    string `json:"table"`
	Rows     int64  `json:"rows"`
}

// Note says for people what stays as it is, or could not be done. Host is a host name that
// stays, and could be given another one.
type Note struct {
	Text string `json:"text"`
	Host string `json:"host,omitempty"`
}

// Places is how many places were changed in the database.
func (r Report) Places() (n int64) {
	for _, c := range r.Columns {
		n += c.Places
	}
	return n
}

// Change is one value that changes, as it is written to Options.Changes.
type Change struct {
	Database string `json:"database"`
	Table    string `json:"table"`
	Column   string `json:"column"`
	Before   string `json:"before"`
	After    string `json:"after"`
}

// New plans a move. An archive that does not say where its site was cannot be moved; nor
// can one of a kind that is not known how to move.
func New(ctx context.Context, h *catalog.Held, to *site.Site, o Options) (*Plan, error) {
	if !h.Scope.HasFiles() || !h.Scope.HasDatabase() && len(h.Origin.Databases) > 0 {
		return nil, reason.New(reason.CannotMove, nil, "archive %s holds no whole site (its scope is %s)", h.Name, h.Scope)
	}
	if err := handMade(h, o); err != nil {
		return nil, err
	}
	if (h.Origin.Address == "" || to.Address == "") && len(o.Also) == 0 {
		return nil, reason.New(reason.CannotMove, nil, "archive %s does not say what the site's address was; say what becomes what", h.Name)
	}
	var pairs []rewrite.Pair
	if from := h.Origin.Roots[site.RootLabel]; from != "" {
		pairs = append(pairs, rewrite.Pair{Old: from, New: to.PathAt(to.Root)})
	}
	for label, from := range h.Origin.Roots {
		if now, ok := to.Roots[label]; ok && label != site.RootLabel {
			pairs = append(pairs, rewrite.Pair{Old: from, New: to.PathAt(now)})
		}
	}
	p := &Plan{archive: h, to: to, recipe: to.Recipe, keep: map[string]bool{}, columns: map[columnName]*Column{}, also: o.Also, from: h.Origin.Address, copy: o.Copy, newKeys: o.NewKeys,
		rules: map[tableName][]rowRule{}, domains: map[string]string{}, stays: map[string]bool{}, off: o.ExtensionsOff, seen: map[string]bool{}}
	more, err := p.known(ctx, o)
	if err != nil {
		return nil, err
	}
	pairs = append(pairs, more...)
	if p.from != "" && to.Address != "" {
		pairs = append(pairs, rewrite.Pair{Old: p.from, New: to.Address})
	}
	if p.rewrite, err = rewrite.New(rewrite.Options{Pairs: append(pairs, o.Also...), Mail: o.Mail}); err != nil {
		return nil, err
	}
	for _, name := range o.Keep {
		p.keep[name] = true
	}
	if o.Changes != nil {
		p.changes = json.NewEncoder(o.Changes)
	}
	return p, nil
}

// handMade refuses what cannot be done with a copy that was made by hand, whose tables are
// not known before it is loaded.
func handMade(h *catalog.Held, o Options) error {
	for label, origin := range h.Origin.Databases {
		switch {
		case !h.HasDump(label):
		case origin.Engine != "mysql":
			return reason.New(reason.CannotMove, nil, "archive %s was made by hand, and its %s database cannot be rewritten: restore it at the new place, take an archive there, and move that", h.Name, origin.Engine)
		case o.Prefix+o.SubSite != "":
			return reason.New(reason.CannotMove, nil, "archive %s was made by hand: its tables keep their names, and all of them come", h.Name)
		}
	}
	return nil
}

// Dumped tells whether the rows of a database are those of a copy that was made by hand,
// which are not counted before it is moved.
func (p *Plan) Dumped() bool {
	for label := range p.archive.Origin.Databases {
		if p.archive.HasDump(label) {
			return true
		}
	}
	return false
}

// known adds what the recipe knows, and returns further pairs.
func (p *Plan) known(ctx context.Context, o Options) (pairs []rewrite.Pair, err error) {
	own, ok := p.ownDatabase()
	if !ok {
		if len(o.ExtensionsOff) > 0 || o.Prefix+o.SubSite != "" {
			return nil, reason.BadUsage("which extensions are loaded, what begins the tables and which sites a network has is not known of this kind of site")
		}
		return nil, nil
	}
	p.own = own
	if err := p.rename(ctx, own, o.Prefix, o.SubSite != ""); err != nil {
		return nil, err
	}
	if o.SubSite != "" {
		pairs, err = p.single(ctx, own, o.SubSite)
	} else {
		pairs, err = p.network(ctx, own)
	}
	if err == nil && (p.prefix != "" || p.sub != nil) {
		err = p.distinct()
	}
	if err != nil {
		return nil, err
	}
	return pairs, p.ownRows(own, o)
}

// To is the site as it is to be.
func (p *Plan) To() *site.Site { return p.to }

// Moving is what a restore needs to know.
func (p *Plan) Moving() *restore.Moving {
	m := &restore.Moving{Rows: p.rows, Links: p.links, Staged: p.staged, Empty: p.empty}
	if p.prefix != "" || p.sub != nil {
		m.Table = p.table
	}
	return m
}

// Report returns what was changed and left so far.
func (p *Plan) Report() (Report, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	r := Report{Columns: slices.Collect(maps.Values(p.columns)), Files: p.files, Rows: p.changedRows(), Emptied: p.emptied(), Notes: slices.Concat(p.notes, p.unseen())}
	slices.SortFunc(r.Columns, func(a, b *Column) int {
		return cmp.Or(strings.Compare(a.Database, b.Database), strings.Compare(a.Table, b.Table), strings.Compare(a.Column, b.Column))
	})
	return r, p.failed
}

// rows returns who changes the rows of a database.
func (p *Plan) rows(label string, widths database.Widths) rowvalues.Changer {
	c := &changer{Plan: p, label: label, widths: widths, keep: maps.Clone(p.keep)}
	if label == p.own.label && p.recipe != nil {
		for _, name := range p.recipe.Move.Keep {
			table, column, _ := strings.Cut(name, ".")
			for _, one := range p.each(p.own, table) {
				c.keep[one+"."+column] = true
			}
		}
	}
	return c
}

// changer changes the rows of one database.
type changer struct {
	*Plan
	label  string
	keep   map[string]bool
	widths database.Widths
}

// Mentions implements rowvalues.Changer.
func (c *changer) Mentions(v []byte) bool { return c.rewrite.Mentions(v) }

// Value implements rowvalues.Changer.
func (c *changer) Value(table, column string, v []byte) []byte {
	out, n, left := c.rewrite.Value(v)
	if n == 0 && !left.Any() {
		return v
	}
	kept := c.keep[table+"."+column]
	c.mu.Lock()
	defer c.mu.Unlock()
	count := c.column(table, column)
	if kept {
		count.Kept++
		return v
	}
	if w := c.widths[table][column]; w.Bytes > 0 && (int64(len(out)) > w.Bytes || w.Characters > 0 && int64(utf8.RuneCount(out)) > w.Characters) {
		count.TooLong++
		return v
	}
	if n > 0 {
		count.Values++
		count.Places += int64(n)
	}
	count.Malformed += int64(left.Malformed)
	count.Encoded += int64(left.Encoded)
	count.Custom += int64(left.Custom)
	count.Mail += int64(left.Mail)
	count.Keys += int64(left.Keys)
	if count.Before == "" || n > 0 && count.After == "" {
		count.Before, count.After = excerpt(v, out)
	}
	if n > 0 {
		c.writeDown(table, column, v, out)
	}
	return out
}

// writeDown writes a value that changes to Options.Changes, if that is wanted. The caller
// holds mu.
func (c *changer) writeDown(table, column string, before, after []byte) {
	if c.changes != nil && c.failed == nil {
		c.failed = c.changes.Encode(Change{c.label, table, column, string(before), string(after)})
	}
}

// column is the count for one column. The caller holds mu.
func (c *changer) column(table, column string) *Column {
	name := columnName{c.label, table, column}
	if c.columns[name] == nil {
		c.columns[name] = &Column{Database: c.label, Table: table, Column: column}
	}
	return c.columns[name]
}

// excerptBefore and excerptLength bound what is shown of a value.
const excerptBefore, excerptLength = 30, 70

// excerpt is the place where two values begin to differ; after is empty where they do not.
func excerpt(before, after []byte) (was, is string) {
	cut := func(v []byte, from int) string {
		return string(v[from:min(len(v), from+excerptLength)])
	}
	if string(before) == string(after) {
		return cut(before, 0), ""
	}
	at := 0
	for at < len(before) && at < len(after) && before[at] == after[at] {
		at++
	}
	from := max(0, at-excerptBefore)
	return cut(before, from), cut(after, from)
}

// Count goes through the archive's rows as a move does, and writes nothing.
func (p *Plan) Count(ctx context.Context, pace func(int64)) error {
	ix, err := p.archive.ReadDatabaseIndex(ctx)
	if err != nil {
		return err
	}
	for _, part := range p.archive.Parts {
		if part.Kind != archive.KindRows {
			continue
		}
		if _, comes := p.table(part.Database, part.Table); !comes || p.empty(part.Database, part.Table) {
			continue
		}
		engine := p.archive.Origin.Databases[part.Database].Engine
		err := p.archive.EachStore(func(s store.Named) error {
			in, err := p.archive.OpenPart(ctx, s, part, pace)
			if err != nil {
				return err
			}
			defer in.Close()
			return ix.CheckSQL(in, part, func(content io.Reader) error {
				r, err := rowvalues.NewReader(engine, content, p.rows(part.Database, nil))
				if err == nil {
					_, err = io.Copy(io.Discard, r)
				}
				return err
			})
		})
		if err != nil {
			return fmt.Errorf("table %s: %w", part.Table, err)
		}
	}
	return nil
}
