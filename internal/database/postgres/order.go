package postgres

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"revlet/internal/database"
)

// This file puts what a schema consists of into an order in which it can be made:
// a view can use a newer view, a domain a function, a table's default a function that
// another table's rows go through. The catalogue of dependencies tells
// (PostgreSQL manual, 53.18 pg_depend). What uses something that is not saved is not
// saved either, and told.

// objectID names an object by its catalogue and number.
type objectID struct {
	catalogue string
	oid       uint32
}

// newObjectID reads an object's number as the server writes it.
func newObjectID(catalogue, oid string) (objectID, error) {
	n, err := strconv.ParseUint(oid, 10, 32)
	if err != nil {
		return objectID{}, fmt.Errorf("%q is no object's number", oid)
	}
	return objectID{catalogue, uint32(n)}, nil
}

// object is one that others may need.
type object struct {
	objectID
	// rank puts those first that as a rule need nothing: types, functions, tables, views.
	rank       int
	kind, name string
	// text makes it; empty for what is not saved.
	text  string
	needs []*object
	// lacking is what it needs and is not saved; made is set once it is in the order.
	lacking *object
	made    bool
}

// The ranks.
const (
	rankType = iota
	rankFunction
	rankTable
	rankView
)

// saved tells whether it can be made again.
func (o *object) saved() bool { return o.text != "" && o.lacking == nil }

// objectStep is a query for objects: catalogue, oid, kind, name and text. $1 is the
// schema, $2 the languages that functions may be in.
type objectStep struct {
	rank int
	sql  string
}

func objectSteps() []objectStep {
	return []objectStep{{rankType, typesQuery}, {rankFunction, functionsQuery}, {rankFunction, aggregatesQuery}, {rankTable, tablesQuery}, {rankView, viewsQuery}, {rankType, otherObjects}}
}

// notMade leaves out functions that an extension or a type has brought along.
const notMade = ` AND NOT EXISTS (SELECT FROM pg_depend x WHERE x.objid = p.oid AND x.classid = 'pg_proc'::regclass AND x.deptype IN ('e', 'i'))`

// Types: enums, domains, composite ones and ranges.
var typesQuery = `SELECT 'pg_type', t.oid, CASE t.typtype WHEN 'd' THEN 'domain' ELSE 'type' END, t.typname::text, CASE t.typtype
	WHEN 'e' THEN format('CREATE TYPE %I AS ENUM (%s);', t.typname, (SELECT string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid))
	WHEN 'd' THEN format('CREATE DOMAIN %I AS %s%s%s%s%s;', t.typname, format_type(t.typbasetype, t.typtypmod), (SELECT format(' COLLATE %s', l.oid::regcollation) FROM pg_collation l JOIN pg_type b ON b.oid = t.typbasetype WHERE l.oid = t.typcollation AND l.oid <> b.typcollation),
		CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END, coalesce(' DEFAULT ' || t.typdefault, ''),
		coalesce((SELECT string_agg(format(' CONSTRAINT %I %s', c.conname, pg_get_constraintdef(c.oid)), '' ORDER BY c.conname) FROM pg_constraint c WHERE c.contypid = t.oid AND c.contype = 'c'), ''))
	WHEN 'c' THEN (SELECT format('CREATE TYPE %I AS (%s);', c.relname, (SELECT string_agg(format('%I %s', a.attname, format_type(a.atttypid, a.atttypmod)), ', ' ORDER BY a.attnum)
		FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped)) FROM pg_class c WHERE c.oid = t.typrelid)
	WHEN 'r' THEN (SELECT CASE WHEN r.rngcanonical <> 0 THEN '' ELSE format('CREATE TYPE %I AS RANGE (SUBTYPE = %s%s%s%s%s);', t.typname, format_type(r.rngsubtype, NULL),
		(SELECT format(', SUBTYPE_OPCLASS = %I.%I', n.nspname, o.opcname) FROM pg_opclass o JOIN pg_namespace n ON n.oid = o.opcnamespace WHERE o.oid = r.rngsubopc AND NOT o.opcdefault),
		(SELECT format(', COLLATION = %s', l.oid::regcollation) FROM pg_collation l JOIN pg_type b ON b.oid = r.rngsubtype WHERE l.oid = r.rngcollation AND l.oid <> b.typcollation),
		CASE WHEN r.rngsubdiff <> 0 THEN format(', SUBTYPE_DIFF = %s', r.rngsubdiff) END,
		(SELECT format(', MULTIRANGE_TYPE_NAME = %I', m.typname) FROM pg_type m WHERE m.oid = (to_jsonb(r)->>'rngmultitypid')::oid)) END FROM pg_range r WHERE r.rngtypid = t.oid)
	ELSE '' END
	FROM pg_type t LEFT JOIN pg_class c ON c.oid = t.typrelid WHERE t.typnamespace = $1::regnamespace AND t.typtype <> 'm' AND (t.typtype <> 'c' OR c.relkind = 'c') AND t.typisdefined
	AND NOT EXISTS (SELECT FROM pg_type e WHERE e.typarray = t.oid)` + own("t.oid", "pg_type") + own("c.oid", "pg_class")

