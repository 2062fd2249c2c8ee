package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"revlet/internal/database"
	"revlet/internal/database/rowrestore"
)

// asidePrefix begins the names of tables for rows that a share has set aside in
// the live file: one transaction can hold both only there.
const asidePrefix = "rv_old_"

// Select implements database.Target.
func (db *Database) Select(ctx context.Context, p *database.Plan, s database.RowSelection) error {
	return db.onShare(ctx, p, func(m *rowShare) error { return rowrestore.Select(ctx, m, p, s) })
}

// onShare opens the live file with the staged one attached.
func (db *Database) onShare(ctx context.Context, p *database.Plan, work func(*rowShare) error) error {
	pool, err := sql.Open("sqlite", dsn(p.Live, "mode=rw&_pragma=busy_timeout(30000)&_pragma=foreign_keys(OFF)"))
	if err != nil {
		return err
	}
	defer pool.Close()
	conn, err := bounded(ctx, pool, max(sizeOf(p.Live), sizeOf(p.Stage)))
	if err != nil {
		return fmt.Errorf("database file %s: %w", p.Live, err)
	}
	defer conn.Close()
	staged, err := db.c.Disk.Exists(p.Stage)
	if err == nil && staged {
		_, err = conn.ExecContext(ctx, "ATTACH "+literal(p.Stage)+" AS stage")
	}
	if err != nil {
		return fmt.Errorf("database file %s: %w", p.Live, err)
	}
	return work(&rowShare{rowrestore.Session{Conn: conn}, p})
}

// dropShare removes the tables for what was set aside from the live file. One
// that is gone has taken them along.
func (db *Database) dropShare(ctx context.Context, p *database.Plan) error {
	there, err := db.c.Disk.Exists(p.Live)
	if err != nil || !there {
		return err
	}
	return db.onShare(ctx, p, func(m *rowShare) error {
		names, err := m.Texts(ctx, "SELECT name FROM main.sqlite_schema WHERE type = 'table' AND substr(name, 1, "+fmt.Sprint(len(asidePrefix+p.ID))+") = "+literal(asidePrefix+p.ID))
		for _, name := range names {
			if err == nil {
				_, err = m.Exec(ctx, "DROP TABLE "+m.Live(name[0]))
			}
		}
		return err
	})
}

// rowShare implements rowrestore.Make.
type rowShare struct {
	rowrestore.Session
	plan *database.Plan
}

func (r *rowShare) Quote(name string) string   { return quote(name) }
func (r *rowShare) Literal(v string) string    { return literal(v) }
func (r *rowShare) Text(expr string) string    { return "CAST(" + expr + " AS TEXT)" }
func (r *rowShare) Live(table string) string   { return "main." + quote(table) }
func (r *rowShare) Staged(table string) string { return "stage." + quote(table) }
func (r *rowShare) Kept(name string) string {
	return "main." + quote(asidePrefix+r.plan.ID+"_"+name)
}

func schemaOf(staged bool) string {
	if staged {
		return "stage"
	}
	return "main"
}

// firsts are the first values of a query's rows.
func (r *rowShare) firsts(ctx context.Context, q string) ([]string, error) {
	rows, err := r.Texts(ctx, q)
	var all []string
	for _, row := range rows {
		all = append(all, row[0])
	}
	return all, err
}

func (r *rowShare) Columns(ctx context.Context, staged bool, table string) ([]string, error) {
	virtual, err := r.firsts(ctx, "SELECT name FROM "+schemaOf(staged)+".sqlite_schema WHERE name = "+literal(table)+" AND rootpage = 0")
	if err != nil || len(virtual) > 0 {
		return nil, err
	}
	return r.firsts(ctx, fmt.Sprintf("SELECT name FROM pragma_table_xinfo(%s, %s) WHERE hidden = 0 ORDER BY cid", literal(table), literal(schemaOf(staged))))
}

// Types implements rowrestore.Make.
func (r *rowShare) Types(ctx context.Context, staged bool, table string) ([][]string, error) {
	return r.Texts(ctx, fmt.Sprintf("SELECT name, type FROM pragma_table_xinfo(%s, %s) ORDER BY cid", literal(table), literal(schemaOf(staged))))
}

// Misfit implements rowrestore.Make: a column takes any value, and may make a number of a text.
func (r *rowShare) Misfit(error) bool { return false }

// Uncompared implements rowrestore.Make.
func (r *rowShare) Uncompared(error) bool { return false }

func (r *rowShare) Key(ctx context.Context, staged bool, table string) ([]string, error) {
	return r.firsts(ctx, fmt.Sprintf("SELECT name FROM pragma_table_info(%s, %s) WHERE pk > 0 ORDER BY pk", literal(table), literal(schemaOf(staged))))
}

