package postgres

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"revlet/internal/database"
	"revlet/internal/database/sqltext"
)

// This file is the one gate for SQL that a server is to run and that Revlet did not
// compose itself: parts of archives, and dumps of other programs. Statements are read
// as tokens against a list of what may pass. A dump runs in one transaction, and before
// that is committed the server is asked what it touches (bystanders): a function of
// the dump's own may have done more than its statements say.

// kind is what becomes of a statement.
type kind int

const (
	kindRefused kind = iota
	// kindDefinition makes or completes something in the staging schema.
	kindDefinition
	// kindPassed is not run, and need not be: about owners, rights, other places.
	kindPassed
	// kindRows gives literals to a table, kindCopy is a COPY that rows follow, kindValue
	// sets the last number of a sequence.
	kindRows
	kindCopy
	kindValue
)

// statement is what the gate knows of one.
type statement struct {
	kind   kind
	tokens []sqltext.Token
	// on is the place, from 1, of the token that names the table or sequence that it
	// changes; 0 if there is none.
	on int
}

// in is the statement with its table's or sequence's name in a schema, whatever the
// search path says.
func (s statement) in(schema string) string {
	all := slices.Clone(s.tokens)
	if s.on > 0 {
		t := &all[s.on-1]
		if t.Kind == sqltext.String {
			t.Text = "'" + strings.ReplaceAll(quote(schema), "'", "''") + "." + t.Text[1:]
		} else {
			t.Text = quote(schema) + "." + t.Text
		}
	}
	return sqltext.Write(all, false)
}

func newReader(stmt string) *sqltext.Reader {
	return sqltext.NewReader(slices.Collect(sqltext.Tokens(stmt, sqltext.PostgreSQL)))
}

// judge tells what a statement of a dump is. Names have no schema any more.
func judge(stmt string) statement {
	if s := judgeDefinition(stmt); s.kind != kindRefused {
		return s
	}
	r := newReader(stmt)
	s := statement{tokens: r.Tokens}
	switch {
	case r.TakeOne("SET", "GRANT", "REVOKE", "BEGIN", "COMMIT"), r.Take("START", "TRANSACTION"), r.Take("ALTER", "DEFAULT", "PRIVILEGES"),
		r.Take("COMMENT", "ON", "EXTENSION"), r.Take("COMMENT", "ON", "SCHEMA"), r.Take("COMMENT", "ON", "DATABASE"):
		return statement{kind: kindPassed}
	case r.TakeOne("CREATE", "DROP", "ALTER"):
		return judgePlace(r)
	case r.Take("SELECT", "pg_catalog", ".", "set_config"):
		if _, ok := r.Parens(); ok && r.End() {
			return statement{kind: kindPassed}
		}
	case r.Take("COPY"):
		s.on = r.Place() + 1
		_, ok := r.Name()
		if r.Peek().Is("(") {
			_, columns := r.Parens()
			ok = ok && columns
		}
		if ok && r.Take("FROM", "stdin") && r.End() {
			return s.as(kindCopy)
		}
	case r.Take("INSERT", "INTO"):
		if s.on = r.Place() + 1; insertsLiterals(r) {
			return s.as(kindRows)
		}
	case r.Take("REFRESH", "MATERIALIZED", "VIEW"):
		s.on = r.Place() + 1
		if _, ok := r.Name(); ok && r.End() {
			return s.as(kindDefinition)
		}
	}
	return statement{}
}

func (s statement) as(k kind) statement {
	s.kind = k
	return s
}

// judgePlace reads on after CREATE, DROP or ALTER: schemas, databases and owners are
// the restoring side's, and what a dump drops first is not in the staging schema.
func judgePlace(r *sqltext.Reader) statement {
	if r.TakeOne("SCHEMA", "DATABASE") {
		return statement{kind: kindPassed}
	}
	r.Reset(0)
	if r.Take("DROP") {
		if r.TakeOne("TABLE", "SEQUENCE", "VIEW", "INDEX", "TYPE", "DOMAIN", "FUNCTION", "PROCEDURE", "AGGREGATE", "TRIGGER", "RULE", "POLICY", "STATISTICS", "EXTENSION") || r.Take("MATERIALIZED", "VIEW") {
			return statement{kind: kindPassed}
		}
		return statement{}
	}
	if !r.Take("ALTER") {
		return statement{}
	}
	if mark := r.Mark(); r.Take("TABLE") {
		// What a dump takes off before it drops all.
		r.Take("IF", "EXISTS")
		r.Take("ONLY")
		_, ok := r.Name()
		if ok && r.Take("DROP", "CONSTRAINT") {
			return statement{kind: kindPassed}
		}
		if ok && r.Take("ALTER", "COLUMN") {
			if _, ok := r.Name(); ok && r.Take("DROP", "DEFAULT") && r.End() {
				return statement{kind: kindPassed}
			}
		}
		r.Reset(mark)
	}
	for !r.End() {
		if r.Take("OWNER", "TO") {
			_, ok := r.Name()
			if ok && r.End() {
				return statement{kind: kindPassed}
			}
			return statement{}
		}
		r.Next()
	}
	return statement{}
}

