package database

import (
	"context"
	"database/sql"
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
	// Exactly, if set, is how many rows have to be changed; with another number, all edits
	// that are made together are taken back.
	Exactly int64
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
	verb := "DELETE FROM " + d.Quote(e.Table)
	if e.Set != nil {
		verb = "UPDATE " + d.Quote(e.Table) + " SET " + strings.Join(bound(e.Set, func(c, mark string) string { return c + " = " + mark }), ", ")
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

// EditAll makes edits in one transaction.
func EditAll(ctx context.Context, pool *sql.DB, d Dialect, edits []Edit) (err error) {
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
	}
	return tx.Commit()
}
