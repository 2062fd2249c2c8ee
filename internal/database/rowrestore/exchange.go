package rowrestore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"revlet/internal/database"
	"revlet/internal/platform/reason"
)

// Swap puts the picked rows into the live tables and the rows that go aside. It
// can be called again after a crash and then does what is still to do.
func Swap(ctx context.Context, m Make, p *database.Plan) error {
	for _, move := range p.Rows.Moves {
		if move.Made {
			if err := create(ctx, m, move.Table); err != nil {
				return err
			}
		}
	}
	return transact(ctx, m, p, func(step string, commit func() error) error {
		if step == put {
			return nil
		}
		if step != saved {
			if err := setAside(ctx, m, p.Rows.Moves); err != nil {
				return err
			}
			if err := advance(ctx, m, saved); err != nil {
				return err
			}
			if err := commit(); err != nil {
				return err
			}
		}
		if _, err := replaceAll(ctx, m, p.Rows.Moves, false); err != nil {
			return err
		}
		return advance(ctx, m, put)
	})
}

// Revert takes a Swap back, wholly or as far as it went.
func Revert(ctx context.Context, m Make, p *database.Plan) error {
	err := transact(ctx, m, p, func(step string, _ func() error) error {
		if step == "" {
			return nil
		}
		notes, err := replaceAll(ctx, m, p.Rows.Moves, true)
		if err != nil {
			return err
		}
		p.Notes = append(p.Notes, notes...)
		_, err = m.Exec(ctx, "DELETE FROM "+m.Kept(mark))
		return err
	})
	if err != nil {
		return err
	}
	for _, move := range p.Rows.Moves {
		if !move.Made {
			continue
		}
		if err := dropMade(ctx, m, move.Table); err != nil {
			return fmt.Errorf("take table %s away again: %w", move.Table, err)
		}
	}
	return nil
}

// dropMade drops a table that was made for rows, unless others are in it now.
func dropMade(ctx context.Context, m Make, table string) error {
	there, err := m.Columns(ctx, false, table)
	if err != nil || len(there) == 0 {
		return err
	}
	n, err := count(ctx, m, "SELECT COUNT(*) FROM "+m.Live(table))
	if err != nil || n > 0 {
		return err
	}
	_, err = m.Exec(ctx, "DROP TABLE "+m.Live(table))
	return err
}

// create makes a live table that is gone, unless that is done.
func create(ctx context.Context, m Make, table string) error {
	there, err := m.Columns(ctx, false, table)
	if err == nil && len(there) == 0 {
		err = m.Create(ctx, table)
	}
	if err != nil {
		return fmt.Errorf("make table %s again: %w", table, err)
	}
	return nil
}

// transact runs work in a transaction. Where the make cannot undo every part of
// one, commit ends it and begins the next, so that a run after a crash knows
// what the first has done.
// StageThere and AsideThere look whether all is there that a first Swap needs, and Revert: see database.Target.
func StageThere(ctx context.Context, m Make, p *database.Plan) error {
	return allThere(ctx, m, p, database.ErrStageGone, func(move database.RowMove) bool { return !move.Made })
}

// AsideThere is described at StageThere.
func AsideThere(ctx context.Context, m Make, p *database.Plan) error {
	return allThere(ctx, m, p, database.ErrAsideGone, func(database.RowMove) bool { return true })
}

// allThere looks for the tables in which rows are kept, and for the live ones that have to be there.
func allThere(ctx context.Context, m Make, p *database.Plan, otherwise error, live func(database.RowMove) bool) error {
	var gone []string
	kept := []string{mark}
	for _, move := range p.Rows.Moves {
		kept = append(kept, move.Aside, move.Picked)
		if !live(move) {
			continue
		}
		columns, err := m.Columns(ctx, false, move.Table)
		if err != nil {
			return err
		}
		if len(columns) == 0 {
			gone = append(gone, "the table "+move.Table+" itself")
		}
	}
	for _, table := range kept {
		_, err := m.Texts(ctx, "SELECT 1 FROM "+m.Kept(table)+" WHERE 1 = 0")
		if err == nil {
			continue
		}
		if _, silent := m.Texts(ctx, "SELECT 1"); silent != nil {
			return err // that says nothing of the table
		}
		gone = append(gone, m.Kept(table))
	}
	return database.Gone(otherwise, gone, "database "+p.Live)
}

func transact(ctx context.Context, m Make, p *database.Plan, work func(step string, commit func() error) error) (err error) {
	var tables []string
	for _, move := range p.Rows.Moves {
		tables = append(tables, move.Table)
	}
	atomic, err := m.Atomic(ctx, tables)
	if err != nil {
		return err
	}
	if err := m.Begin(ctx, tables); err != nil {
		return fmt.Errorf("begin the exchange of rows: %w", err)
	}
	defer func() {
		if err != nil {
			_, back := m.Exec(ctx, "ROLLBACK")
			err = errors.Join(err, back)
		}
	}()
	step, err := m.Texts(ctx, "SELECT "+m.Text("step")+" FROM "+m.Kept(mark))
	if err != nil {
		return err
	}
	at := ""
	if len(step) > 0 {
		at = step[0][0]
	}
	err = work(at, func() error {
		if atomic {
			return nil
		}
		if _, err := m.Exec(ctx, "COMMIT"); err != nil {
			return err
		}
		return m.Begin(ctx, tables)
	})
	if err != nil {
		return err
	}
	_, err = m.Exec(ctx, "COMMIT")
	return err
}

func advance(ctx context.Context, m Make, to string) error {
	if _, err := m.Exec(ctx, "DELETE FROM "+m.Kept(mark)); err != nil {
		return err
	}
	_, err := m.Exec(ctx, "INSERT INTO "+m.Kept(mark)+" VALUES ("+to+")")
	return err
}