// makers are what CREATE may make in a schema.
var makers = [][]string{{"TYPE"}, {"DOMAIN"}, {"SEQUENCE"}, {"FUNCTION"}, {"PROCEDURE"}, {"AGGREGATE"}, {"UNLOGGED", "TABLE"}, {"TABLE"}, {"UNIQUE", "INDEX"}, {"INDEX"},
	{"VIEW"}, {"MATERIALIZED", "VIEW"}, {"CONSTRAINT", "TRIGGER"}, {"TRIGGER"}, {"RULE"}, {"POLICY"}, {"STATISTICS"}}

// judgeDefinition tells whether a statement is one that parts of kind schema and
// objects consist of.
func judgeDefinition(stmt string) statement {
	r := newReader(stmt)
	s := statement{tokens: r.Tokens}
	named := func() bool {
		s.on = r.Place() + 1
		_, ok := r.Name()
		return ok
	}
	ok := false
	switch {
	case r.Take("CREATE", "EXTENSION", "IF", "NOT", "EXISTS"):
		var name string
		name, ok = r.Name()
		r.Take("WITH")
		if r.Take("SCHEMA") {
			r.Next()
		}
		ok = ok && r.End() && !slices.ContainsFunc(untrusted, func(u string) bool { return strings.Contains(strings.ToLower(name), u) })
	case r.Take("CREATE"):
		ok = creates(r)
	case r.Take("ALTER", "TABLE"):
		r.Take("IF", "EXISTS")
		r.Take("ONLY")
		ok = named() && oneAction(r) && alters(r)
	case r.Take("ALTER", "SEQUENCE"):
		ok = named() && r.Take("OWNED", "BY")
	case r.Take("ALTER", "INDEX"):
		ok = named() && r.Take("ATTACH", "PARTITION")
	case r.Take("SELECT"):
		r.Take("pg_catalog", ".")
		if r.Take("setval") {
			s.on = r.Place() + 2
			if setsValue(r) {
				return s.as(kindValue)
			}
		}
	case r.Take("COMMENT", "ON"):
		ok = r.TakeOne("TABLE", "COLUMN", "INDEX", "SEQUENCE", "VIEW", "FUNCTION", "PROCEDURE", "AGGREGATE", "TYPE", "DOMAIN", "CONSTRAINT", "TRIGGER", "RULE", "POLICY", "STATISTICS") || r.Take("MATERIALIZED", "VIEW")
	}
	if !ok {
		return statement{}
	}
	return s.as(kindDefinition)
}

// untrusted are languages whose functions do what the server's own account may do.
var untrusted = []string{"plpython", "plperlu", "plpythonu", "pltclu", "plsh", "dblink", "file_fdw", "adminpack", "postgres_fdw"}

// languages are those whose functions stay within the database.
var languages = []string{"sql", "plpgsql", "plperl", "pltcl", "plv8"}

// creates tells whether what follows CREATE is a definition, and no query, no other
// table's rows, and no function that leaves the database.
func creates(r *sqltext.Reader) bool {
	r.Take("OR", "REPLACE")
	i := slices.IndexFunc(makers, func(m []string) bool { return r.Take(m...) })
	if i < 0 {
		return false
	}
	r.Take("IF", "NOT", "EXISTS")
	_, named := r.Name()
	switch makers[i][len(makers[i])-1] {
	case "TABLE":
		return named && (r.Peek().Is("(") || r.Take("PARTITION", "OF") || r.Take("OF")) && !has(r, "SELECT", "TABLE", "EXECUTE", "TABLESPACE")
	case "FUNCTION", "PROCEDURE":
		return inLanguages(r)
	case "AGGREGATE":
		return !has(r, "SELECT")
	}
	return true
}