// Functions and procedures in languages whose functions stay within the database.
var functionsQuery = `SELECT 'pg_proc', p.oid, CASE p.prokind WHEN 'p' THEN 'procedure' ELSE 'function' END, p.proname || '(' || pg_get_function_identity_arguments(p.oid) || ')',
	CASE WHEN l.lanname = ANY($2) THEN pg_get_functiondef(p.oid) || ';' ELSE '' END
	FROM pg_proc p JOIN pg_language l ON l.oid = p.prolang WHERE p.pronamespace = $1::regnamespace AND p.prokind IN ('f', 'p', 'w')` + notMade

var aggregatesQuery = `SELECT 'pg_proc', p.oid, 'aggregate', p.proname || '(' || pg_get_function_identity_arguments(p.oid) || ')', CASE WHEN a.aggkind <> 'n' OR a.aggsortop <> 0 THEN '' ELSE
	format('CREATE AGGREGATE %I(%s) (%s);', p.proname, coalesce(nullif(pg_get_function_arguments(p.oid), ''), '*'), concat_ws(', ',
		'SFUNC = ' || a.aggtransfn, 'STYPE = ' || format_type(a.aggtranstype, NULL), 'SSPACE = ' || nullif(a.aggtransspace, 0),
		CASE WHEN a.aggfinalfn <> 0 THEN 'FINALFUNC = ' || a.aggfinalfn END, CASE WHEN a.aggfinalextra THEN 'FINALFUNC_EXTRA' END,
		'FINALFUNC_MODIFY = ' || CASE a.aggfinalmodify WHEN 'r' THEN 'READ_ONLY' WHEN 's' THEN 'SHAREABLE' ELSE 'READ_WRITE' END,
		CASE WHEN a.aggcombinefn <> 0 THEN 'COMBINEFUNC = ' || a.aggcombinefn END, CASE WHEN a.aggserialfn <> 0 THEN 'SERIALFUNC = ' || a.aggserialfn END,
		CASE WHEN a.aggdeserialfn <> 0 THEN 'DESERIALFUNC = ' || a.aggdeserialfn END, 'INITCOND = ' || quote_literal(a.agginitval),
		CASE WHEN a.aggmtransfn <> 0 THEN 'MSFUNC = ' || a.aggmtransfn END, CASE WHEN a.aggminvtransfn <> 0 THEN 'MINVFUNC = ' || a.aggminvtransfn END,
		CASE WHEN a.aggmtranstype <> 0 THEN 'MSTYPE = ' || format_type(a.aggmtranstype, NULL) END, 'MSSPACE = ' || nullif(a.aggmtransspace, 0),
		CASE WHEN a.aggmfinalfn <> 0 THEN 'MFINALFUNC = ' || a.aggmfinalfn END, CASE WHEN a.aggmfinalextra THEN 'MFINALFUNC_EXTRA' END,
		CASE WHEN a.aggmtransfn <> 0 THEN 'MFINALFUNC_MODIFY = ' || CASE a.aggmfinalmodify WHEN 'r' THEN 'READ_ONLY' WHEN 's' THEN 'SHAREABLE' ELSE 'READ_WRITE' END END,
		'MINITCOND = ' || quote_literal(a.aggminitval), 'PARALLEL = ' || CASE p.proparallel WHEN 's' THEN 'SAFE' WHEN 'r' THEN 'RESTRICTED' ELSE 'UNSAFE' END)) END
	FROM pg_proc p JOIN pg_aggregate a ON a.aggfnoid = p.oid WHERE p.pronamespace = $1::regnamespace` + notMade

