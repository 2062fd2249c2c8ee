// Package rowrestore puts some rows of an archive into live tables: it picks them out
// of what is staged, with the rows that belong to them, makes sure that they fit,
// and exchanges them in one transaction that can be taken back. It speaks the SQL
// that makes of databases have in common; Make is what differs.
package rowrestore

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"revlet/internal/database"
	"revlet/internal/platform/reason"
)

// Make is a session with a database of some make.
type Make interface {
	Exec(ctx context.Context, query string) (rows int64, err error)
	// Texts gives a query's answer as text.
	Texts(ctx context.Context, query string) ([][]string, error)

	// Live, Staged and Kept write a table's complete name: live, staged, or in
	// the place for what is set aside.
	Live(table string) string
	Staged(table string) string
	Kept(table string) string
	Quote(name string) string
	Literal(value string) string
	// Text is the SQL for an expression's text.
	Text(expr string) string

	// Columns are those of a live or staged table that take values; nil when
	// there is no such table.
	Columns(ctx context.Context, staged bool, table string) ([]string, error)
	// Key is a live table's primary key, or a staged one's.
	Key(ctx context.Context, staged bool, table string) ([]string, error)
	// UniqueKeys are the columns of a live table's unique indexes but for the primary
	// key; those over expressions or parts of values are left out.
	UniqueKeys(ctx context.Context, table string) ([][]string, error)
	// ForeignKeys are those of live tables.
	ForeignKeys(ctx context.Context) ([]ForeignKey, error)
	// Triggers tells whether a live table has some.
	Triggers(ctx context.Context, table string) (bool, error)
	// CanCreate tells why a live table that is gone cannot be made; Create makes
	// one like the staged one.
	CanCreate() error
	Create(ctx context.Context, table string) error
	// Types are the names and types of columns of a live or staged table.
	Types(ctx context.Context, staged bool, table string) ([][]string, error)
	// Misfit tells whether an error is about a value that a column does not take,
	// Uncompared whether it is about values that the server does not compare.
	Misfit(err error) bool
	Uncompared(err error) bool
	// KeptTable makes a table in the place for what is set aside, empty, with
	// columns as another one has them; it gives its statement.
	KeptTable(name, like string, columns []string) string
	// KeptIndex gives the statement that makes an index on one.
	KeptIndex(name string, columns []string) string
	// Begin begins a transaction in which nobody else changes the live tables'
	// rows between a look at them and their exchange.
	Begin(ctx context.Context, tables []string) error
	// Atomic tells whether everything in a transaction happens or nothing does.
	Atomic(ctx context.Context, tables []string) (bool, error)
	// Remove are the statements that take the rows in the table out, told by
	// their key, out of a live table, and make room for those in the table in.
	Remove(m database.RowMove, out, in string) []string
	// RemoveLike is the statement that takes rows out of a live table that have the
	// values of columns of a row in the table in, and are not under its key.
	RemoveLike(m database.RowMove, columns []string, in string) string
	// Put is the statement that puts the rows in the table in into a live one.
	Put(m database.RowMove, in string) string
}

// Session is a connection of package database/sql, as a Make needs it.
type Session struct{ *sql.Conn }

