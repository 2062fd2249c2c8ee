package postgres

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"revlet/internal/database"
	"revlet/internal/database/sqltext"
)

// describer writes a schema's definition from the system catalogues. What
// tables need stands in early, what needs tables and their rows in late.
type describer struct {
	conn        *pgx.Conn
	schema      string
	early, late strings.Builder
	tables      []*table
	gaps        []database.Gap
}

// step is one query over the catalogues: statements, and the catalogue and number of what
// each makes or completes. $1 is the schema.
type step struct {
	what string
	when int
	sql  string
}

// When the statements of a step are run.
const (
	beforeObjects = iota
	beforeRows
	afterRows
	afterObjects
)

// ownOnly leaves out what belongs to an extension.
const ownOnly = ` AND NOT EXISTS (SELECT FROM pg_depend x WHERE x.objid = %s AND x.classid = '%s'::regclass AND x.deptype = 'e')`

func own(column, catalogue string) string { return fmt.Sprintf(ownOnly, column, catalogue) }

// steps are the statements around those for objects (order.go).
func (d *describer) steps() []step {
	return []step{
		{"extensions", beforeObjects, `SELECT format('CREATE EXTENSION IF NOT EXISTS %I;', extname), 'pg_extension', 0::oid FROM pg_extension WHERE extname <> 'plpgsql' AND $1 <> '' ORDER BY extname`},
		{"sequences", beforeObjects, `SELECT format('CREATE SEQUENCE %I AS %s INCREMENT BY %s MINVALUE %s MAXVALUE %s START WITH %s CACHE %s%s;', c.relname, format_type(s.seqtypid, NULL),
			s.seqincrement, s.seqmin, s.seqmax, s.seqstart, s.seqcache, CASE WHEN s.seqcycle THEN ' CYCLE' ELSE '' END), '', 0::oid
			FROM pg_sequence s JOIN pg_class c ON c.oid = s.seqrelid WHERE c.relnamespace = $1::regnamespace
			AND NOT EXISTS (SELECT FROM pg_depend i WHERE i.objid = c.oid AND i.classid = 'pg_class'::regclass AND i.deptype = 'i')` + own("c.oid", "pg_class") + ` ORDER BY c.relname`},
		{"partitions", beforeRows, `SELECT format('ALTER TABLE %I ATTACH PARTITION %I %s;', p.relname, c.relname, pg_get_expr(c.relpartbound, c.oid)), 'pg_class', c.oid FROM pg_class c JOIN pg_inherits i ON i.inhrelid = c.oid
			JOIN pg_class p ON p.oid = i.inhparent WHERE c.relispartition AND c.relkind IN ('r', 'p') AND c.relnamespace = $1::regnamespace ORDER BY c.relname`},
		{"inheritance", beforeRows, `SELECT format('ALTER TABLE %I INHERIT %I;', c.relname, p.relname), 'pg_class', c.oid FROM pg_class c JOIN pg_inherits i ON i.inhrelid = c.oid
			JOIN pg_class p ON p.oid = i.inhparent WHERE NOT c.relispartition AND c.relkind = 'r' AND c.relnamespace = $1::regnamespace AND p.relnamespace = c.relnamespace
			AND NOT EXISTS (SELECT FROM pg_attribute h WHERE h.attrelid = c.oid AND h.attnum > 0 AND NOT h.attisdropped AND NOT h.attislocal) ORDER BY c.relname, i.inhseqno`},
		{"inherited columns", beforeRows, `SELECT format('ALTER TABLE ONLY %I ALTER COLUMN %I SET DEFAULT %s;', c.relname, a.attname, pg_get_expr(f.adbin, f.adrelid)), 'pg_class', c.oid FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0
			JOIN pg_attrdef f ON f.adrelid = c.oid AND f.adnum = a.attnum WHERE c.relkind = 'r' AND NOT c.relispartition AND NOT a.attislocal AND NOT a.attisdropped AND a.attgenerated = '' AND c.relnamespace = $1::regnamespace ORDER BY c.relname, a.attnum`},
		{"owned sequences", beforeRows, `SELECT format('ALTER SEQUENCE %I OWNED BY %I.%I;', s.relname, t.relname, a.attname), 'pg_class', s.oid FROM pg_depend d JOIN pg_class s ON s.oid = d.objid AND s.relkind = 'S'
			JOIN pg_class t ON t.oid = d.refobjid JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = d.refobjsubid
			WHERE d.deptype = 'a' AND d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass AND s.relnamespace = $1::regnamespace ORDER BY s.relname`},
		{"sequence values", afterRows, `SELECT format('SELECT setval(%L, %s, %s);', quote_ident(s.sequencename), coalesce(s.last_value, s.start_value), CASE WHEN s.last_value IS NULL THEN 'false' ELSE 'true' END),
			CASE WHEN EXISTS (SELECT FROM pg_depend i WHERE i.objid = c.oid AND i.classid = 'pg_class'::regclass AND i.deptype = 'i') THEN 'pg_class' ELSE '' END, c.oid
			FROM pg_sequences s JOIN pg_class c ON c.relname = s.sequencename AND c.relnamespace = $1::text::regnamespace WHERE s.schemaname = $1::text ORDER BY s.sequencename`},
		{"keys", afterRows, constraints(`c.contype IN ('p', 'u', 'x', 'c')`)},
		{"indexes", afterRows, `SELECT replace(pg_get_indexdef(i.indexrelid), ' ON ONLY ', ' ON ') || ';', 'pg_class', i.indexrelid FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_class t ON t.oid = i.indrelid WHERE c.relnamespace = $1::regnamespace AND t.relkind IN ('r', 'p')
			AND NOT EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x')) AND NOT c.relispartition ORDER BY c.relname`},
		{"foreign keys", afterRows, constraints(`c.contype = 'f'`)},
		{"statistics", afterRows, `SELECT pg_get_statisticsobjdef(s.oid) || ';', 'pg_statistic_ext', s.oid FROM pg_statistic_ext s WHERE s.stxnamespace = $1::regnamespace ORDER BY s.stxname`},
		{"indexes on views", afterObjects, `SELECT pg_get_indexdef(i.indexrelid) || ';', 'pg_class', i.indexrelid FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_class t ON t.oid = i.indrelid WHERE c.relnamespace = $1::regnamespace AND t.relkind = 'm' ORDER BY c.relname`},
		{"triggers", afterObjects, `SELECT pg_get_triggerdef(t.oid) || ';', 'pg_trigger', t.oid FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid WHERE NOT t.tgisinternal AND t.tgparentid = 0 AND c.relnamespace = $1::regnamespace ORDER BY c.relname, t.tgname`},
		{"switched triggers", afterObjects, `SELECT format('ALTER TABLE %I %s TRIGGER %I;', c.relname, CASE t.tgenabled WHEN 'D' THEN 'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END, t.tgname), 'pg_trigger', t.oid
			FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid WHERE NOT t.tgisinternal AND t.tgenabled <> 'O' AND t.tgparentid = 0 AND c.relnamespace = $1::regnamespace ORDER BY c.relname, t.tgname`},
		{"rules", afterObjects, `SELECT pg_get_ruledef(r.oid), 'pg_rewrite', r.oid FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class WHERE r.rulename <> '_RETURN' AND c.relnamespace = $1::regnamespace ORDER BY c.relname, r.rulename`},
		{"comments", afterObjects, `SELECT format('COMMENT ON %s %I%s IS %L;', CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'i' THEN 'INDEX' ELSE CASE WHEN d.objsubid > 0 THEN 'COLUMN' ELSE 'TABLE' END END,
			c.relname, coalesce('.' || quote_ident(a.attname), ''), d.description), 'pg_class', c.oid FROM pg_description d JOIN pg_class c ON c.oid = d.objoid AND d.classoid = 'pg_class'::regclass
			LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = d.objsubid AND d.objsubid > 0 WHERE c.relnamespace = $1::regnamespace AND c.relkind IN ('r', 'p', 'v', 'm', 'S', 'i')` + own("c.oid", "pg_class") + ` ORDER BY c.relname, d.objsubid`},
		{"comments on routines", afterObjects, `SELECT format('COMMENT ON %s %I(%s) IS %L;', CASE p.prokind WHEN 'p' THEN 'PROCEDURE' WHEN 'a' THEN 'AGGREGATE' ELSE 'FUNCTION' END, p.proname, CASE WHEN p.prokind = 'a' THEN coalesce(nullif(pg_get_function_identity_arguments(p.oid), ''), '*') ELSE pg_get_function_identity_arguments(p.oid) END, d.description), 'pg_proc', p.oid
			FROM pg_description d JOIN pg_proc p ON p.oid = d.objoid AND d.classoid = 'pg_proc'::regclass WHERE p.pronamespace = $1::regnamespace` + notMade + ` ORDER BY p.proname, 1`},
		{"comments on types", afterObjects, `SELECT format('COMMENT ON %s %I IS %L;', CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END, t.typname, d.description), 'pg_type', t.oid
			FROM pg_description d JOIN pg_type t ON t.oid = d.objoid AND d.classoid = 'pg_type'::regclass WHERE t.typnamespace = $1::regnamespace` + own("t.oid", "pg_type") + ` ORDER BY t.typname`},
		{"comments on constraints", afterObjects, `SELECT format('COMMENT ON CONSTRAINT %I ON %I IS %L;', k.conname, c.relname, d.description), 'pg_constraint', k.oid
			FROM pg_description d JOIN pg_constraint k ON k.oid = d.objoid AND d.classoid = 'pg_constraint'::regclass JOIN pg_class c ON c.oid = k.conrelid WHERE c.relnamespace = $1::regnamespace ORDER BY c.relname, k.conname`},
		{"comments on triggers", afterObjects, `SELECT format('COMMENT ON TRIGGER %I ON %I IS %L;', g.tgname, c.relname, d.description), 'pg_trigger', g.oid
			FROM pg_description d JOIN pg_trigger g ON g.oid = d.objoid AND d.classoid = 'pg_trigger'::regclass JOIN pg_class c ON c.oid = g.tgrelid WHERE c.relnamespace = $1::regnamespace AND g.tgparentid = 0 ORDER BY c.relname, g.tgname`},
	}
}