// UniqueKeys implements rowrestore.Make.
func (r *rowShare) UniqueKeys(ctx context.Context, table string) ([][]string, error) {
	rows, err := r.Texts(ctx, `SELECT l.name, i.name FROM pragma_index_list(`+literal(table)+`, 'main') l, pragma_index_info(l.name, 'main') i
		WHERE l."unique" AND l.origin <> 'pk' AND NOT l.partial
		AND NOT EXISTS (SELECT 1 FROM pragma_index_info(l.name, 'main') e WHERE e.name IS NULL) ORDER BY l.name, i.seqno`)
	return rowrestore.GroupColumns(rows), err
}

func (r *rowShare) ForeignKeys(ctx context.Context) ([]rowrestore.ForeignKey, error) {
	columns, err := r.Texts(ctx, `SELECT t.name, f.id, f."from", f."table", coalesce(f."to", '') FROM main.sqlite_schema t, pragma_foreign_key_list(t.name, 'main') f
		WHERE t.type = 'table' AND t.name NOT LIKE 'rv\_%' ESCAPE '\' ORDER BY t.name, f.id, f.seq`)
	if err != nil {
		return nil, err
	}
	keys := rowrestore.GroupKeys(columns)
	for i, k := range keys {
		if k.ParentColumns[0] != "" {
			continue
		}
		// A reference that names no column means the primary key.
		if keys[i].ParentColumns, err = r.Key(ctx, false, k.Parent); err != nil {
			return nil, err
		}
		if len(keys[i].ParentColumns) != len(k.ChildColumns) {
			return nil, fmt.Errorf("table %s refers to %s, which has no primary key like that", k.Child, k.Parent)
		}
	}
	return keys, nil
}

func (r *rowShare) Triggers(ctx context.Context, table string) (bool, error) {
	names, err := r.firsts(ctx, "SELECT name FROM main.sqlite_schema WHERE type = 'trigger' AND lower(tbl_name) = lower("+literal(table)+")")
	return len(names) > 0, err
}

// CanCreate implements rowrestore.Make.
func (r *rowShare) CanCreate() error { return nil }

// Create implements rowrestore.Make.
func (r *rowShare) Create(ctx context.Context, table string) error {
	made, err := r.firsts(ctx, "SELECT sql FROM stage.sqlite_schema WHERE tbl_name = "+literal(table)+" AND type IN ('table', 'index') AND sql IS NOT NULL ORDER BY type DESC")
	if err != nil {
		return err
	}
	if len(made) == 0 {
		return errors.New("its definition is not staged any more")
	}
	for _, q := range made {
		if _, err := r.Exec(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

func (r *rowShare) KeptTable(name, like string, columns []string) string {
	return fmt.Sprintf("CREATE TABLE %s AS SELECT %s FROM %s WHERE 1 = 0", r.Kept(name), rowrestore.List(r, "", columns), like)
}

// KeptIndex implements rowrestore.Make.
func (r *rowShare) KeptIndex(name string, columns []string) string {
	table := asidePrefix + r.plan.ID + "_" + name
	return fmt.Sprintf("CREATE INDEX main.%s ON %s (%s)", quote(table+"_key"), quote(table), rowrestore.List(r, "", columns))
}

func (r *rowShare) Begin(ctx context.Context, _ []string) error {
	_, err := r.Exec(ctx, "BEGIN IMMEDIATE")
	return err
}

// Atomic implements rowrestore.Make.
func (r *rowShare) Atomic(context.Context, []string) (bool, error) { return true, nil }

func (r *rowShare) Remove(m database.RowMove, out, in string) []string {
	live := r.Live(m.Table)
	if len(m.Key) == 0 {
		return []string{"DELETE FROM " + live}
	}
	var all []string
	for _, from := range []string{out, in} {
		all = append(all, r.RemoveLike(m, m.Key, from))
	}
	return all
}

// RemoveLike implements rowrestore.Make.
func (r *rowShare) RemoveLike(m database.RowMove, columns []string, in string) string {
	list := rowrestore.List(r, "", columns)
	return fmt.Sprintf("DELETE FROM %s WHERE (%s) IN (SELECT %s FROM %s)", r.Live(m.Table), list, list, in)
}

func (r *rowShare) Put(m database.RowMove, in string) string { return rowrestore.Insert(r, m, in, "") }

// passes tells whether a table is read: as a rule, those that hold what a share
// has set aside are not, and nothing else is when it is them that are wanted.
func (c Config) passes(name string) bool {
	return strings.HasPrefix(name, asidePrefix+c.only) == (c.only != "")
}

// AsideSource implements database.Target.
func (db *Database) AsideSource(ctx context.Context, p *database.Plan) (database.Source, error) {
	if p.Rows == nil {
		return nil, nil
	}
	c := db.c
	c.Path, c.only = p.Live, p.ID
	return Open(ctx, c)
}
