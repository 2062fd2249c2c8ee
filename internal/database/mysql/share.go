package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"revlet/internal/database"
	"revlet/internal/database/rowrestore"
)

// prepareShare makes room for the tables of a share only.
func (db *Database) prepareShare(ctx context.Context, conn *sql.Conn, p *database.Plan) error {
	if err := db.makeStage(ctx, conn, p); err != nil {
		return err
	}
	p.Tables = moves(p, p.Rows.Staged, nil)
	return nil
}

// Select implements database.Target.
func (db *Database) Select(ctx context.Context, p *database.Plan, s database.RowSelection) error {
	return db.onShare(ctx, p, func(m rowrestore.Make) error { return rowrestore.Select(ctx, m, p, s) })
}

// onShare runs work in a session that heeds unique keys, and cuts no value. Foreign keys are looked
// after by the share itself: the server would let children go with their parent
// while that is replaced.
func (db *Database) onShare(ctx context.Context, p *database.Plan, work func(rowrestore.Make) error) error {
	return db.onConn(ctx, p.Live, func(conn *sql.Conn) error {
		if _, err := conn.ExecContext(ctx, "SET SESSION unique_checks = 1, sql_mode = '"+dumpMode+",STRICT_ALL_TABLES'"); err != nil {
			return err
		}
		if err := takeTurn(ctx, conn, p); err != nil {
			return err
		}
		return work(&rowShare{rowrestore.Session{Conn: conn}, p})
	})
}

// rowShare implements rowrestore.Make.
type rowShare struct {
	rowrestore.Session
	plan *database.Plan
}

func (r *rowShare) Quote(name string) string   { return quote(name) }
func (r *rowShare) Literal(v string) string    { return text(v) }
func (r *rowShare) Text(expr string) string    { return "CAST(" + expr + " AS CHAR)" }
func (r *rowShare) Live(table string) string   { return in(r.plan.Live, table) }
func (r *rowShare) Staged(table string) string { return in(r.plan.Stage, r.stagedName(table)) }

func (r *rowShare) stagedName(table string) string {
	name, err := staged(r.plan, table)
	if err != nil {
		return table // the server then says that there is none
	}
	return name
}

// Kept tables bear the restore's name, so that no plan is needed to find them.
func (r *rowShare) Kept(name string) string {
	return in(r.plan.Aside, asidePrefix+r.plan.ID+"_"+name)
}

func (r *rowShare) place(isStaged bool, table string) (schema, name string) {
	if isStaged {
		return r.plan.Stage, r.stagedName(table)
	}
	return r.plan.Live, table
}

func (r *rowShare) Columns(ctx context.Context, isStaged bool, table string) ([]string, error) {
	schema, name := r.place(isStaged, table)
	return queryStrings(ctx, r.Conn, "SELECT COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = "+text(schema)+" AND TABLE_NAME = "+text(name)+
		// MySQL says DEFAULT_GENERATED of a column whose default is an expression.
		" AND COALESCE(GENERATION_EXPRESSION, '') = '' AND REPLACE(EXTRA, 'DEFAULT_GENERATED', '') NOT LIKE '%GENERATED%' ORDER BY ORDINAL_POSITION")
}

func (r *rowShare) Key(ctx context.Context, isStaged bool, table string) ([]string, error) {
	schema, name := r.place(isStaged, table)
	return queryStrings(ctx, r.Conn, "SELECT COLUMN_NAME FROM information_schema.KEY_COLUMN_USAGE WHERE TABLE_SCHEMA = "+text(schema)+" AND TABLE_NAME = "+text(name)+
		" AND CONSTRAINT_NAME = 'PRIMARY' ORDER BY ORDINAL_POSITION")
}

// UniqueKeys implements rowrestore.Make.
func (r *rowShare) UniqueKeys(ctx context.Context, table string) ([][]string, error) {
	rows, err := r.Texts(ctx, `SELECT INDEX_NAME, COLUMN_NAME FROM information_schema.STATISTICS s WHERE TABLE_SCHEMA = `+text(r.plan.Live)+` AND TABLE_NAME = `+text(table)+`
		AND NON_UNIQUE = 0 AND INDEX_NAME <> 'PRIMARY' AND NOT EXISTS (SELECT 1 FROM information_schema.STATISTICS e WHERE e.TABLE_SCHEMA = s.TABLE_SCHEMA
		AND e.TABLE_NAME = s.TABLE_NAME AND e.INDEX_NAME = s.INDEX_NAME AND (e.SUB_PART IS NOT NULL OR e.COLUMN_NAME IS NULL)) ORDER BY INDEX_NAME, SEQ_IN_INDEX`)
	return rowrestore.GroupColumns(rows), err
}