func constraints(which string) string {
	return `SELECT format('ALTER TABLE %s%I ADD CONSTRAINT %I %s;', CASE WHEN t.relkind = 'p' OR c.contype = 'f' OR c.contype = 'c' AND NOT c.connoinherit THEN '' ELSE 'ONLY ' END, t.relname, c.conname, pg_get_constraintdef(c.oid)), 'pg_constraint', c.oid FROM pg_constraint c JOIN pg_class t ON t.oid = c.conrelid
		WHERE ` + which + ` AND c.connamespace = $1::regnamespace AND c.conparentid = 0 AND c.coninhcount = 0` + own("c.oid", "pg_constraint") + ` ORDER BY c.contype <> 'p', t.relname, c.conname`
}

func (d *describer) describe(ctx context.Context) error {
	var ident string
	if err := d.conn.QueryRow(ctx, "SELECT quote_ident($1)", d.schema).Scan(&ident); err != nil {
		return err
	}
	write := func(to *strings.Builder, text string) { to.WriteString(relative(text, ident+".") + "\n") }
	objects, err := d.listObjects(ctx)
	if err != nil {
		return fmt.Errorf("describe the schema: %w", err)
	}
	sorted := order(objects)
	unsaved, err := d.withoutWhatIsNotSaved(ctx, sorted)
	if err != nil {
		return fmt.Errorf("describe the schema: %w", err)
	}
	var functions, views []string
	done := beforeObjects
	for _, st := range d.steps() {
		texts, err := d.statements(ctx, st, unsaved)
		if err != nil {
			return fmt.Errorf("describe %s: %w", st.what, err)
		}
		into := &d.early
		if st.when >= afterRows {
			into = &d.late
		}
		for ; done < st.when; done++ {
			switch done {
			case beforeObjects:
				functions, views = d.arrange(sorted, write)
			case beforeRows:
				texts = append(functions, texts...)
			case afterRows:
				texts = append(views, texts...)
			}
		}
		for _, text := range texts {
			write(into, text)
		}
	}
	if err := d.listTables(ctx); err != nil {
		return err
	}
	d.tables = slices.DeleteFunc(d.tables, func(t *table) bool {
		return slices.ContainsFunc(objects, func(o *object) bool { return o.rank == rankTable && o.name == t.name && !o.saved() })
	})
	return d.findGaps(ctx)
}

