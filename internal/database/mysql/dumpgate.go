package mysql

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"revlet/internal/database"
	"revlet/internal/database/sqltext"
	"revlet/internal/platform/lazy"
	"revlet/internal/platform/reason"
)

// dumpGate says, statement by statement, what of a dump is run in the staging
// database. It follows the session as the client would: which database is used, which
// character set and SQL mode hold; nothing of that is left to the server but what is
// known to be harmless.
type dumpGate struct {
	version serverVersion
	// live is the live database's name, from the one that was asked for, if any.
	live, from string
	// current is the database that the text uses; met are those of which it makes
	// something, taken the one whose statements are let through.
	current string
	met     []string
	taken   string
	// restart is set when what was taken so far has to be thrown away.
	restart bool
	session map[string]string
	saved   map[string]string
	// setBack tells whether the text has set back what its first lines have saved.
	setBack bool
	objects []object
	// place tells under which name a table is staged, and whether its statements are let
	// through; without it, under its own.
	place placing
	// keys are the foreign keys of tables that are staged under other names: their names
	// would be taken, and they would mean live tables.
	keys []database.ForeignKey
	// rows is what the statement that was admitted last does with those of a table.
	rows rowsOf
}

// rowsOf is what a statement does with the rows of a table that is staged: it leaves none, or adds some. Then ignore
// passes over those that cannot be, and replace puts them in the place of others.
type rowsOf struct {
	table                 string
	adds, ignore, replace bool
}

// placing tells under which name a table is staged that a statement uses, makes or
// drops; false passes over the statement.
type placing func(table string, what use) (string, bool)

// use is what a statement does with a table.
type use int

const (
	uses use = iota
	makes
	empties
	drops
)

// staged is the name that a table is staged under.
func (g *dumpGate) staged(table string, what use) (string, bool) {
	if g.place == nil {
		return table, true
	}
	return g.place(table, what)
}

func newDumpGate(version serverVersion, live, from string) *dumpGate {
	return &dumpGate{version: version, live: live, from: from, saved: map[string]string{},
		session: map[string]string{"character_set_client": "utf8mb4", "time_zone": "SYSTEM", "sql_mode": "NO_AUTO_VALUE_ON_ZERO", "system_versioning_insert_history": "0"}}
}

// passedOver begin statements that are not run, and need not be: about a place of the
// dump's own, about locks, transactions and replication.
var passedOver = []string{"LOCK", "UNLOCK", "FLUSH", "START", "STOP", "BEGIN", "COMMIT", "CHANGE"}

// each calls visit, which admits it, for every statement of a dump; each is read in the mode
// that those before it have set.
func (g *dumpGate) each(r io.Reader, visit func(stmt string) error) error {
	s := sqltext.NewSplitter(r, sqltext.MySQL)
	for {
		stmt, err := s.Next()
		if errors.Is(err, io.EOF) {
			return g.settled()
		}
		if err == nil {
			err = visit(stmt)
		}
		if err != nil {
			return err
		}
		s.Under(g.version.dialect)
	}
}

// admit returns what is to be run for a statement, nothing if it is passed over or
// kept for later. The error wraps database.ErrForeignSQL for what is not in the list.
func (g *dumpGate) admit(stmt string) ([]string, error) {
	g.rows = rowsOf{}
	if g.version.dialect != sqltext.MySQL {
		return g.admitObject(stmt)
	}
	if in, ok := readInsert(stmt); in != nil {
		if !ok {
			return nil, foreign(stmt)
		}
		if !g.belongs(in.database) {
			return nil, nil
		}
		if to, ok := g.staged(in.table, uses); ok {
			g.rows = rowsOf{to, true, strings.Contains(in.head, "IGNORE"), strings.HasPrefix(in.head, "REPLACE")}
			return []string{in.into(to)}, nil
		}
		return nil, nil
	}
	tokens := g.version.open(stmt)
	r := newTokenReader(tokens)
	first := r.Peek()
	switch {
	case r.End():
		return nil, nil
	case r.Take("SET"):
		return g.set(stmt, r)
	case r.Take("USE"):
		name, ok := r.Name()
		if !ok || !r.End() {
			return nil, foreign(stmt)
		}
		g.current = name
		return nil, nil
	case slices.ContainsFunc(passedOver, first.Is):
		return nil, nil
	case r.Take("CREATE"):
		return g.create(stmt, r)
	case r.Take("DROP"):
		return g.drop(stmt, r)
	case r.Take("ALTER"):
		return g.alter(stmt, r)
	case r.Take("TRUNCATE"):
		r.Take("TABLE")
		return g.onTable(stmt, r, empties, (*tokenReader).End)
	case r.TakeOne("DO", "SELECT"):
		if table, at, ok := r.setval(); ok {
			return g.setval(r, table, at), nil
		}
	}
	return nil, foreign(stmt)
}