var tablesQuery = `SELECT 'pg_class', c.oid, 'table', c.relname::text, format('CREATE %sTABLE %I (%s)%s;', CASE c.relpersistence WHEN 'u' THEN 'UNLOGGED ' ELSE '' END, c.relname, coalesce((SELECT string_agg(E'\n  ' || format('%I %s', a.attname, format_type(a.atttypid, a.atttypmod))
	|| CASE WHEN a.attcollation <> t.typcollation AND a.attcollation <> 0 THEN ' COLLATE ' || a.attcollation::regcollation ELSE '' END
	|| CASE WHEN a.attgenerated = 's' THEN ' GENERATED ALWAYS AS (' || pg_get_expr(f.adbin, f.adrelid) || ') STORED'
		WHEN a.attidentity <> '' THEN ' GENERATED ' || CASE a.attidentity WHEN 'a' THEN 'ALWAYS' ELSE 'BY DEFAULT' END || ' AS IDENTITY (SEQUENCE NAME ' || q.name || q.options || ')'
		WHEN f.adbin IS NOT NULL THEN ' DEFAULT ' || pg_get_expr(f.adbin, f.adrelid) ELSE '' END
	|| CASE WHEN a.attnotnull THEN ' NOT NULL' ELSE '' END, ',' ORDER BY a.attnum)
	FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_attrdef f ON f.adrelid = a.attrelid AND f.adnum = a.attnum
	LEFT JOIN LATERAL (SELECT quote_ident(sc.relname) AS name, format(' INCREMENT BY %s MINVALUE %s MAXVALUE %s START WITH %s CACHE %s', sq.seqincrement, sq.seqmin, sq.seqmax, sq.seqstart, sq.seqcache) AS options
		FROM pg_depend i JOIN pg_class sc ON sc.oid = i.objid AND sc.relkind = 'S' JOIN pg_sequence sq ON sq.seqrelid = sc.oid
		WHERE i.refobjid = a.attrelid AND i.refobjsubid = a.attnum AND i.deptype = 'i' AND i.classid = 'pg_class'::regclass) q ON true
	WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND (a.attislocal OR c.relispartition)), ''),
	CASE WHEN NOT c.relispartition AND EXISTS (SELECT FROM pg_attribute h WHERE h.attrelid = c.oid AND h.attnum > 0 AND NOT h.attisdropped AND NOT h.attislocal)
		THEN ' INHERITS (' || (SELECT string_agg(i.inhparent::regclass::text, ', ' ORDER BY i.inhseqno) FROM pg_inherits i WHERE i.inhrelid = c.oid) || ')' ELSE '' END ||
	CASE WHEN c.relkind = 'p' THEN ' PARTITION BY ' || pg_get_partkeydef(c.oid) ELSE '' END || coalesce(' WITH (' || array_to_string(c.reloptions, ', ') || ')', ''))
	FROM pg_class c WHERE c.relkind IN ('r', 'p') AND c.relnamespace = $1::regnamespace` + own("c.oid", "pg_class")

