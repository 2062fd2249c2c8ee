package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"revlet/internal/database"
	"revlet/internal/database/rowrestore"
	"revlet/internal/platform/reason"
)

// Select implements database.Target.
func (db *Database) Select(ctx context.Context, p *database.Plan, s database.RowSelection) error {
	if _, err := db.conn.Exec(ctx, "CREATE SCHEMA IF NOT EXISTS "+quote(p.Aside)); err != nil {
		return fmt.Errorf("make the schema for what is set aside: %w", err)
	}
	r := &rowShare{db, p}
	for _, table := range p.Rows.Staged {
		if err := r.adoptTypes(ctx, table); err != nil {
			return fmt.Errorf("table %s: %w", table, err)
		}
	}
	return db.withRows(ctx, func() error { return rowrestore.Select(ctx, r, p, s) })
}

// withRows does something with rows of the site's, under the names that its account goes by: triggers are written for
// them, and types of extensions are compared by operators that are found there.
func (db *Database) withRows(ctx context.Context, do func() error) error {
	if err := db.asSite(ctx, db.conn, false); err != nil {
		return err
	}
	err := do()
	if _, back := db.conn.Exec(context.WithoutCancel(ctx), onlyServers); back != nil && err == nil {
		return back
	}
	return err
}

// rowShare implements rowrestore.Make.
type rowShare struct {
	db   *Database
	plan *database.Plan
}