// admitObject is admit while a mode holds in which the server reads text in another way.
// Dumps set one for a trigger or a routine that was made in it. Tables and rows run under
// no such mode, and so are not read in one.
func (g *dumpGate) admitObject(stmt string) ([]string, error) {
	r := newTokenReader(g.version.open(stmt))
	first := r.Peek()
	switch {
	case r.End(), slices.ContainsFunc(passedOver, first.Is):
		return nil, nil
	case r.Take("SET"):
		return g.set(stmt, r)
	case r.Take("DROP"):
		return g.drop(stmt, r)
	case r.Take("CREATE"):
		from := r.Mark()
		if _, ok := r.object(); ok {
			r.Reset(from)
			return g.create(stmt, r)
		}
	}
	return nil, fmt.Errorf("%w under sql_mode %s, but for views, triggers and routines; export it without that: %s", database.ErrForeignSQL, g.session["sql_mode"], excerpt(stmt))
}

// setval is what is run to set a sequence, whose name is a token of r.
func (g *dumpGate) setval(r *tokenReader, table string, at int) []string {
	if !g.belongs("") {
		return nil
	}
	to, ok := g.staged(table, uses)
	if !ok {
		return nil
	}
	if g.place != nil {
		r.rename(at, to)
	}
	return []string{sqltext.Write(r.Tokens, false)}
}

// belongs tells whether a statement about something in a database, empty for the one
// that is used, is let through. Of several databases one is taken.
func (g *dumpGate) belongs(name string) bool {
	if name == "" {
		name = g.current
	}
	same := func(a, b string) bool { return strings.EqualFold(a, b) }
	if slices.ContainsFunc([]string{"mysql", "sys", "performance_schema", "information_schema"}, func(s string) bool { return same(s, name) }) {
		return false
	}
	if !slices.ContainsFunc(g.met, func(m string) bool { return same(m, name) }) {
		g.met = append(g.met, name)
		switch {
		case g.from != "":
			if same(g.from, name) {
				g.taken = name
			}
		case len(g.met) == 1:
			g.taken = name
		case same(name, g.live):
			g.taken, g.restart, g.objects, g.keys = name, true, nil, nil
		}
	}
	if g.from != "" {
		return same(g.from, name)
	}
	return same(g.taken, name)
}

// savedFirst is the variable in which dumps of every client keep, in their first lines, what
// their last ones set back.
const savedFirst = "old_character_set_client"

// settled tells at the end whether the text was whole, as far as that can be known, and
// whether it was clear which database was meant.
func (g *dumpGate) settled() error {
	named := strings.Join(g.met, ", ")
	_, saved := g.saved[savedFirst]
	switch {
	case saved && !g.setBack:
		return errors.New("the text is cut: what its first lines have set for its client is not set back at its end; export it again")
	case g.from != "" && !strings.EqualFold(g.taken, g.from):
		return reason.New(reason.WhichDatabase, nil, "the file holds no database %s, but: %s", g.from, named)
	case g.from == "" && len(g.met) > 1 && !strings.EqualFold(g.taken, g.live):
		return reason.New(reason.WhichDatabase, nil, "the file holds several databases, and none is called %s: %s", g.live, named)
	}
	return nil
}