var viewsQuery = `SELECT 'pg_class', c.oid, CASE c.relkind WHEN 'm' THEN 'materialized view' ELSE 'view' END, c.relname::text,
	format(E'CREATE %s %I%s AS\n%s%s;', CASE c.relkind WHEN 'm' THEN 'MATERIALIZED VIEW' ELSE 'VIEW' END, c.relname, coalesce(' WITH (' || array_to_string(c.reloptions, ', ') || ')', ''),
		rtrim(pg_get_viewdef(c.oid), ';'), CASE WHEN c.relispopulated THEN '' ELSE ' WITH NO DATA' END)
	FROM pg_class c WHERE c.relkind IN ('v', 'm') AND c.relnamespace = $1::regnamespace` + own("c.oid", "pg_class")

// All else that lies in a schema: operators, collations, foreign tables, what text search
// is made of, and whatever later versions may add.
var otherObjects = `SELECT d.classid::regclass::text, d.objid, o.type, coalesce(o.name, o.identity), '' FROM pg_depend d, LATERAL pg_identify_object(d.classid, d.objid, 0) o
	WHERE d.refclassid = 'pg_namespace'::regclass AND d.refobjid = $1::regnamespace AND d.deptype = 'n' AND d.classid NOT IN ('pg_type'::regclass, 'pg_proc'::regclass, 'pg_statistic_ext'::regclass, 'pg_extension'::regclass)
	AND NOT EXISTS (SELECT FROM pg_class c WHERE c.oid = d.objid AND d.classid = 'pg_class'::regclass AND c.relkind IN ('r', 'p', 'v', 'm', 'S', 'i', 'I', 'c', 't'))
	AND NOT EXISTS (SELECT FROM pg_depend x WHERE x.objid = d.objid AND x.classid = d.classid AND x.deptype = 'e')`

// standsFor maps parts of objects to what they are a part of: a default to its table,
// a row type to its table, an array type to that of its elements.
const standsFor = `SELECT 'pg_attrdef', oid, 'pg_class', adrelid FROM pg_attrdef
	UNION ALL SELECT 'pg_rewrite', oid, 'pg_class', ev_class FROM pg_rewrite WHERE oid >= 16384
	UNION ALL SELECT 'pg_constraint', oid, 'pg_type', contypid FROM pg_constraint WHERE contypid >= 16384
	UNION ALL SELECT 'pg_type', t.oid, 'pg_class', t.typrelid FROM pg_type t JOIN pg_class c ON c.oid = t.typrelid WHERE c.relkind <> 'c' AND t.oid >= 16384
	UNION ALL SELECT 'pg_class', oid, 'pg_type', reltype FROM pg_class WHERE relkind = 'c' AND oid >= 16384
	UNION ALL SELECT 'pg_type', typarray, 'pg_type', oid FROM pg_type WHERE typarray >= 16384
	UNION ALL SELECT 'pg_type', (to_jsonb(r)->>'rngmultitypid')::oid, 'pg_type', rngtypid FROM pg_range r WHERE rngtypid >= 16384 AND to_jsonb(r)->>'rngmultitypid' IS NOT NULL`

const dependencies = `SELECT classid::regclass::text, objid, refclassid::regclass::text, refobjid FROM pg_depend WHERE deptype <> 'e' AND objid >= 16384 AND refobjid >= 16384`

