// Package database is how Revlet saves and puts back a database, whatever its
// make: as SQL text in units that become parts, and by staging tables beside
// the live ones.
package database

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"strings"

	"revlet/internal/platform/reason"
)

// Info describes a database and its server.
type Info struct {
	Engine    string
	Version   string
	Name      string
	Charset   string
	Collation string
	// Bytes is the server's own estimate of the data's size.
	Bytes int64
}

// AsideNames describes the names of tables set aside in the live database.
const AsideNames = "rv_old_…"

// The kinds of units; a database is loaded in this order.
const (
	Schema  = "schema"  // tables without rows
	Rows    = "rows"    // rows of one table, or of a slice of it
	Objects = "objects" // views, triggers, routines, events, indexes
)

// Unit is a share of a dump that becomes one part.
type Unit struct {
	Kind  string
	Table string
	// Slice counts the slices of a table from 1.
	Slice int
	// Bytes estimates the size.
	Bytes int64
}

// TableInfo is one table as the server describes it.
type TableInfo struct {
	Name  string
	Bytes int64
	// Plain is set when the table's engine has no transactions.
	Plain bool
}

// Widths are how long values may be, by table and column; a column that is not named has
// no limit that a value could meet.
type Widths map[string]map[string]Width

// Width is a column's limit, in characters of UTF-8 and in bytes; 0 is none.
type Width struct{ Characters, Bytes int64 }

// TableGap begins Gap.Object of a table that is not saved at all.
const TableGap = "table "

// Gap is an object of a database that could not be read.
type Gap struct{ Object, Why string }

// WriteDefinitions writes a unit that is not of rows: the text for its kind.
func WriteDefinitions(u Unit, schema, objects string, w io.Writer) error {
	text := schema
	if u.Kind == Objects {
		text = objects
	}
	_, err := io.WriteString(w, text)
	return err
}

// Source is a database that can be dumped.
type Source interface {
	Info() Info
	// Lookup returns one value: column of the row of table where a column is a
	// value. The table's name is complete, prefix included.
	Lookup(ctx context.Context, table, column, where, is string) (string, error)
	// Tables lists the tables there are.
	Tables(ctx context.Context) ([]TableInfo, error)
	// Snapshot begins a dump as of now.
	Snapshot(ctx context.Context) (Snapshot, error)
	Close() error
}

// Snapshot is a database as of one moment.
type Snapshot interface {
	// Units lists what there is to dump: schema first, objects last.
	Units() []Unit
	// Lanes is how many units may be dumped at a time.
	Lanes() int
	// Dump writes a unit as SQL text and returns how many rows it held.
	Dump(ctx context.Context, u Unit, w io.Writer) (rows int64, err error)
	// Consistency says in words how the dump is kept to one moment.
	Consistency() string
	// Sequences names the sequences that the schema unit defines.
	Sequences() []string
	// Gaps are what the account may not read.
	Gaps() []Gap
	// Neighbours names tables of other sites in the same database; they are
	// not in Units.
	Neighbours() []string
	Close() error
}

// Texts collects a query's answer as text; NULL is empty.
func Texts(rows *sql.Rows) ([][]string, error) {
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	var all [][]string
	for rows.Next() {
		values, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		row := make([]string, len(columns))
		for i, v := range values {
			row[i] = v.String
		}
		all = append(all, row)
	}
	return all, rows.Err()
}