// target is a table that a statement is about.
type target struct {
	// database is what stands before its name, if anything.
	database, name string
	// at is the place of its name's token.
	at int
}

// target passes over a table's name, and the database before it, if any.
func (r *tokenReader) target() (t target, ok bool) {
	t.at = r.Place()
	if t.name, ok = r.Name(); !ok {
		return t, false
	}
	if r.Take(".") {
		t.database = t.name
		until := r.Place()
		if t.name, ok = r.Name(); !ok {
			return t, false
		}
		// Without it, the name is one in the database that is used: the staging one.
		r.Blank(t.at, until)
		t.at = until
	}
	return t, true
}

// rename writes another name where one stands.
func (r *tokenReader) rename(at int, name string) {
	r.Tokens[at] = sqltext.Token{Kind: sqltext.Name, Text: quote(name)}
}

// onTable lets a statement about one table through if the rest is as it should be.
func (g *dumpGate) onTable(stmt string, r *tokenReader, what use, rest func(*tokenReader) bool) ([]string, error) {
	t, ok := r.target()
	if !ok {
		return nil, foreign(stmt)
	}
	if !g.belongs(t.database) {
		return nil, nil
	}
	from := r.Mark()
	if !rest(r) {
		return nil, foreign(stmt)
	}
	to, ok := g.staged(t.name, what)
	if !ok {
		return nil, nil
	}
	if what == makes || what == empties {
		g.rows = rowsOf{table: to}
	}
	if g.place == nil {
		return []string{sqltext.Write(r.Tokens, false)}, nil
	}
	r.rename(t.at, to)
	r.Reset(from)
	left, ok := g.takeKeys(r, t.name)
	switch {
	case !ok:
		return nil, foreign(stmt)
	case !left:
		return nil, nil
	}
	return []string{sqltext.Write(r.Tokens, false)}, nil
}

func (g *dumpGate) create(stmt string, r *tokenReader) ([]string, error) {
	switch {
	case r.TakeOne("DATABASE", "SCHEMA"):
		return nil, nil
	case r.Take("TABLE"):
		r.Take("IF", "NOT", "EXISTS")
		return g.onTable(stmt, r, makes, (*tokenReader).definition)
	case r.Take("SEQUENCE"):
		r.Take("IF", "NOT", "EXISTS")
		return g.onTable(stmt, r, makes, (*tokenReader).sequenceOptions)
	}
	if from := r.Mark(); r.TakeOne("UNIQUE", "FULLTEXT", "SPATIAL", "INDEX") {
		if r.Reset(from); r.index() {
			return g.onTable(stmt, r, uses, func(r *tokenReader) bool {
				_, ok := r.Parens()
				return ok && r.End()
			})
		}
		return nil, foreign(stmt)
	}
	h, ok := r.object()
	if !ok {
		return nil, foreign(stmt)
	}
	if !g.belongs(h.database) {
		return nil, nil
	}
	for _, span := range [][2]int{h.definer, h.qualifier} {
		r.Blank(span[0], span[1])
	}
	g.forget(h.kind, h.name)
	g.objects = append(g.objects, object{kind: h.kind, name: h.name, create: sqltext.Write(r.Tokens, true), sqlMode: g.session["sql_mode"], charset: g.session["character_set_client"], collation: g.session["collation_connection"], zone: g.session["time_zone"]})
	return nil, nil
}

// forget drops an object that was held back.
func (g *dumpGate) forget(kind, name string) {
	g.objects = slices.DeleteFunc(g.objects, func(o object) bool { return o.kind == kind && strings.EqualFold(o.name, name) })
}

// index passes over the head of CREATE INDEX, up to the table's name.
func (r *tokenReader) index() bool {
	r.TakeOne("UNIQUE", "FULLTEXT", "SPATIAL")
	if !r.Take("INDEX") {
		return false
	}
	_, ok := r.Name()
	if r.Take("USING") {
		r.Next()
	}
	return ok && r.Take("ON")
}