// listObjects reads the objects of the schema and what each needs, in an order that is
// the same for the same objects, whatever their numbers.
func (d *describer) listObjects(ctx context.Context) ([]*object, error) {
	var all []*object
	byID := map[objectID]*object{}
	for _, step := range objectSteps() {
		args := []string{d.schema}
		if strings.Contains(step.sql, "$2") {
			args = append(args, "{"+strings.Join(languages, ",")+"}")
		}
		rows, err := d.written(ctx, step.sql, args...)
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			id, err := newObjectID(row[0], row[1])
			if err != nil {
				return nil, err
			}
			if byID[id] == nil {
				byID[id] = &object{objectID: id, rank: step.rank, kind: row[2], name: row[3], text: row[4]}
				all = append(all, byID[id])
			}
		}
	}
	slices.SortFunc(all, func(a, b *object) int {
		if a.rank != b.rank {
			return a.rank - b.rank
		}
		return strings.Compare(a.name+" "+a.kind, b.name+" "+b.kind)
	})
	return all, d.readNeeds(ctx, byID)
}

func (d *describer) readNeeds(ctx context.Context, byID map[objectID]*object) error {
	whole := map[objectID]objectID{}
	err := d.eachPair(ctx, standsFor, func(part, of objectID) { whole[part] = of })
	if err != nil {
		return err
	}
	find := func(id objectID) *object {
		for range 4 { // an array of a table's rows, as a default
			if o := byID[id]; o != nil {
				return o
			}
			id = whole[id]
		}
		return nil
	}
	return d.eachPair(ctx, dependencies, func(from, to objectID) {
		a, b := find(from), find(to)
		if a != nil && b != nil && a != b && !slices.Contains(a.needs, b) {
			a.needs = append(a.needs, b)
		}
	})
}

// withoutWhatIsNotSaved are all objects and parts of objects that are not saved, or depend on
// such, whatever they are: keys, indexes, triggers, rules, sequences of a column.
func (d *describer) withoutWhatIsNotSaved(ctx context.Context, all []*object) (map[objectID]bool, error) {
	dependents := map[objectID][]objectID{}
	if err := d.eachPair(ctx, dependencies, func(from, to objectID) { dependents[to] = append(dependents[to], from) }); err != nil {
		return nil, err
	}
	unsaved := map[objectID]bool{}
	var spread func(id objectID)
	spread = func(id objectID) {
		if unsaved[id] {
			return
		}
		unsaved[id] = true
		for _, d := range dependents[id] {
			spread(d)
		}
	}
	for _, o := range all {
		if !o.saved() {
			spread(o.objectID)
		}
	}
	return unsaved, nil
}

func (d *describer) eachPair(ctx context.Context, query string, visit func(a, b objectID)) error {
	rows, err := d.conn.Query(ctx, query)
	if err != nil {
		return err
	}
	var a, b objectID
	_, err = pgx.ForEachRow(rows, []any{&a.catalogue, &a.oid, &b.catalogue, &b.oid}, func() error { visit(a, b); return nil })
	return err
}

// order sorts objects so that each comes after what it needs. Where they need each
// other in a circle, it is broken somewhere.
func order(all []*object) (sorted []*object) {
	var visit func(o *object, path []*object)
	visit = func(o *object, path []*object) {
		if o.made || slices.Contains(path, o) {
			return
		}
		needs := slices.Clone(o.needs)
		slices.SortFunc(needs, func(a, b *object) int { return slices.Index(all, a) - slices.Index(all, b) })
		for _, n := range needs {
			visit(n, append(path, o))
		}
		o.made = true
		for _, n := range o.needs {
			if !n.saved() && o.lacking == nil {
				o.lacking = n
			}
		}
		sorted = append(sorted, o)
	}
	for _, o := range all {
		visit(o, nil)
	}
	return sorted
}

// reaches tells whether an object needs one of a rank, itself or through others.
func (o *object) reaches(rank int, seen map[*object]bool) bool {
	if seen[o] {
		return false
	}
	seen[o] = true
	return slices.ContainsFunc(o.needs, func(n *object) bool { return n.rank == rank || n.reaches(rank, seen) })
}