// Plan is one database's share of a restore. It is written to the journal and
// is all that is needed to finish or revert the work in another process.
type Plan struct {
	ID     string `json:"id"`
	Label  string `json:"label"`
	Engine string `json:"engine"`
	// Live is the database's name, or its file.
	Live string `json:"live"`
	// Stage and Aside are the places for what is loaded and what is replaced:
	// databases for mysql, files for sqlite.
	Stage string `json:"stage"`
	Aside string `json:"aside"`
	// From names the database that is meant in a dump of several; empty for the
	// only one, or the one that is called as the live one is.
	From string `json:"from,omitempty"`
	// Stay are tables and views that the archive never held: they are left as they are, as
	// far as the server can.
	Stay []string `json:"stay,omitempty"`
	// Brought is what a restore has put into the live schema, for postgres: what is there
	// beside it was made since.
	Brought []string `json:"brought,omitempty"`
	// Vacant tells, for postgres and sqlite, that nothing was replaced: Aside is empty.
	Vacant bool `json:"vacant,omitempty"`
	// Replaced is what has gone aside, for postgres; Coming are the tables that are staged.
	Replaced []string `json:"replaced,omitempty"`
	Coming   []string `json:"coming,omitempty"`
	// Renamed are tables of the archive that get another name, for mysql; Partial tells that
	// not all of its tables come.
	Renamed map[string]string `json:"renamed,omitempty"`
	Partial bool              `json:"partial,omitempty"`
	// Tables are the tables that come or go, for mysql.
	Tables []TableMove `json:"tables,omitempty"`
	// Views are the live views, which go aside under other names.
	Views []TableMove `json:"views,omitempty"`
	// NewObjects are the views, triggers and routines of the archive, OldObjects
	// the triggers and routines of the live database, as SQL text.
	NewObjects string `json:"new_objects,omitempty"`
	OldObjects string `json:"old_objects,omitempty"`
	// NewKeys and OldKeys are the foreign keys of both, where they have to be
	// added once the tables bear their right names.
	// Large names tables whose plain keys are better made once their rows are
	// in; LateKeys are those keys.
	Large    []string  `json:"large,omitempty"`
	LateKeys []LateKey `json:"late_keys,omitempty"`
	// Misfits takes values of SQL that another program has written as the server changes
	// them, where they do not fit their columns; such SQL is refused otherwise.
	Misfits bool `json:"-"`
	// Notes are what a person should know about how the archive was loaded.
	Notes   []string     `json:"notes,omitempty"`
	NewKeys []ForeignKey `json:"new_keys,omitempty"`
	OldKeys []ForeignKey `json:"old_keys,omitempty"`
	// Rows is set when only some tables or rows are put back: they are then put
	// into the live tables in one transaction, and Aside holds the rows that went.
	Rows *RowPlan `json:"share,omitempty"`
}

// AsideOf tells which table a name in the aside place stands for.
func (p *Plan) AsideOf(name string) string {
	for _, m := range p.Tables {
		if m.Aside == name {
			return m.Name
		}
	}
	if p.Rows != nil {
		for _, m := range p.Rows.Moves {
			if strings.HasSuffix(name, "_"+m.Aside) || name == m.Aside {
				return m.Table
			}
		}
	}
	return name
}

// LateKey is what is added to a staged table after its rows.
type LateKey struct {
	// Table is the staged table's name; Add are clauses of ALTER TABLE.
	Table string `json:"table"`
	Add   string `json:"add"`
}

// ForeignKey is one constraint as SHOW CREATE TABLE gives it.
type ForeignKey struct {
	Table      string `json:"table"`
	Name       string `json:"name"`
	Definition string `json:"definition"`
}

// TableMove is one table of a Plan.
type TableMove struct {
	Name string `json:"name"`
	// From is its name in the archive, where that is another.
	From string `json:"from,omitempty"`
	// Staged is its name in the staging place; empty when the archive lacks it.
	Staged string `json:"staged,omitempty"`
	// Aside is the name the replaced one gets; empty when there was none.
	Aside string `json:"aside,omitempty"`
}

// CheckVersion refuses to load what a newer major version of the same make has
// written, before anything changes.
func CheckVersion(archived, here string) error {
	var from, to int
	_, err1 := fmt.Sscanf(archived, "%d", &from)
	_, err2 := fmt.Sscanf(here, "%d", &to)
	sameMake := strings.Contains(archived, "MariaDB") == strings.Contains(here, "MariaDB")
	if err1 == nil && err2 == nil && sameMake && from > to {
		return reason.New(reason.OlderServer, nil, "the archive comes from server version %s, this server is older (%s)", archived, here)
	}
	return nil
}