// statements are those of a step, without what needs something that is not saved: no
// server would run them, and nothing that comes after them would be restored.
func (d *describer) statements(ctx context.Context, st step, unsaved map[objectID]bool) (texts []string, err error) {
	rows, err := d.written(ctx, st.sql, d.schema)
	if err != nil {
		return nil, err
	}
	var left []objectID
	for _, row := range rows {
		of, err := newObjectID(row[1], row[2])
		if err != nil {
			return nil, err
		}
		if unsaved[of] {
			left = append(left, of)
		} else {
			texts = append(texts, row[0])
		}
	}
	for _, one := range left {
		if err := d.tellLeftOut(ctx, one, unsaved); err != nil {
			return nil, err
		}
	}
	return texts, nil
}

// tellLeftOut notes a gap for what belongs to a table that is saved; where that is not,
// its own gap tells.
func (d *describer) tellLeftOut(ctx context.Context, one objectID, unsaved map[objectID]bool) error {
	rows, err := d.written(ctx, `SELECT pg_describe_object($1::text::regclass, $2::oid, 0), coalesce((SELECT conrelid FROM pg_constraint WHERE oid = $2::oid AND $1 = 'pg_constraint'), (SELECT indrelid FROM pg_index WHERE indexrelid = $2 AND $1 = 'pg_class'),
		(SELECT tgrelid FROM pg_trigger WHERE oid = $2 AND $1 = 'pg_trigger'), (SELECT ev_class FROM pg_rewrite WHERE oid = $2 AND $1 = 'pg_rewrite'), (SELECT stxrelid FROM pg_statistic_ext WHERE oid = $2 AND $1 = 'pg_statistic_ext'), $2)`,
		one.catalogue, strconv.FormatUint(uint64(one.oid), 10))
	if err != nil {
		return err
	}
	on, err := newObjectID("pg_class", rows[0][1])
	gap := database.Gap{Object: rows[0][0], Why: "it uses what is not saved"}
	if err != nil || unsaved[on] || slices.Contains(d.gaps, gap) {
		return err
	}
	d.gaps = append(d.gaps, gap)
	return nil
}