// arrange writes what can be made before there are rows into early, and returns what
// comes after them: functions on tables, and views with the functions on those.
func (d *describer) arrange(sorted []*object, write func(to *strings.Builder, text string)) (functions, views []string) {
	first := map[*object]bool{}
	var need func(o *object)
	need = func(o *object) {
		if !first[o] {
			first[o] = true
			for _, n := range o.needs {
				need(n)
			}
		}
	}
	for _, o := range sorted {
		onRelations := o.reaches(rankTable, map[*object]bool{}) || o.reaches(rankView, map[*object]bool{})
		if o.rank == rankType || o.rank == rankTable || o.rank == rankFunction && !onRelations {
			need(o)
		}
	}
	for _, o := range sorted {
		switch {
		case !o.saved():
			d.gaps = append(d.gaps, o.gap())
		case first[o]:
			write(&d.early, o.text)
		case o.rank == rankFunction && !o.reaches(rankView, map[*object]bool{}):
			functions = append(functions, o.text)
		default:
			views = append(views, o.text)
		}
	}
	return functions, views
}

// gap says why an object is not saved.
func (o *object) gap() database.Gap {
	name := o.kind + " " + o.name
	if o.lacking != nil {
		return database.Gap{Object: name, Why: fmt.Sprintf("it uses %s %s, which is not saved", o.lacking.kind, o.lacking.name)}
	}
	return database.Gap{Object: name, Why: "this kind of object is not saved"}
}

// unsavedKinds are what belongs to tables, or to the database as a whole, and is not saved.
const unsavedKinds = `SELECT 'policies of table ' || c.relname, 'who may see which rows is not saved' FROM pg_class c WHERE c.relnamespace = $1::regnamespace
	AND (c.relrowsecurity OR EXISTS (SELECT FROM pg_policy p WHERE p.polrelid = c.oid))
	UNION ALL SELECT count(*) || ' large objects', 'data outside tables is not saved' FROM pg_largeobject_metadata HAVING count(*) > 0
	UNION ALL SELECT 'event trigger ' || t.evtname, 'it belongs to the whole database' FROM pg_event_trigger t WHERE true %s
	UNION ALL SELECT 'publication ' || pubname, 'it belongs to the whole database' FROM pg_publication
	UNION ALL SELECT 'foreign server ' || s.srvname, 'it belongs to the whole database' FROM pg_foreign_server s WHERE true %s
	UNION ALL SELECT 'language ' || l.lanname, 'it belongs to the whole database' FROM pg_language l WHERE l.oid >= 16384 %s
	UNION ALL SELECT 'cast from ' || format_type(k.castsource, NULL) || ' to ' || format_type(k.casttarget, NULL), 'it belongs to the whole database' FROM pg_cast k WHERE k.oid >= 16384 AND NOT EXISTS (SELECT FROM pg_depend i WHERE i.objid = k.oid AND i.classid = 'pg_cast'::regclass AND i.deptype IN ('e', 'i'))
	UNION ALL SELECT 'default privileges', 'who may do what is not saved' FROM pg_default_acl WHERE defaclnamespace IN (0, $1::regnamespace) HAVING count(*) > 0
	UNION ALL SELECT 'settings of database ' || current_database(), 'they belong to the whole database' FROM pg_db_role_setting WHERE setdatabase = (SELECT oid FROM pg_database WHERE datname = current_database()) HAVING count(*) > 0
	ORDER BY 1`

// findGaps names what lies in the database and is not saved.
func (d *describer) findGaps(ctx context.Context) error {
	rows, err := d.conn.Query(ctx, fmt.Sprintf(unsavedKinds, own("t.oid", "pg_event_trigger"), own("s.oid", "pg_foreign_server"), own("l.oid", "pg_language")), d.schema)
	if err != nil {
		return fmt.Errorf("look for what is not saved: %w", err)
	}
	var g database.Gap
	if _, err := pgx.ForEachRow(rows, []any{&g.Object, &g.Why}, func() error { d.gaps = append(d.gaps, g); return nil }); err != nil {
		return fmt.Errorf("look for what is not saved: %w", err)
	}
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