// setAside copies the live rows that go, and makes sure that nothing depends on
// those that do not come back in another form.
func setAside(ctx context.Context, m Make, moves []database.RowMove) error {
	for _, move := range moves {
		if len(move.Goes) == 0 || move.Made {
			continue
		}
		columns, err := m.Columns(ctx, false, move.Table)
		if err != nil {
			return err
		}
		_, err = m.Exec(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s l WHERE %s", m.Kept(move.Aside), List(m, "", columns), List(m, "l.", columns),
			m.Live(move.Table), strings.Join(move.Goes, " OR ")))
		if err != nil {
			return fmt.Errorf("set rows of %s aside: %w", move.Table, err)
		}
	}
	keys, err := m.ForeignKeys(ctx)
	if err != nil {
		return err
	}
	for _, k := range keys {
		if err := childless(ctx, m, moves, k); err != nil {
			return err
		}
	}
	return nil
}

// childless makes sure that no live row refers to one that goes for good.
func childless(ctx context.Context, m Make, moves []database.RowMove, k ForeignKey) error {
	find := func(table string) (database.RowMove, bool) {
		i := slices.IndexFunc(moves, func(m database.RowMove) bool { return m.Table == table })
		if i < 0 {
			return database.RowMove{}, false
		}
		return moves[i], true
	}
	parent, moved := find(k.Parent)
	if !moved || len(parent.Goes) == 0 {
		return nil
	}
	q := fmt.Sprintf("SELECT COUNT(*) FROM %s c JOIN %s a ON %s WHERE NOT EXISTS (SELECT 1 FROM %s p WHERE %s)", m.Live(k.Child), m.Kept(parent.Aside),
		same(m, "c", "a", k.ChildColumns, k.ParentColumns), m.Kept(parent.Picked), same(m, "p", "a", k.ParentColumns, k.ParentColumns))
	if child, moved := find(k.Child); moved && len(child.Key) > 0 {
		q += fmt.Sprintf(" AND NOT EXISTS (SELECT 1 FROM %s o WHERE %s)", m.Kept(child.Aside), same(m, "o", "c", child.Key, child.Key))
	}
	n, err := count(ctx, m, q)
	if err != nil {
		return fmt.Errorf("look for what refers to rows of %s: %w", k.Parent, err)
	}
	if n > 0 {
		return reason.New(reason.StillReferred, nil, "%d rows of %s refer by %s to rows of %s that the archive does not have", n, k.Child, k.ChildColumns[0], k.Parent)
	}
	return nil
}

// replaceAll exchanges the rows of every table: children go first and come last.
// back puts those that went in place of those that came; rows that were written since,
// and stand where one of them belongs, give way, and the notes say how many.
func replaceAll(ctx context.Context, m Make, moves []database.RowMove, back bool) (notes []string, err error) {
	var remove, put []string
	since := map[string]int64{}
	for _, move := range moves {
		out, in := m.Kept(move.Aside), m.Kept(move.Picked)
		if back {
			if move.Columns, err = m.Columns(ctx, false, move.Table); err != nil {
				return nil, err
			}
			out, in = in, out
			if since[move.Table], err = madeSince(ctx, m, move, out, in); err != nil {
				return nil, err
			}
		}
		remove = append(m.Remove(move, out, in), remove...)
		put = append(put, m.Put(move, in))
	}
	exec := func(queries []string) error {
		for _, q := range queries {
			if _, err := m.Exec(ctx, q); err != nil {
				return fmt.Errorf("exchange rows: %w", err)
			}
		}
		return nil
	}
	if err := exec(remove); err != nil {
		return nil, err
	}
	for _, move := range slices.Backward(moves) {
		if !back {
			break
		}
		n, err := clearUnique(ctx, m, move)
		if err != nil {
			return nil, err
		}
		if n += since[move.Table]; n > 0 {
			notes = append(notes, fmt.Sprintf("%d rows of table %s were written since, and give way to those from before", n, move.Table))
		}
	}
	return notes, exec(put)
}

// madeSince counts the live rows under a key of one that went and did not come back.
func madeSince(ctx context.Context, m Make, move database.RowMove, came, went string) (int64, error) {
	if len(move.Key) == 0 {
		return 0, nil
	}
	n, err := count(ctx, m, fmt.Sprintf("SELECT COUNT(*) FROM %s o JOIN %s l ON %s WHERE NOT EXISTS (SELECT 1 FROM %s p WHERE %s)",
		went, m.Live(move.Table), Same(m, "o", "l", move.Key), came, Same(m, "p", "o", move.Key)))
	if err != nil {
		return 0, fmt.Errorf("look for rows of %s that were written since: %w", move.Table, err)
	}
	return n, nil
}

// clearUnique takes rows out of a live table that have, in a unique index, the values of
// one that comes back: they were written since.
func clearUnique(ctx context.Context, m Make, move database.RowMove) (rows int64, err error) {
	if len(move.Key) == 0 || move.Made {
		return 0, nil // no row is left there, or none comes
	}
	keys, err := m.UniqueKeys(ctx, move.Table)
	for _, columns := range keys {
		if err != nil {
			break
		}
		var n int64
		n, err = m.Exec(ctx, m.RemoveLike(move, columns, m.Kept(move.Aside)))
		rows += n
	}
	if err != nil {
		return 0, fmt.Errorf("make room in table %s: %w", move.Table, err)
	}
	return rows, nil
}

// GroupColumns makes lists of columns of (index, column), ordered by index.
func GroupColumns(rows [][]string) (all [][]string) {
	for i, row := range rows {
		if i == 0 || rows[i-1][0] != row[0] {
			all = append(all, nil)
		}
		all[len(all)-1] = append(all[len(all)-1], row[1])
	}
	return all
}