func unquoted(name string) string {
	for t := range sqltext.Tokens(name, sqltext.PostgreSQL) {
		return t.Unquoted()
	}
	return name
}

// relative takes the schema's name, with its dot, off what stands in it, but
// not inside literals and function bodies: the text is to fit any schema.
func relative(text, prefix string) string {
	schema := unquoted(strings.TrimSuffix(prefix, "."))
	var b strings.Builder
	// held is the schema's name, until it is known whether a dot follows.
	held, afterDot := "", false
	for t := range sqltext.Tokens(text, sqltext.PostgreSQL) {
		if held != "" && t.Text == "." {
			held = ""
			continue
		}
		b.WriteString(held)
		held = ""
		if t.Unquoted() == schema && !afterDot && (t.Kind == sqltext.Word || t.Kind == sqltext.Name) {
			held = t.Text
		} else {
			b.WriteString(t.Text)
		}
		afterDot = t.Text == "."
	}
	return b.String() + held
}

func (d *describer) listTables(ctx context.Context) error {
	rows, err := d.conn.Query(ctx, `SELECT c.relname, pg_table_size(c.oid),
		ARRAY(SELECT a.attname::text FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = '' ORDER BY a.attnum),
		ARRAY(SELECT a.attname::text FROM pg_index i, unnest(i.indkey) WITH ORDINALITY k(n, o) JOIN pg_attribute a ON a.attnum = k.n WHERE a.attrelid = c.oid AND i.indrelid = c.oid AND i.indisprimary ORDER BY k.o)
		FROM pg_class c WHERE c.relkind = 'r' AND c.relnamespace = $1::regnamespace`+own("c.oid", "pg_class")+` ORDER BY c.relname`, d.schema)
	if err != nil {
		return fmt.Errorf("list tables: %w", err)
	}
	d.tables, err = pgx.CollectRows(rows, func(r pgx.CollectableRow) (*table, error) {
		t := &table{}
		return t, r.Scan(&t.name, &t.bytes, &t.columns, &t.key)
	})
	return err
}

// Tables implements database.Source.
func (db *Database) Tables(ctx context.Context) ([]database.TableInfo, error) {
	d := &describer{conn: db.conn, schema: db.schema}
	if err := d.listTables(ctx); err != nil {
		return nil, err
	}
	var all []database.TableInfo
	for _, t := range d.tables {
		all = append(all, database.TableInfo{Name: t.name, Bytes: t.bytes})
	}
	return all, nil
}