// adoptTypes makes a staged table anew if some of its columns are of types that were
// staged along, such as enumerations: its rows are to go where columns are of the live
// ones. A value that the live type does not have is an error.
func (r *rowShare) adoptTypes(ctx context.Context, table string) error {
	columns, err := r.Texts(ctx, `SELECT a.attname, l.type, t.typnamespace = n.oid OR coalesce(e.typnamespace = n.oid, false)
		FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_type e ON e.oid = t.typelem AND t.typcategory = 'A'
		LEFT JOIN (SELECT attname, format_type(atttypid, atttypmod) AS type FROM pg_attribute WHERE attrelid = to_regclass(`+literal(r.Live(table))+`)
			AND attnum > 0 AND NOT attisdropped) l ON l.attname = a.attname
		WHERE n.nspname = `+literal(r.plan.Stage)+` AND c.relname = `+literal(table)+` AND c.relkind IN ('r', 'p')
			AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = '' ORDER BY a.attnum`)
	if err != nil {
		return err
	}
	var as []string
	foreign := false
	for _, c := range columns {
		name, live, own := quote(c[0]), c[1], c[2] == "t"
		if !own || live == "" { // one that the live table does not have is told of later
			as = append(as, name)
			continue
		}
		foreign = true
		as = append(as, name+"::text::"+live+" AS "+name)
	}
	if !foreign {
		return nil
	}
	made := quote(r.plan.Stage) + "." + quote("rv_typed")
	for _, q := range []string{
		"CREATE TABLE " + made + " AS SELECT " + strings.Join(as, ", ") + " FROM " + r.Staged(table),
		"DROP TABLE " + r.Staged(table) + " CASCADE", "ALTER TABLE " + made + " RENAME TO " + quote(table),
	} {
		if _, err := r.Exec(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

func (r *rowShare) Exec(ctx context.Context, q string) (int64, error) {
	tag, err := r.db.conn.Exec(ctx, q)
	return tag.RowsAffected(), err
}

func (r *rowShare) Texts(ctx context.Context, q string) ([][]string, error) {
	// Simple protocol: every value comes as text.
	rows, err := r.db.conn.Query(ctx, q, pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) ([]string, error) {
		var all []string
		for _, v := range row.RawValues() {
			all = append(all, string(v))
		}
		return all, nil
	})
}

func (r *rowShare) Quote(name string) string   { return quote(name) }
func (r *rowShare) Literal(v string) string    { return literal(v) }
func (r *rowShare) Text(expr string) string    { return "(" + expr + ")::text" }
func (r *rowShare) Live(table string) string   { return quote(r.plan.Live) + "." + quote(table) }
func (r *rowShare) Staged(table string) string { return quote(r.plan.Stage) + "." + quote(table) }
func (r *rowShare) Kept(name string) string    { return quote(r.plan.Aside) + "." + quote(name) }

func (r *rowShare) schema(staged bool) string {
	if staged {
		return r.plan.Stage
	}
	return r.plan.Live
}

func (r *rowShare) names(ctx context.Context, q string, args ...any) ([]string, error) {
	return column(ctx, r.db.conn, q, args...)
}

// codeOf is the SQLSTATE of a server's error, or empty.
func codeOf(err error) string {
	var e *pgconn.PgError
	if errors.As(err, &e) {
		return e.Code
	}
	return ""
}

// SQLSTATEs: the class of values that are not right for their type, one that is absent and may not be, and types that
// go together with none.
const (
	dataException = "22"
	notNull       = "23502"
	wrongType     = "42804"
	noFunction    = "42883"
)

// Types implements rowrestore.Make.
func (r *rowShare) Types(ctx context.Context, staged bool, table string) ([][]string, error) {
	return r.Texts(ctx, `SELECT a.attname, format_type(a.atttypid, a.atttypmod) FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = `+literal(r.schema(staged))+` AND c.relname = `+literal(table)+` AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`)
}

// Misfit implements rowrestore.Make.
func (r *rowShare) Misfit(err error) bool {
	code := codeOf(err)
	return strings.HasPrefix(code, dataException) || code == wrongType || code == notNull
}

// Uncompared implements rowrestore.Make.
func (r *rowShare) Uncompared(err error) bool {
	code := codeOf(err)
	return code == wrongType || code == noFunction
}

func (r *rowShare) Columns(ctx context.Context, staged bool, table string) ([]string, error) {
	return r.names(ctx, `SELECT a.attname FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = $1 AND c.relname = $2 AND c.relkind IN ('r', 'p') AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = '' ORDER BY a.attnum`, r.schema(staged), table)
}

func (r *rowShare) Key(ctx context.Context, staged bool, table string) ([]string, error) {
	return r.names(ctx, `SELECT a.attname FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = ANY (i.indkey)
		WHERE n.nspname = $1 AND c.relname = $2 AND i.indisprimary ORDER BY array_position(i.indkey::int2[], a.attnum)`, r.schema(staged), table)
}

// UniqueKeys implements rowrestore.Make.
func (r *rowShare) UniqueKeys(ctx context.Context, table string) ([][]string, error) {
	rows, err := r.Texts(ctx, `SELECT i.indexrelid, a.attname FROM pg_index i CROSS JOIN LATERAL unnest(i.indkey[0:i.indnkeyatts - 1]) WITH ORDINALITY AS u(k, n)
		JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = u.k
		WHERE i.indrelid = to_regclass(`+literal(r.Live(table))+`) AND i.indisunique AND NOT i.indisprimary AND i.indpred IS NULL AND i.indexprs IS NULL ORDER BY 1, u.n`)
	return rowrestore.GroupColumns(rows), err
}

func (r *rowShare) ForeignKeys(ctx context.Context) ([]rowrestore.ForeignKey, error) {
	columns, err := r.Texts(ctx, `SELECT c.relname, k.conname, a.attname, p.relname, b.attname FROM pg_constraint k
		JOIN pg_class c ON c.oid = k.conrelid JOIN pg_class p ON p.oid = k.confrelid
		CROSS JOIN LATERAL unnest(k.conkey, k.confkey) WITH ORDINALITY AS u(child, parent, n)
		JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = u.child JOIN pg_attribute b ON b.attrelid = p.oid AND b.attnum = u.parent
		WHERE k.contype = 'f' AND c.relnamespace = p.relnamespace AND k.connamespace = `+literal(r.plan.Live)+`::regnamespace ORDER BY 1, 2, u.n`)
	if err != nil {
		return nil, err
	}
	return rowrestore.GroupKeys(columns), nil
}

func (r *rowShare) Triggers(ctx context.Context, table string) (bool, error) {
	names, err := r.names(ctx, `SELECT t.tgname FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = $1 AND c.relname = $2 AND NOT t.tgisinternal`, r.plan.Live, table)
	return len(names) > 0, err
}

// CanCreate implements rowrestore.Make. A table that is gone took along its sequences
// and what refers to it, which only the whole database brings back.
func (r *rowShare) CanCreate() error {
	return reason.New(reason.TableGone, nil, "it is gone with its sequences and constraints: only the whole database brings it back")
}

// Create implements rowrestore.Make; CanCreate refuses.
func (r *rowShare) Create(context.Context, string) error { return r.CanCreate() }

func (r *rowShare) KeptTable(name, like string, columns []string) string {
	return fmt.Sprintf("CREATE TABLE %s AS SELECT %s FROM %s WHERE 1 = 0", r.Kept(name), rowrestore.List(r, "", columns), like)
}

// KeptIndex implements rowrestore.Make.
func (r *rowShare) KeptIndex(name string, columns []string) string {
	return fmt.Sprintf("CREATE INDEX ON %s (%s)", r.Kept(name), rowrestore.List(r, "", columns))
}

func (r *rowShare) Begin(ctx context.Context, tables []string) error {
	if _, err := r.Exec(ctx, "BEGIN"); err != nil {
		return err
	}
	for _, t := range tables {
		if _, err := r.Exec(ctx, "LOCK TABLE "+r.Live(t)+" IN SHARE ROW EXCLUSIVE MODE"); err != nil {
			_, back := r.Exec(context.WithoutCancel(ctx), "ROLLBACK")
			return errors.Join(err, back)
		}
	}
	return nil
}

// Atomic implements rowrestore.Make.
func (r *rowShare) Atomic(context.Context, []string) (bool, error) { return true, nil }

// Remove implements rowrestore.Make. A row that stays under its key is changed, not
// deleted: what refers to it would go along.
func (r *rowShare) Remove(m database.RowMove, out, in string) []string {
	live := r.Live(m.Table)
	if len(m.Key) == 0 {
		return []string{"DELETE FROM " + live}
	}
	key := rowrestore.List(r, "", m.Key)
	return []string{fmt.Sprintf("DELETE FROM %s l WHERE (%s) IN (SELECT %s FROM %s) AND NOT EXISTS (SELECT 1 FROM %s i WHERE %s)",
		live, key, key, out, in, rowrestore.Same(r, "i", "l", m.Key))}
}

// RemoveLike implements rowrestore.Make. A row that is to be changed under its key stays.
func (r *rowShare) RemoveLike(m database.RowMove, columns []string, in string) string {
	list := rowrestore.List(r, "", columns)
	return fmt.Sprintf("DELETE FROM %s l WHERE (%s) IN (SELECT %s FROM %s) AND NOT EXISTS (SELECT 1 FROM %s i WHERE %s)",
		r.Live(m.Table), list, list, in, in, rowrestore.Same(r, "i", "l", m.Key))
}

// Put implements rowrestore.Make.
func (r *rowShare) Put(m database.RowMove, in string) string {
	insert := rowrestore.Insert(r, m, in, " OVERRIDING SYSTEM VALUE")
	if len(m.Key) == 0 {
		return insert
	}
	var set []string
	for _, c := range m.Columns {
		if !slices.Contains(m.Key, c) {
			set = append(set, quote(c)+" = EXCLUDED."+quote(c))
		}
	}
	do := "NOTHING"
	if len(set) > 0 {
		do = "UPDATE SET " + strings.Join(set, ", ")
	}
	return insert + " ON CONFLICT (" + rowrestore.List(r, "", m.Key) + ") DO " + do
}