// Target is a database that can be put back. Every method but Load can be
// called again after a crash and then does what is still to do.
type Target interface {
	// Plan names the places a restore will use, without making them, so that
	// they can be journalled first.
	Plan(id string) *Plan
	// Prepare checks rights, makes the staging place for the given tables and
	// completes the plan. Nothing live changes.
	Prepare(ctx context.Context, p *Plan, tables []string) error
	// Load runs one unit's SQL text in the staging place and returns how many
	// rows came. It refuses any statement that Revlet does not write itself.
	Load(ctx context.Context, p *Plan, u Unit, r io.Reader) (rows int64, err error)
	// Lanes is how many units of kind Rows may be loaded at a time.
	Lanes() int
	// Info describes the server that is restored to.
	Info() Info
	// Select picks, out of what is staged, the rows of a share and makes sure
	// that they fit into the live tables. It completes the plan's share; nothing
	// live changes. It is called once, after Load, for plans with a Share.
	Select(ctx context.Context, p *Plan, s RowSelection) error
	// StageThere looks whether all is there that a first Swap puts live; the error wraps ErrStageGone where it is known
	// that it is not. Nothing is changed. Swap itself takes what is not there for what it has put live before.
	StageThere(ctx context.Context, p *Plan) error
	// Free refuses to begin an exchange, Swap or Revert, for which tables would have to be waited for that somebody else has in
	// use (reason.TablesInUse). It locks the live tables for a moment, so it is for what follows at once, and no mere look.
	Free(ctx context.Context, p *Plan) error
	// Swap puts the staged tables live and the live ones aside.
	Swap(ctx context.Context, p *Plan) error
	// Revert takes a swap back, wholly or as far as it went.
	Revert(ctx context.Context, p *Plan) error
	// AsideThere looks whether all is there still that Revert puts back after a whole swap, and what it puts rows
	// back into; the error wraps ErrAsideGone where it is known that it is not. Nothing is changed.
	AsideThere(ctx context.Context, p *Plan) error
	// DropStage deletes what is staged; DropAside what was set aside.
	DropStage(ctx context.Context, p *Plan) error
	DropAside(ctx context.Context, p *Plan) error
	// Edit changes rows of the live tables, all of the edits or none.
	Edit(ctx context.Context, edits ...Edit) error
	// AsideSource opens what was set aside for reading; nil where that is a file.
	AsideSource(ctx context.Context, p *Plan) (Source, error)
	Close() error
}

// Archived is the table's name in the archive.
func (m TableMove) Archived() string { return cmp.Or(m.From, m.Name) }

// ErrAsideGone is wrapped when something that was set aside is not there any more, ErrStageGone when something is not that
// was to be put live.
var (
	ErrAsideGone = errors.New("what was set aside is not all there any more")
	ErrStageGone = errors.New("what was made ready is not all there any more; who else works there?")
)

// Gone is nil, or an error that wraps err and says what is gone from where.
func Gone(err error, what []string, from string) error {
	const named = 5
	switch {
	case len(what) == 0:
		return nil
	case len(what) > named:
		return fmt.Errorf("%w: gone from %s: %s and %d more", err, from, strings.Join(what[:named], ", "), len(what)-named)
	}
	return fmt.Errorf("%w: gone from %s: %s", err, from, strings.Join(what, ", "))
}

// ErrChanged is wrapped when a table was altered or dropped between the moment
// of a snapshot and its being read: a new snapshot is needed.
var ErrChanged = errors.New("a table was altered while it was saved")

// ErrForeignSQL is wrapped when a part holds a statement that Revlet does not
// write.
var ErrForeignSQL = errors.New("a statement that Revlet does not write")