// has tells whether one of several words stands further on, and goes back.
func has(r *sqltext.Reader, words ...string) bool {
	mark := r.Mark()
	defer r.Reset(mark)
	for !r.End() {
		if t := r.Next(); slices.ContainsFunc(words, t.Is) {
			return true
		}
	}
	return false
}

// inLanguages tells whether a function says that it is in a language that may be used.
func inLanguages(r *sqltext.Reader) bool {
	mark := r.Mark()
	defer r.Reset(mark)
	said := false
	for !r.End() {
		if !r.Take("LANGUAGE") {
			r.Next()
			continue
		}
		t := r.Next()
		name := strings.ToLower(strings.Trim(t.Text, `'"`))
		if !slices.Contains(languages, name) {
			return false
		}
		said = true
	}
	return said
}

// oneAction tells whether an ALTER TABLE does one thing only, and goes back: another
// might follow after a comma.
func oneAction(r *sqltext.Reader) bool {
	mark, depth := r.Mark(), 0
	defer r.Reset(mark)
	for !r.End() {
		switch t := r.Next(); {
		case t.Is("("), t.Is("["):
			depth++
		case t.Is(")"), t.Is("]"):
			depth--
		case t.Is(",") && depth == 0:
			return false
		}
	}
	return true
}

// alters tells whether what follows ALTER TABLE t completes a definition.
func alters(r *sqltext.Reader) bool {
	switch {
	case r.Take("ADD", "CONSTRAINT"), r.Take("ADD", "GENERATED"), r.Take("ATTACH", "PARTITION"), r.Take("INHERIT"), r.Take("CLUSTER", "ON"), r.Take("REPLICA", "IDENTITY"),
		r.Take("ENABLE", "ROW", "LEVEL", "SECURITY"), r.Take("FORCE", "ROW", "LEVEL", "SECURITY"):
		return !has(r, "SELECT")
	case r.Take("DISABLE", "TRIGGER"), r.Take("ENABLE", "REPLICA", "TRIGGER"), r.Take("ENABLE", "ALWAYS", "TRIGGER"):
		one := !r.Peek().Is("ALL") && !r.Peek().Is("USER")
		_, ok := r.Name()
		return one && ok && r.End()
	case r.Take("ALTER", "COLUMN"):
		_, ok := r.Name()
		return ok && (r.Take("SET", "DEFAULT") || r.Take("SET", "STORAGE") || r.Take("SET", "STATISTICS") || r.Take("SET", "NOT", "NULL") || r.Take("SET", "COMPRESSION") ||
			r.Take("ADD", "GENERATED")) && !has(r, "SELECT")
	}
	return false
}

// setsValue passes over ('name', number, true) of setval.
func setsValue(r *sqltext.Reader) bool {
	inner, ok := r.Parens()
	if !ok || !r.End() || len(inner) == 0 || inner[0].Kind != sqltext.String || !strings.HasPrefix(inner[0].Text, "'") {
		return false
	}
	v := sqltext.NewReader(inner[1:])
	ok = v.Take(",")
	v.Take("-")
	ok = ok && v.Next().Number()
	if v.Take(",") {
		ok = ok && v.TakeOne("true", "false")
	}
	name := strings.ReplaceAll(inner[0].Text[1:len(inner[0].Text)-1], "''", "'")
	one := newReader(name)
	_, named := one.Name()
	return ok && v.End() && named && one.End()
}

// insertsLiterals tells whether an INSERT gives nothing but literals to a table.
func insertsLiterals(r *sqltext.Reader) bool {
	if _, ok := r.Name(); !ok {
		return false
	}
	if r.Peek().Is("(") {
		r.Parens()
	}
	r.Take("OVERRIDING", "SYSTEM", "VALUE")
	if !r.Take("VALUES") {
		return false
	}
	for {
		inner, ok := r.Parens()
		if !ok || !literals(inner) {
			return false
		}
		if !r.Take(",") {
			r.Take("ON", "CONFLICT", "DO", "NOTHING")
			return r.End()
		}
	}
}

var (
	numeral       = regexp.MustCompile(`^(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?$`)
	numeralBegins = regexp.MustCompile(`^\d*\.?\d*(?:[eE](?:[-+]?\d*)?)?$`)
)

// isNumeral passes over the rest of a number, which is of several tokens if it has a
// fraction or a signed exponent.
func isNumeral(r *sqltext.Reader, text string) bool {
	for !r.End() && numeralBegins.MatchString(text+r.Peek().Text) {
		text += r.Next().Text
	}
	return numeral.MatchString(text)
}

