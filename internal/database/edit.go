package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"revlet/internal/platform/reason"
)

// Edit changes rows of a table, or removes them. Names are complete, prefix included.
type Edit struct {
	Table string
	// Where are values that columns of the rows have, compared as text; there is at least
	// one.
	Where map[string]string
	// Set are new values by column; nil removes the rows.
	Set map[string]string
	// Null are columns that become NULL, beside those of Set, which is not nil then.
	Null []string
	// Exactly, if set, is how many rows have to be changed; with another number, all edits
	// that are made together are taken back.
	Exactly int64
}

// ErrNull is about a value that was looked up and is NULL.
var ErrNull = errors.New("the value is NULL")

// ValueOf is the value that a lookup has found; the error wraps ErrNull for none.
func ValueOf(v sql.NullString, err error) (string, error) {
	if err == nil && !v.Valid {
		err = ErrNull
	}
	return v.String, err
}

// Dialect is how a make of database writes what an Edit needs.
type Dialect struct {
	// Quote writes a name, Mark the n-th value that is bound, Text a column as text.
	Quote func(name string) string
	Mark  func(n int) string
	Text  func(column string) string
}

// Statement is the edit as SQL, with the values to bind.
func (e Edit) Statement(d Dialect) (statement string, values []any) {
	bound := func(all map[string]string, form func(column, mark string) string) (list []string) {
		for _, column := range slices.Sorted(maps.Keys(all)) {
			values = append(values, all[column])
			list = append(list, form(d.Quote(column), d.Mark(len(values))))
		}
		return list
	}
	var nulls []string
	for _, column := range e.Null {
		nulls = append(nulls, d.Quote(column)+" = NULL")
	}
	verb := "DELETE FROM " + d.Quote(e.Table)
	if e.Set != nil {
		verb = "UPDATE " + d.Quote(e.Table) + " SET " + strings.Join(append(bound(e.Set, func(c, mark string) string { return c + " = " + mark }), nulls...), ", ")
	}
	return verb + " WHERE " + strings.Join(bound(e.Where, func(c, mark string) string { return d.Text(c) + " = " + mark }), " AND "), values
}

// Check refuses a number of rows that an edit may not concern.
func (e Edit) Check(rows int64) error {
	if e.Exactly != 0 && rows != e.Exactly {
		return reason.New(reason.OtherRows, nil, "%d rows of %s would have changed, not %d; nothing was changed", rows, e.Table, e.Exactly)
	}
	return nil
}

// Reading is a query for what an edit has set, with the values to bind; its columns are in the order of their names.
func (e Edit) Reading(d Dialect) (query string, values []any) {
	var columns, where []string
	for _, column := range slices.Sorted(maps.Keys(e.Set)) {
		columns = append(columns, d.Text(d.Quote(column)))
	}
	for _, column := range slices.Sorted(maps.Keys(e.Where)) {
		values = append(values, e.Where[column])
		where = append(where, d.Text(d.Quote(column))+" = "+d.Mark(len(values)))
	}
	return "SELECT " + strings.Join(columns, ", ") + " FROM " + d.Quote(e.Table) + " WHERE " + strings.Join(where, " AND "), values
}

// Proved refuses a row, as Reading gives it, that does not have what was set: a server may cut what does not fit, and a
// trigger may change it.
func (e Edit) Proved(row []sql.NullString) error {
	for i, column := range slices.Sorted(maps.Keys(e.Set)) {
		if !row[i].Valid || row[i].String != e.Set[column] {
			return reason.New(reason.DoesNotFit, nil, "the database would keep %q in %s.%s, and not what was set", row[i].String, e.Table, column)
		}
	}
	return nil
}

// Beginner begins transactions: an *sql.DB or an *sql.Conn.
type Beginner interface {
	BeginTx(ctx context.Context, o *sql.TxOptions) (*sql.Tx, error)
}

// EditAll makes edits in one transaction, and proves that the database has kept what was set.
func EditAll(ctx context.Context, pool Beginner, d Dialect, edits []Edit) (err error) {
	tx, err := pool.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = tx.Rollback()
		}
	}()
	for _, e := range edits {
		statement, values := e.Statement(d)
		result, err := tx.ExecContext(ctx, statement, values...)
		if err != nil {
			return fmt.Errorf("change rows of %s: %w", e.Table, err)
		}
		n, err := result.RowsAffected()
		if err == nil {
			err = e.Check(n)
		}
		if err != nil {
			return err
		}
		if err := e.prove(ctx, tx, d); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// prove reads back what an edit has set.
func (e Edit) prove(ctx context.Context, tx *sql.Tx, d Dialect) error {
	if len(e.Set) == 0 {
		return nil
	}
	query, values := e.Reading(d)
	rows, err := tx.QueryContext(ctx, query, values...)
	if err != nil {
		return fmt.Errorf("read rows of %s: %w", e.Table, err)
	}
	defer rows.Close()
	row := make([]sql.NullString, len(e.Set))
	into := make([]any, len(row))
	for i := range row {
		into[i] = &row[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		if err := e.Proved(row); err != nil {
			return err
		}
	}
	return rows.Err()
}