func (r *rowShare) ForeignKeys(ctx context.Context) ([]rowrestore.ForeignKey, error) {
	columns, err := r.Texts(ctx, `SELECT TABLE_NAME, CONSTRAINT_NAME, COLUMN_NAME, REFERENCED_TABLE_NAME, REFERENCED_COLUMN_NAME FROM information_schema.KEY_COLUMN_USAGE
		WHERE TABLE_SCHEMA = `+text(r.plan.Live)+` AND REFERENCED_TABLE_SCHEMA = `+text(r.plan.Live)+` AND TABLE_NAME NOT LIKE 'rv\\_%'
		ORDER BY TABLE_NAME, CONSTRAINT_NAME, ORDINAL_POSITION`)
	if err != nil {
		return nil, err
	}
	return rowrestore.GroupKeys(columns), nil
}

func (r *rowShare) Triggers(ctx context.Context, table string) (bool, error) {
	names, err := queryStrings(ctx, r.Conn, "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = "+text(r.plan.Live)+" AND EVENT_OBJECT_TABLE = "+text(table))
	return len(names) > 0, err
}

// CanCreate implements rowrestore.Make.
func (r *rowShare) CanCreate() error { return nil }

// Create implements rowrestore.Make.
func (r *rowShare) Create(ctx context.Context, table string) error {
	_, err := r.Exec(ctx, "CREATE TABLE "+r.Live(table)+" LIKE "+r.Staged(table))
	return err
}

// Types implements rowrestore.Make.
func (r *rowShare) Types(ctx context.Context, isStaged bool, table string) ([][]string, error) {
	schema, name := r.place(isStaged, table)
	return r.Texts(ctx, "SELECT COLUMN_NAME, CONCAT_WS(' ', COLUMN_TYPE, CHARACTER_SET_NAME, IS_NULLABLE) FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = "+text(schema)+
		" AND TABLE_NAME = "+text(name)+" ORDER BY ORDINAL_POSITION")
}

// Misfit implements rowrestore.Make.
func (r *rowShare) Misfit(err error) bool { return isCode(err, append(misfits, errNull)...) }

// Uncompared implements rowrestore.Make: before 8.0.31, MySQL had no EXCEPT.
func (r *rowShare) Uncompared(err error) bool { return isCode(err, errSyntax) }

func (r *rowShare) KeptTable(name, like string, columns []string) string {
	return fmt.Sprintf("CREATE TABLE %s ENGINE=InnoDB AS SELECT %s FROM %s WHERE 1 = 0", r.Kept(name), rowrestore.List(r, "", columns), like)
}

// KeptIndex implements rowrestore.Make.
func (r *rowShare) KeptIndex(name string, columns []string) string {
	return fmt.Sprintf("ALTER TABLE %s ADD KEY by_key (%s)", r.Kept(name), rowrestore.List(r, "", columns))
}

func (r *rowShare) Begin(ctx context.Context, _ []string) error {
	_, err := r.Exec(ctx, "START TRANSACTION")
	return err
}

// Atomic implements rowrestore.Make: tables of engines without transactions keep
// what was done to them.
func (r *rowShare) Atomic(ctx context.Context, tables []string) (bool, error) {
	for _, name := range tables {
		engines, err := queryStrings(ctx, r.Conn, "SELECT COALESCE(ENGINE, '') FROM information_schema.TABLES WHERE TABLE_SCHEMA = "+text(r.plan.Live)+" AND TABLE_NAME = "+text(name))
		if err != nil {
			return false, err
		}
		for _, engine := range engines {
			if !(&table{engine: engine}).transactional() {
				return false, nil
			}
		}
	}
	return true, nil
}

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
	return fmt.Sprintf("DELETE l FROM %s l JOIN %s o ON %s", r.Live(m.Table), in, rowrestore.Same(r, "l", "o", columns))
}

func (r *rowShare) Put(m database.RowMove, in string) string { return rowrestore.Insert(r, m, in, "") }

// dropNamed removes the tables of a plan from the live database whose names begin so,
// whatever the plan knows of them.
func dropNamed(ctx context.Context, conn *sql.Conn, p *database.Plan, e exists, prefix string) error {
	for name := range e {
		if name[0] != p.Live || !strings.HasPrefix(name[1], prefix+p.ID+"_") {
			continue
		}
		if _, err := conn.ExecContext(ctx, "DROP TABLE IF EXISTS "+in(p.Live, name[1])); err != nil {
			return err
		}
	}
	return nil
}