// literals tells whether tokens are literals, with casts, and commas between them.
func literals(tokens []sqltext.Token) bool {
	r := sqltext.NewReader(tokens)
	for {
		r.TakeOne("-", "+")
		t := r.Next()
		number := (t.Number() || t.Is(".")) && isNumeral(r, t.Text)
		if word := t.Is("E") || t.Is("B") || t.Is("X") || t.Is("N"); word {
			t = r.Next()
		}
		if !number && t.Kind != sqltext.String && !slices.ContainsFunc([]string{"NULL", "TRUE", "FALSE", "DEFAULT"}, t.Is) {
			return false
		}
		for r.Take(":", ":") {
			if _, ok := r.Name(); !ok {
				return false
			}
			if r.Take(".") {
				r.Name()
			}
			r.Take("[", "]")
		}
		if r.End() {
			return true
		}
		if !r.Take(",") {
			return false
		}
	}
}

// bystanders are what there is outside a schema before a dump is loaded into it: the
// names of relations, functions and types, by object number. What belongs to an
// extension does not count.
type bystanders map[uint32]string

func listBystanders(ctx context.Context, conn *pgx.Conn, schema string) (bystanders, error) {
	found, err := conn.Query(ctx, `SELECT o.oid, n.nspname || '.' || o.name FROM pg_namespace n JOIN (
		SELECT c.oid, c.relname AS name, c.relnamespace AS at FROM pg_class c WHERE c.relkind <> 'i'`+own("c.oid", "pg_class")+`
		UNION ALL SELECT p.oid, p.proname, p.pronamespace FROM pg_proc p WHERE true`+own("p.oid", "pg_proc")+`
		UNION ALL SELECT t.oid, t.typname, t.typnamespace FROM pg_type t WHERE true`+own("t.oid", "pg_type")+`) o ON o.at = n.oid
		WHERE n.nspname <> $1 AND n.nspname NOT IN ('pg_catalog', 'pg_toast', 'information_schema') AND n.nspname NOT LIKE 'pg\_temp%'`, schema)
	if err != nil {
		return nil, err
	}
	all := bystanders{}
	var oid uint32
	var name string
	_, err = pgx.ForEachRow(found, []any{&oid, &name}, func() error { all[oid] = name; return nil })
	return all, err
}

// touched refuses what the transaction of a connection has done to any of them: it
// holds the locks on all that it has changed or dropped until it ends (PostgreSQL
// manual 13.3). What it has made must not need any of them either, for they go aside.
func (b bystanders) touched(ctx context.Context, conn *pgx.Conn, schema string) error {
	if _, err := conn.Exec(ctx, onlyServers); err != nil { // and not what the file has made
		return err
	}
	found, err := conn.Query(ctx, `SELECT COALESCE(relation, objid) FROM pg_locks WHERE pid = pg_backend_pid()
		AND (locktype = 'relation' AND mode NOT IN ('AccessShareLock', 'RowShareLock') OR locktype = 'object' AND mode = 'AccessExclusiveLock')
		UNION SELECT d.refobjid FROM pg_depend d JOIN pg_class c ON c.relnamespace = $1::text::regnamespace AND c.oid = COALESCE(
			(SELECT adrelid FROM pg_attrdef WHERE oid = d.objid AND d.classid = 'pg_attrdef'::regclass), (SELECT ev_class FROM pg_rewrite WHERE oid = d.objid AND d.classid = 'pg_rewrite'::regclass),
			(SELECT conrelid FROM pg_constraint WHERE oid = d.objid AND d.classid = 'pg_constraint'::regclass), (SELECT tgrelid FROM pg_trigger WHERE oid = d.objid AND d.classid = 'pg_trigger'::regclass),
			CASE WHEN d.classid = 'pg_class'::regclass THEN d.objid END)`, quote(schema))
	if err != nil {
		return fmt.Errorf("ask what the SQL file has touched: %w", err)
	}
	oids, err := pgx.CollectRows(found, pgx.RowTo[uint32])
	if err != nil {
		return fmt.Errorf("ask what the SQL file has touched: %w", err)
	}
	var names []string
	for _, oid := range oids {
		if name, ok := b[oid]; ok && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	slices.Sort(names)
	return fmt.Errorf("%w: the file reaches out of what it makes: %s", database.ErrForeignSQL, strings.Join(names, ", "))
}