func (g *dumpGate) drop(stmt string, r *tokenReader) ([]string, error) {
	switch {
	case r.TakeOne("DATABASE", "SCHEMA"):
		return nil, nil
	case r.TakeOne("TABLE", "SEQUENCE"):
		r.Take("IF", "EXISTS")
		return g.dropTables(stmt, r)
	}
	for _, kind := range []string{"VIEW", "TRIGGER", "FUNCTION", "PROCEDURE", "EVENT"} {
		if !r.Take(kind) {
			continue
		}
		r.Take("IF", "EXISTS")
		t, ok := r.target()
		if !ok || !r.End() {
			break
		}
		if g.belongs(t.database) {
			g.forget(kind, t.name)
		}
		return nil, nil
	}
	return nil, foreign(stmt)
}

// dropTables lets the names of tables and sequences through that are dropped.
func (g *dumpGate) dropTables(stmt string, r *tokenReader) (run []string, err error) {
	for {
		t, ok := r.target()
		if !ok {
			return nil, foreign(stmt)
		}
		if g.belongs(t.database) {
			if to, ok := g.staged(t.name, drops); ok {
				run = append(run, "DROP TABLE IF EXISTS "+quote(to))
			}
		}
		if !r.Take(",") {
			break
		}
	}
	r.TakeOne("CASCADE", "RESTRICT")
	if !r.End() {
		return nil, foreign(stmt)
	}
	return run, nil
}

func (g *dumpGate) alter(stmt string, r *tokenReader) ([]string, error) {
	switch {
	case r.TakeOne("DATABASE", "SCHEMA"):
		return nil, nil
	case !r.Take("TABLE"):
		return nil, foreign(stmt)
	}
	return g.onTable(stmt, r, uses, (*tokenReader).alterations)
}

// alterations passes over the clauses that dumps end a table with.
func (r *tokenReader) alterations() bool {
	for {
		switch {
		case r.Take("ENABLE", "KEYS"), r.Take("DISABLE", "KEYS"):
		case r.Take("AUTO_INCREMENT"), r.Take("COMMENT"):
			r.Take("=")
			if !r.value() {
				return false
			}
		case r.Take("ADD"), r.Take("MODIFY"):
			if !r.clause() {
				return false
			}
		default:
			return false
		}
		if r.End() {
			return true
		}
		if !r.Take(",") {
			return false
		}
	}
}

// clause passes over a column or a key of ALTER TABLE.
func (r *tokenReader) clause() bool {
	for depth := 0; !r.End(); {
		switch t := r.Peek(); {
		case t.Is("("):
			depth++
		case t.Is(")"):
			depth--
		case depth == 0 && t.Is(","):
			return true
		case t.Is("SELECT"), t.Is("DIRECTORY"), t.Is("TABLESPACE"), t.Is("PARTITION"):
			return false
		}
		r.Next()
	}
	return true
}

// passedVariables are settings of a session that have no part in what is loaded here:
// they are not run.
var passedVariables = []string{"unique_checks", "foreign_key_checks", "sql_notes", "note_verbosity", "sql_quote_show_create", "autocommit", "sql_log_bin",
	"gtid_purged", "character_set_results", "character_set_connection", "collation_database", "character_set_database",
	"character_set_server", "collation_server", "sql_warnings", "net_read_timeout", "net_write_timeout", "max_allowed_packet", "sql_require_primary_key",
	"innodb_strict_mode", "lock_wait_timeout", "wait_timeout", "default_storage_engine", "transaction_isolation", "tx_isolation", "insert_id",
	"sql_safe_updates", "alter_algorithm", "show_create_table_skip_secondary_engine", "session_track_gtids", "big_tables"}

var zone = lazy.Regexp(`^(?:[+-]\d\d?:\d\d|[A-Z][A-Z0-9_+/-]{0,63})$`)