// Exec implements Make.
func (s Session) Exec(ctx context.Context, query string) (rows int64, err error) {
	res, err := s.ExecContext(ctx, query)
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// Texts implements Make.
func (s Session) Texts(ctx context.Context, query string) ([][]string, error) {
	rows, err := s.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	return database.Texts(rows)
}

// Insert is the statement that puts the rows of one table into a live one.
func Insert(m Make, move database.RowMove, from, overriding string) string {
	columns := List(m, "", move.Columns)
	return fmt.Sprintf("INSERT INTO %s (%s)%s SELECT %s FROM %s", m.Live(move.Table), columns, overriding, columns, from)
}

// ForeignKey is one constraint between live tables.
type ForeignKey struct {
	Child, Parent               string
	ChildColumns, ParentColumns []string
}

// GroupKeys makes foreign keys of their columns: child, name of the constraint,
// column, parent, column there, ordered by child and name.
func GroupKeys(columns [][]string) []ForeignKey {
	var all []ForeignKey
	before := [2]string{}
	for _, c := range columns {
		if at := [2]string{c[0], c[1]}; at != before || len(all) == 0 {
			before = at
			all = append(all, ForeignKey{Child: c[0], Parent: c[3]})
		}
		k := &all[len(all)-1]
		k.ChildColumns = append(k.ChildColumns, c[2])
		k.ParentColumns = append(k.ParentColumns, c[4])
	}
	return all
}

// mark is the kept table whose rows tell how far an exchange has come.
const mark = "done"

// The rows of mark.
const (
	saved = "1" // the rows that go are set aside
	put   = "2" // those that come are in
)

// ErrNoRow is wrapped when an archive lacks a row that was asked for.
var ErrNoRow = errors.New("no such row")

type selection struct {
	Make
	share database.RowSelection
	moves map[string]*database.RowMove
	order []string
	keys  []ForeignKey
	// picked are the tables of which rows were picked already.
	picked map[string]bool
}

// Select picks the rows of a share, out of the tables that are staged for it, and
// completes the plan.
func Select(ctx context.Context, m Make, p *database.Plan, s database.RowSelection) error {
	sel := &selection{Make: m, share: s, moves: map[string]*database.RowMove{}, picked: map[string]bool{}}
	var err error
	if sel.keys, err = m.ForeignKeys(ctx); err != nil {
		return fmt.Errorf("read the foreign keys: %w", err)
	}
	if _, err := m.Exec(ctx, m.KeptTable(mark, "(SELECT 1 AS step) m", []string{"step"})); err != nil {
		return fmt.Errorf("make room for what is set aside: %w", err)
	}
	for i, table := range p.Rows.Staged {
		if err := sel.open(ctx, table, i); err != nil {
			return err
		}
	}
	if err := sel.pick(ctx); err != nil {
		return err
	}
	if err := sel.fits(ctx); err != nil {
		return err
	}
	for _, table := range sel.parentsFirst() {
		move := sel.moves[table]
		if move.Put, err = sel.count(ctx, "SELECT COUNT(*) FROM "+m.Kept(move.Picked)); err != nil {
			return err
		}
		if move.Put > 0 || len(move.Goes) > 0 {
			p.Rows.Moves = append(p.Rows.Moves, *move)
		}
	}
	return nil
}

// open gets a table ready: it compares both sides and makes the tables for the
// rows that come and go.
func (s *selection) open(ctx context.Context, table string, n int) error {
	m := &database.RowMove{Table: table, Picked: "in_" + strconv.Itoa(n), Aside: "out_" + strconv.Itoa(n)}
	var err error
	if m.Columns, err = s.Columns(ctx, true, table); err != nil {
		return fmt.Errorf("table %s: %w", table, err)
	}
	if len(m.Columns) == 0 {
		return fmt.Errorf("table %s is not an ordinary table: it comes back with the whole database only", table)
	}
	live, err := s.Columns(ctx, false, table)
	if err != nil {
		return fmt.Errorf("table %s: %w", table, err)
	}
	if m.Made = len(live) == 0; m.Made {
		if err := s.CanCreate(); err != nil {
			return fmt.Errorf("table %s: %w", table, err)
		}
	}
	for _, c := range m.Columns {
		if !m.Made && !slices.Contains(live, c) {
			return reason.New(reason.ColumnGone, reason.Names{"table": table}, "table %s has no column %s now: an update has changed it since", table, c)
		}
	}
	if m.Key, err = s.Key(ctx, m.Made, table); err != nil {
		return fmt.Errorf("table %s: %w", table, err)
	}
	if len(m.Key) == 0 && !(slices.Contains(s.share.Tables, table) && !s.share.Fill) {
		return reason.New(reason.NoPrimaryKey, reason.Names{"table": table}, "table %s has no primary key, so that its rows cannot be told apart", table)
	}
	s.moves[table] = m
	s.order = append(s.order, table)
	if m.Made {
		return s.makeRoom(ctx, m, s.Staged(table), m.Columns)
	}
	if m.Triggers, err = s.Triggers(ctx, table); err != nil {
		return fmt.Errorf("table %s: %w", table, err)
	}
	return s.makeRoom(ctx, m, s.Live(table), live)
}

// makeRoom makes the tables for the rows that come and for those that go.
func (s *selection) makeRoom(ctx context.Context, m *database.RowMove, like string, columns []string) error {
	for _, q := range []string{s.KeptTable(m.Picked, s.Staged(m.Table), m.Columns), s.KeptTable(m.Aside, like, columns)} {
		if _, err := s.Exec(ctx, q); err != nil {
			return fmt.Errorf("table %s: make room for its rows: %w", m.Table, err)
		}
	}
	if len(m.Key) > 0 {
		for _, name := range []string{m.Picked, m.Aside} {
			_, _ = s.Exec(ctx, s.KeptIndex(name, m.Key)) // for speed: a key of prefixes, say, goes without
		}
	}
	return nil
}

// pick fills the tables of rows that come, and notes which live rows go.
func (s *selection) pick(ctx context.Context) error {
	for _, table := range s.share.Tables {
		m, ok := s.moves[table]
		if !ok {
			return fmt.Errorf("the archive has no table %s", table)
		}
		if _, err := s.take(ctx, m, "", s.share.Fill); err != nil {
			return err
		}
		if !s.share.Fill {
			m.Goes = []string{"1 = 1"}
		}
	}
	for _, r := range s.share.Rows {
		if err := s.pickNamed(ctx, r); err != nil {
			return err
		}
	}
	// What belongs to a row may have rows of its own: until no more come.
	for more := len(s.share.Rows) > 0; more; {
		more = false
		for _, r := range s.share.Relations {
			n, err := s.pickRelated(ctx, r)
			if err != nil {
				return err
			}
			more = more || n > 0
		}
	}
	return nil
}

func (s *selection) pickNamed(ctx context.Context, r database.RowPick) error {
	m, ok := s.moves[r.Table]
	if !ok {
		return fmt.Errorf("the archive has no table %s", r.Table)
	}
	if !slices.Contains(m.Columns, r.Column) {
		return fmt.Errorf("table %s has no column %q; its columns are %s", r.Table, r.Column, strings.Join(m.Columns, ", "))
	}
	is := s.Text("s."+s.Quote(r.Column)) + " = " + s.Literal(r.Value)
	found, err := s.count(ctx, "SELECT COUNT(*) FROM "+s.Staged(r.Table)+" s WHERE "+is)
	if err != nil {
		return err
	}
	if found == 0 {
		return fmt.Errorf("the archive has %w of %s where %s is %q", ErrNoRow, r.Table, r.Column, r.Value)
	}
	if _, err := s.take(ctx, m, is, s.share.Fill); err != nil {
		return err
	}
	if !s.share.Fill {
		column := s.Quote(r.Column)
		m.Goes = append(m.Goes, fmt.Sprintf("l.%s IN (SELECT p.%s FROM %s p WHERE %s = %s)", column, column, s.Kept(m.Picked), s.Text("p."+column), s.Literal(r.Value)))
	}
	return nil
}

// pickRelated picks what belongs to the rows that are picked already.
func (s *selection) pickRelated(ctx context.Context, r database.Relation) (int64, error) {
	from, m := s.moves[r.From], s.moves[r.Table]
	if r.Parent || from == nil || m == nil || !slices.Contains(m.Columns, r.Column) || !slices.Contains(from.Columns, r.FromColumn) {
		return 0, nil
	}
	where := func(alias string) string {
		// DISTINCT keeps MySQL from reading the very table that is written to.
		of := s.Quote(r.FromColumn)
		w := fmt.Sprintf("%s.%s IN (SELECT f.%s FROM (SELECT DISTINCT %s FROM %s) f)", alias, s.Quote(r.Column), of, of, s.Kept(from.Picked))
		if r.Where != "" {
			w += fmt.Sprintf(" AND %s.%s = %s", alias, s.Quote(r.Where), s.Literal(r.Is))
		}
		return w
	}
	keep := r.Keep || s.share.Fill
	if keep && !s.share.Anyway {
		if err := s.sameOwner(ctx, m, r.Column, where("s")); err != nil {
			return 0, err
		}
	}
	n, err := s.take(ctx, m, where("s"), keep)
	if !keep && !slices.Contains(m.Goes, where("l")) {
		m.Goes = append(m.Goes, where("l"))
	}
	return n, err
}

// sameOwner makes sure that a live row which has the key of one that belongs to the
// picked rows belongs to them too: otherwise the archive's would be left out without
// a word, for it seems to be there.
func (s *selection) sameOwner(ctx context.Context, m *database.RowMove, column, where string) error {
	if m.Made || len(m.Key) == 0 {
		return nil
	}
	of := func(alias string) string { return "COALESCE(" + s.Text(alias+"."+s.Quote(column)) + ", '')" }
	q := fmt.Sprintf("SELECT %s FROM %s s JOIN %s l ON %s WHERE %s AND %s <> %s", s.Text("s."+s.Quote(m.Key[0])), s.Staged(m.Table), s.Live(m.Table), s.same("s", "l", m.Key), where, of("s"), of("l"))
	taken, err := s.Texts(ctx, q)
	if err != nil {
		return fmt.Errorf("compare what belongs to the rows of %s: %w", m.Table, err)
	}
	return s.keysTaken(m, taken)
}

// keysTaken is the error about rows whose keys belong to others; nil without any.
func (s *selection) keysTaken(m *database.RowMove, taken [][]string) error {
	if len(taken) == 0 {
		return nil
	}
	return reason.New(reason.KeysTaken, reason.Names{"table": m.Table}, "%d rows of %s cannot come back: their keys (%s = %s) belong to other rows now", len(taken), m.Table, m.Key[0], some(taken))
}

// take picks the staged rows, named s, for which a condition holds; only those
// that are missing from the live table if missing is set.
func (s *selection) take(ctx context.Context, m *database.RowMove, where string, missing bool) (int64, error) {
	var and []string
	if where != "" {
		and = append(and, where)
	}
	from := s.Staged(m.Table) + " s"
	if s.picked[m.Table] && len(m.Key) > 0 {
		from += " LEFT JOIN (SELECT DISTINCT " + s.list("", m.Key) + " FROM " + s.Kept(m.Picked) + ") o ON " + s.same("o", "s", m.Key)
		and = append(and, "o."+s.Quote(m.Key[0])+" IS NULL")
	}
	if missing && !m.Made {
		and = append(and, "NOT EXISTS (SELECT 1 FROM "+s.Live(m.Table)+" l WHERE "+s.same("l", "s", m.Key)+")")
	}
	s.picked[m.Table] = true
	q := fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s", s.Kept(m.Picked), s.list("", m.Columns), s.list("s.", m.Columns), from)
	if len(and) > 0 {
		q += " WHERE " + strings.Join(and, " AND ")
	}
	n, err := s.Exec(ctx, q)
	if err != nil {
		return 0, fmt.Errorf("pick rows of %s: %w", m.Table, err)
	}
	return n, nil
}

// same is the condition that two rows have the same values in some columns.
func (s *selection) same(a, b string, columns []string) string { return Same(s.Make, a, b, columns) }

// Same is the condition that rows of two aliases have the same values in some
// columns.
func Same(m interface{ Quote(string) string }, a, b string, columns []string) string {
	return same(m, a, b, columns, columns)
}

func same(m interface{ Quote(string) string }, a, b string, of, and []string) string {
	var all []string
	for i := range of {
		all = append(all, fmt.Sprintf("%s.%s = %s.%s", a, m.Quote(of[i]), b, m.Quote(and[i])))
	}
	return strings.Join(all, " AND ")
}

func (s *selection) list(alias string, columns []string) string { return List(s.Make, alias, columns) }

// List writes columns, quoted and separated by commas, each after an alias.
func List(m interface{ Quote(string) string }, alias string, columns []string) string {
	var all []string
	for _, c := range columns {
		all = append(all, alias+m.Quote(c))
	}
	return strings.Join(all, ", ")
}

func (s *selection) count(ctx context.Context, query string) (int64, error) {
	return count(ctx, s.Make, query)
}

func count(ctx context.Context, m Make, query string) (int64, error) {
	got, err := m.Texts(ctx, query)
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(got[0][0], 10, 64)
}

// fits makes sure that rows do not take the place of others, and that what they
// refer to is there.
func (s *selection) fits(ctx context.Context) error {
	for _, table := range s.order {
		if err := s.placeFree(ctx, s.moves[table]); err != nil {
			return err
		}
		if err := s.columnsFit(ctx, s.moves[table]); err != nil {
			return err
		}
	}
	for _, k := range s.keys {
		if err := s.parentsThere(ctx, k, false); err != nil {
			return err
		}
	}
	for _, r := range s.share.Relations {
		if !r.Parent || s.share.Anyway {
			continue
		}
		k := ForeignKey{Child: r.From, ChildColumns: []string{r.FromColumn}, Parent: r.Table, ParentColumns: []string{r.Column}}
		if err := s.parentsThere(ctx, k, true); err != nil {
			return err
		}
	}
	return nil
}

// columnsFit makes sure that live columns take what comes as it is, where an update has changed them since: a server may cut a text to
// the length of its column, or round a number, without an error.
func (s *selection) columnsFit(ctx context.Context, m *database.RowMove) error {
	if m.Made {
		return nil
	}
	then, err := s.Types(ctx, true, m.Table)
	if err != nil {
		return fmt.Errorf("table %s: %w", m.Table, err)
	}
	now, err := s.Types(ctx, false, m.Table)
	if err != nil {
		return fmt.Errorf("table %s: %w", m.Table, err)
	}
	var others []string
	for _, c := range then {
		if slices.Contains(m.Columns, c[0]) && !slices.ContainsFunc(now, func(l []string) bool { return slices.Equal(l, c) }) {
			others = append(others, c[0])
		}
	}
	if len(others) == 0 {
		return nil
	}
	if err := s.tryColumns(ctx, m, others); err != nil {
		return fmt.Errorf("table %s, whose columns have changed since (%s): %w", m.Table, strings.Join(others, ", "), err)
	}
	return nil
}

// tryColumns puts what comes into a table with the live one's columns, and compares those that are of another type.
func (s *selection) tryColumns(ctx context.Context, m *database.RowMove, others []string) (err error) {
	misfit := func(format string, args ...any) error {
		return reason.New(reason.RowsDoNotFit, reason.Names{"table": m.Table}, format, args...)
	}
	try, come := s.Kept("try"), s.Kept(m.Picked)
	if _, err := s.Exec(ctx, s.KeptTable("try", s.Live(m.Table), m.Columns)); err != nil {
		return err
	}
	defer func() {
		if _, drop := s.Exec(ctx, "DROP TABLE "+try); err == nil {
			err = drop
		}
	}()
	columns := s.list("", m.Columns)
	_, err = s.Exec(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s", try, columns, columns, come))
	switch {
	case err != nil && s.Misfit(err):
		return misfit("rows of the archive do not fit: %w", err)
	case err != nil:
		return err
	}
	for _, c := range others {
		changed, err := s.Texts(ctx, fmt.Sprintf("SELECT %s FROM (SELECT %s AS c FROM %s EXCEPT SELECT %s FROM %s) x LIMIT 1", s.Text("c"), s.Quote(c), come, s.Quote(c), try))
		switch {
		case err != nil && s.Uncompared(err):
		case err != nil:
			return err
		case len(changed) > 0:
			return misfit("rows of the archive do not fit: %.60q would not stay as it is in column %s", changed[0][0], c)
		}
	}
	return nil
}

// placeFree makes sure that no other row has got a picked row's key since.
func (s *selection) placeFree(ctx context.Context, m *database.RowMove) error {
	if m.Made || len(m.Key) == 0 {
		return nil
	}
	other := ""
	if len(m.Goes) > 0 {
		other = " WHERE NOT (" + strings.Join(m.Goes, " OR ") + ")"
	}
	q := fmt.Sprintf("SELECT %s FROM %s p JOIN %s l ON %s%s", s.Text("p."+s.Quote(m.Key[0])), s.Kept(m.Picked), s.Live(m.Table), s.same("p", "l", m.Key), other)
	taken, err := s.Texts(ctx, q)
	if err != nil {
		return fmt.Errorf("compare the keys of %s: %w", m.Table, err)
	}
	return s.keysTaken(m, taken)
}

// parentsThere makes sure that what picked rows refer to is live, or comes with
// them.
func (s *selection) parentsThere(ctx context.Context, k ForeignKey, zero bool) error {
	m := s.moves[k.Child]
	if m == nil || !slices.Contains(m.Columns, k.ChildColumns[0]) {
		return nil
	}
	there, err := s.Columns(ctx, false, k.Parent)
	if err != nil {
		return err
	}
	first := "c." + s.Quote(k.ChildColumns[0])
	and := []string{first + " IS NOT NULL"}
	if zero {
		and = append(and, s.Text(first)+" NOT IN ('0', '')")
	}
	parent := s.moves[k.Parent]
	if len(there) > 0 {
		gone := ""
		if parent != nil && slices.Contains(parent.Goes, "1 = 1") {
			gone = " AND 1 = 0"
		}
		and = append(and, "NOT EXISTS (SELECT 1 FROM "+s.Live(k.Parent)+" p WHERE "+same(s.Make, "p", "c", k.ParentColumns, k.ChildColumns)+gone+")")
	}
	if parent != nil {
		and = append(and, "NOT EXISTS (SELECT 1 FROM "+s.Kept(parent.Picked)+" p WHERE "+same(s.Make, "p", "c", k.ParentColumns, k.ChildColumns)+")")
	}
	missing, err := s.Texts(ctx, fmt.Sprintf("SELECT DISTINCT %s FROM %s c WHERE %s", s.Text(first), s.Kept(m.Picked), strings.Join(and, " AND ")))
	if err != nil {
		return fmt.Errorf("look for what rows of %s refer to: %w", k.Child, err)
	}
	if len(missing) > 0 {
		why := reason.ParentsRequired
		if zero {
			why = reason.ParentsGone
		}
		return reason.New(why, reason.Names{"table": k.Parent, "column": k.ParentColumns[0], "value": missing[0][0]},
			"rows of %s refer by %s to rows of %s that are gone (%s)", k.Child, k.ChildColumns[0], k.Parent, some(missing))
	}
	return nil
}

// some names the first few values.
func some(values [][]string) string {
	var all []string
	for i, v := range values {
		if i == 3 {
			return strings.Join(all, ", ") + " and others"
		}
		all = append(all, v[0])
	}
	return strings.Join(all, ", ")
}

// parentsFirst orders the tables by their foreign keys.
func (s *selection) parentsFirst() []string {
	var out []string
	var place func(table string, depth int)
	place = func(table string, depth int) {
		if slices.Contains(out, table) || depth > len(s.order) {
			return
		}
		for _, k := range s.keys {
			if k.Child == table && k.Parent != table && s.moves[k.Parent] != nil {
				place(k.Parent, depth+1)
			}
		}
		if !slices.Contains(out, table) {
			out = append(out, table)
		}
	}
	for _, table := range s.order {
		place(table, 0)
	}
	return out
}
