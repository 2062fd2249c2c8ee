package postgres

import (
	"context"
	"fmt"
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

// step is one query over the catalogues whose text column holds statements.
// $1 is the schema.
type step struct {
	what string
	late bool
	sql  string
}

// ownOnly leaves out what belongs to an extension.
const ownOnly = ` AND NOT EXISTS (SELECT FROM pg_depend x WHERE x.objid = %s AND x.classid = '%s'::regclass AND x.deptype = 'e')`

func own(column, catalogue string) string { return fmt.Sprintf(ownOnly, column, catalogue) }

// usesTable tells functions that have a table's row type in their signature.
const usesTable = `EXISTS (SELECT FROM pg_depend d JOIN pg_type t ON t.oid = d.refobjid AND d.refclassid = 'pg_type'::regclass
	JOIN pg_class c ON c.oid = t.typrelid AND c.relkind IN ('r', 'v', 'p', 'm') WHERE d.objid = p.oid AND d.classid = 'pg_proc'::regclass)`

func (d *describer) steps() []step {
	functions := func(when string) string {
		return `SELECT pg_get_functiondef(p.oid) || ';' FROM pg_proc p WHERE p.pronamespace = $1::regnamespace AND p.prokind IN ('f', 'p', 'w')` +
			own("p.oid", "pg_proc") + ` AND ` + when + usesTable + ` ORDER BY p.proname, pg_get_function_identity_arguments(p.oid)`
	}
	return []step{
		{"extensions", false, `SELECT format('CREATE EXTENSION IF NOT EXISTS %I;', extname) FROM pg_extension WHERE extname <> 'plpgsql' AND $1 <> '' ORDER BY extname`},
		{"enums", false, `SELECT format('CREATE TYPE %I AS ENUM (%s);', t.typname, string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder))
			FROM pg_type t JOIN pg_enum e ON e.enumtypid = t.oid WHERE t.typnamespace = $1::regnamespace` + own("t.oid", "pg_type") + ` GROUP BY t.oid, t.typname ORDER BY t.typname`},
		{"domains", false, `SELECT format('CREATE DOMAIN %I AS %s%s%s%s;', t.typname, format_type(t.typbasetype, t.typtypmod),
			CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END, coalesce(' DEFAULT ' || t.typdefault, ''),
			coalesce((SELECT string_agg(format(' CONSTRAINT %I %s', c.conname, pg_get_constraintdef(c.oid)), '' ORDER BY c.conname) FROM pg_constraint c WHERE c.contypid = t.oid), ''))
			FROM pg_type t WHERE t.typtype = 'd' AND t.typnamespace = $1::regnamespace` + own("t.oid", "pg_type") + ` ORDER BY t.oid`},
		{"composite types", false, `SELECT format('CREATE TYPE %I AS (%s);', c.relname, (SELECT string_agg(format('%I %s', a.attname, format_type(a.atttypid, a.atttypmod)), ', ' ORDER BY a.attnum)
			FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped)) FROM pg_class c WHERE c.relkind = 'c' AND c.relnamespace = $1::regnamespace` + own("c.oid", "pg_class") + ` ORDER BY c.oid`},
		{"sequences", false, `SELECT format('CREATE SEQUENCE %I AS %s INCREMENT BY %s MINVALUE %s MAXVALUE %s START WITH %s CACHE %s%s;', c.relname, format_type(s.seqtypid, NULL),
			s.seqincrement, s.seqmin, s.seqmax, s.seqstart, s.seqcache, CASE WHEN s.seqcycle THEN ' CYCLE' ELSE '' END)
			FROM pg_sequence s JOIN pg_class c ON c.oid = s.seqrelid WHERE c.relnamespace = $1::regnamespace
			AND NOT EXISTS (SELECT FROM pg_depend i WHERE i.objid = c.oid AND i.classid = 'pg_class'::regclass AND i.deptype = 'i')` + own("c.oid", "pg_class") + ` ORDER BY c.relname`},
		{"functions", false, functions("NOT ")},
		{"tables", false, `SELECT format('CREATE %sTABLE %I (%s)%s;', CASE c.relpersistence WHEN 'u' THEN 'UNLOGGED ' ELSE '' END, c.relname, coalesce((SELECT string_agg(E'\n  ' || format('%I %s', a.attname, format_type(a.atttypid, a.atttypmod))
			|| CASE WHEN a.attcollation <> t.typcollation AND a.attcollation <> 0 THEN (SELECT format(' COLLATE %I', l.collname) FROM pg_collation l WHERE l.oid = a.attcollation) ELSE '' END
			|| CASE WHEN a.attgenerated = 's' THEN ' GENERATED ALWAYS AS (' || pg_get_expr(f.adbin, f.adrelid) || ') STORED'
				WHEN a.attidentity <> '' THEN ' GENERATED ' || CASE a.attidentity WHEN 'a' THEN 'ALWAYS' ELSE 'BY DEFAULT' END || ' AS IDENTITY (SEQUENCE NAME ' || q.name || q.options || ')'
				WHEN f.adbin IS NOT NULL THEN ' DEFAULT ' || pg_get_expr(f.adbin, f.adrelid) ELSE '' END
			|| CASE WHEN a.attnotnull THEN ' NOT NULL' ELSE '' END, ',' ORDER BY a.attnum)
			FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_attrdef f ON f.adrelid = a.attrelid AND f.adnum = a.attnum
			LEFT JOIN LATERAL (SELECT quote_ident(sc.relname) AS name, format(' INCREMENT BY %s MINVALUE %s MAXVALUE %s START WITH %s CACHE %s', sq.seqincrement, sq.seqmin, sq.seqmax, sq.seqstart, sq.seqcache) AS options
				FROM pg_depend i JOIN pg_class sc ON sc.oid = i.objid AND sc.relkind = 'S' JOIN pg_sequence sq ON sq.seqrelid = sc.oid
				WHERE i.refobjid = a.attrelid AND i.refobjsubid = a.attnum AND i.deptype = 'i' AND i.classid = 'pg_class'::regclass) q ON true
			WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped), ''),
			CASE WHEN c.relkind = 'p' THEN ' PARTITION BY ' || pg_get_partkeydef(c.oid) ELSE '' END || coalesce(' WITH (' || array_to_string(c.reloptions, ', ') || ')', ''))
			FROM pg_class c WHERE c.relkind IN ('r', 'p') AND c.relnamespace = $1::regnamespace` + own("c.oid", "pg_class") + ` ORDER BY c.relname`},
		{"partitions", false, `SELECT format('ALTER TABLE %I ATTACH PARTITION %I %s;', p.relname, c.relname, pg_get_expr(c.relpartbound, c.oid)) FROM pg_class c JOIN pg_inherits i ON i.inhrelid = c.oid
			JOIN pg_class p ON p.oid = i.inhparent WHERE c.relispartition AND c.relkind IN ('r', 'p') AND c.relnamespace = $1::regnamespace ORDER BY c.oid`},
		{"owned sequences", false, `SELECT format('ALTER SEQUENCE %I OWNED BY %I.%I;', s.relname, t.relname, a.attname) FROM pg_depend d JOIN pg_class s ON s.oid = d.objid AND s.relkind = 'S'
			JOIN pg_class t ON t.oid = d.refobjid JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = d.refobjsubid
			WHERE d.deptype = 'a' AND d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass AND s.relnamespace = $1::regnamespace ORDER BY s.relname`},
		{"sequence values", true, `SELECT format('SELECT setval(%L, %s, %s);', quote_ident(s.sequencename), coalesce(s.last_value, s.start_value), CASE WHEN s.last_value IS NULL THEN 'false' ELSE 'true' END) FROM pg_sequences s WHERE s.schemaname = $1 ORDER BY s.sequencename`},
		{"keys", true, constraints(`c.contype IN ('p', 'u', 'x', 'c')`)},
		{"indexes", true, `SELECT replace(pg_get_indexdef(i.indexrelid), ' ON ONLY ', ' ON ') || ';' FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_class t ON t.oid = i.indrelid WHERE c.relnamespace = $1::regnamespace AND t.relkind IN ('r', 'p')
			AND NOT EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x')) AND NOT c.relispartition ORDER BY c.relname`},
		{"foreign keys", true, constraints(`c.contype = 'f'`)},
		{"functions on tables", true, functions("")},
		{"views", true, `SELECT format(E'CREATE %s %I%s AS\n%s', CASE c.relkind WHEN 'm' THEN 'MATERIALIZED VIEW' ELSE 'VIEW' END, c.relname, coalesce(' WITH (' || array_to_string(c.reloptions, ', ') || ')', ''), pg_get_viewdef(c.oid)) FROM pg_class c
			WHERE c.relkind IN ('v', 'm') AND c.relnamespace = $1::regnamespace` + own("c.oid", "pg_class") + ` ORDER BY c.oid`},
		{"indexes on views", true, `SELECT pg_get_indexdef(i.indexrelid) || ';' FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_class t ON t.oid = i.indrelid WHERE c.relnamespace = $1::regnamespace AND t.relkind = 'm' ORDER BY c.relname`},
		{"triggers", true, `SELECT pg_get_triggerdef(t.oid) || ';' FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid WHERE NOT t.tgisinternal AND t.tgparentid = 0 AND c.relnamespace = $1::regnamespace ORDER BY c.relname, t.tgname`},
		{"rules", true, `SELECT pg_get_ruledef(r.oid) FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class WHERE r.rulename <> '_RETURN' AND c.relnamespace = $1::regnamespace ORDER BY c.relname, r.rulename`},
		{"comments", true, `SELECT format('COMMENT ON %s %I%s IS %L;', CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'i' THEN 'INDEX' ELSE CASE WHEN d.objsubid > 0 THEN 'COLUMN' ELSE 'TABLE' END END,
			c.relname, coalesce('.' || quote_ident(a.attname), ''), d.description) FROM pg_description d JOIN pg_class c ON c.oid = d.objoid AND d.classoid = 'pg_class'::regclass
			LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = d.objsubid AND d.objsubid > 0 WHERE c.relnamespace = $1::regnamespace AND c.relkind IN ('r', 'p', 'v', 'm', 'S', 'i')` + own("c.oid", "pg_class") + ` ORDER BY c.relname, d.objsubid`},
	}
}

func constraints(which string) string {
	return `SELECT format('ALTER TABLE %s%I ADD CONSTRAINT %I %s;', CASE WHEN t.relkind = 'p' OR c.contype = 'f' THEN '' ELSE 'ONLY ' END, t.relname, c.conname, pg_get_constraintdef(c.oid)) FROM pg_constraint c JOIN pg_class t ON t.oid = c.conrelid
		WHERE ` + which + ` AND c.connamespace = $1::regnamespace AND c.conparentid = 0 AND c.coninhcount = 0` + own("c.oid", "pg_constraint") + ` ORDER BY c.contype <> 'p', t.relname, c.conname`
}

func (d *describer) describe(ctx context.Context) error {
	var ident string
	if err := d.conn.QueryRow(ctx, "SELECT quote_ident($1)", d.schema).Scan(&ident); err != nil {
		return err
	}
	for _, st := range d.steps() {
		texts, err := column(ctx, d.conn, st.sql, d.schema)
		if err != nil {
			return fmt.Errorf("describe %s: %w", st.what, err)
		}
		into := &d.early
		if st.late {
			into = &d.late
		}
		for _, text := range texts {
			into.WriteString(relative(text, ident+".") + "\n")
		}
	}
	if err := d.listTables(ctx); err != nil {
		return err
	}
	return d.findGaps(ctx)
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

// findGaps names what lies in the database and is not saved.
func (d *describer) findGaps(ctx context.Context) error {
	others, err := column(ctx, d.conn, `SELECT n.nspname || ' (' || count(*) || ' tables)' FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p') AND n.nspname <> $1 AND n.nspname !~ '^(pg_|information_schema$|rv_(new|old)_)' GROUP BY n.nspname ORDER BY 1`, d.schema)
	if err != nil {
		return err
	}
	for _, o := range others {
		d.gaps = append(d.gaps, database.Gap{Object: "schema " + o, Why: "only the account's own schema, " + d.schema + ", is saved"})
	}
	return nil
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