// set follows SET statements. What of them matters is run in words of its own.
func (g *dumpGate) set(stmt string, r *tokenReader) (run []string, err error) {
	switch {
	case r.TakeOne("NAMES", "CHARSET") || r.Take("CHARACTER", "SET"):
		return g.assign(stmt, "character_set_client", literal(r.Next()))
	case r.Take("TRANSACTION"):
		return nil, nil
	}
	for {
		name, user, global, ok := r.variable()
		if !ok || !r.Take("=") && !r.Take(":", "=") {
			return nil, foreign(stmt)
		}
		value := g.value(r)
		switch {
		case user:
			g.saved[name] = value
		case global && name != "gtid_purged":
			return nil, foreign(stmt)
		case slices.Contains(passedVariables, name):
		default:
			more, err := g.assign(stmt, name, value)
			if err != nil {
				return nil, err
			}
			run = append(run, more...)
		}
		if r.End() {
			return run, nil
		}
		if !r.Take(",") {
			return nil, foreign(stmt)
		}
	}
}

// variable passes over the name of a variable, in small letters.
func (r *tokenReader) variable() (name string, user, global, ok bool) {
	scope := func() {
		for _, s := range []string{"GLOBAL", "SESSION", "LOCAL", "PERSIST", "PERSIST_ONLY"} {
			if r.Take(s) {
				global = s != "SESSION" && s != "LOCAL"
				r.Take(".")
			}
		}
	}
	switch {
	case r.Take("@", "@"):
		scope()
	case r.Take("@"):
		user = true
	default:
		scope()
	}
	t := r.Next()
	return strings.ToLower(t.Unquoted()), user, global, t.Kind == sqltext.Word || t.Kind == sqltext.Name
}

// value passes over a value, to the next comma, and gives it if it is a literal or a
// variable; empty otherwise.
func (g *dumpGate) value(r *tokenReader) (value string) {
	if t := r.Peek(); t.Is("@") {
		if name, user, _, ok := r.variable(); ok && user {
			value = g.saved[name]
			g.setBack = g.setBack || name == savedFirst
		} else if ok {
			value = g.session[name]
		}
	} else {
		value = literal(r.Next())
	}
	for depth := 0; !r.End(); r.Next() {
		switch t := r.Peek(); {
		case t.Is("("):
			depth++
		case t.Is(")"):
			depth--
		case depth == 0 && t.Is(","):
			return value
		}
		value = "" // more than one token: nothing that is worked out here
	}
	return value
}

func literal(t sqltext.Token) string {
	if t.Kind == sqltext.String || t.Kind == sqltext.Name {
		return strings.Trim(t.Text, "'\"`")
	}
	return t.Text
}

// assign sets a variable of the session that matters, and gives what is to be run.
func (g *dumpGate) assign(stmt, name, value string) ([]string, error) {
	switch {
	case name == "sql_mode":
		if value = strings.ToUpper(value); modes().MatchString(value) {
			g.session[name] = value
			g.version = g.version.under(value)
		}
		return nil, nil
	case name == "character_set_client" && value == "":
		return nil, nil
	case name == "character_set_client" && safeCharset(value):
		g.session[name] = strings.ToLower(value)
		return []string{"SET NAMES " + strings.ToLower(value)}, nil
	case name == "character_set_client":
		return nil, fmt.Errorf("%w: the text is in character set %.20q, in which quotes cannot be told apart safely", database.ErrForeignSQL, value)
	case name == "collation_connection" && (value == "" || word().MatchString(strings.ToLower(value))):
		g.session[name] = strings.ToLower(value)
		return nil, nil
	case name == "time_zone" && zone().MatchString(strings.ToUpper(value)):
		g.session[name] = value
		return []string{"SET SESSION time_zone = " + text(value)}, nil
	case name == "system_versioning_insert_history" && (value == "0" || value == "1"):
		return []string{"SET SESSION system_versioning_insert_history = " + value}, nil
	}
	return nil, foreign(stmt)
}

// modes matches a list of SQL modes. They hold for the objects that are made under
// them; rows and tables are read under one of Revlet's own.
var modes = lazy.Regexp(`^[A-Z0-9_, ]*$`)
