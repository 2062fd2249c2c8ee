package mysql

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"revlet/internal/database/sqltext"
	"revlet/internal/platform/lazy"
)

// This file is the one gate for SQL that a server is to run and that Revlet did not
// compose itself: parts of archives, and dumps of other programs. It is a list of what
// may pass. Statements are read as tokens, with the comments that the server would
// read as SQL opened first, and what is run is written anew from the tokens that were
// looked at: the server sees no comment, so that it cannot read one differently.
//
// A dump's tables and rows have names without a database, so that they reach nothing
// but the database that the connection uses, the staging one. Views, triggers,
// routines and events, which could do anything when they run, are held back until
// every row is in.

// serverVersion is a server's version as versioned comments count it: 100611, 80036.
type serverVersion struct {
	version int
	maria   bool
	// dialect is how the server cuts text into tokens just now.
	dialect sqltext.Dialect
}

// under is the version while an SQL mode holds.
func (n serverVersion) under(mode string) serverVersion {
	names, literal := ansiMode().MatchString(mode), strings.Contains(mode, "NO_BACKSLASH_ESCAPES")
	n.dialect = map[[2]bool]sqltext.Dialect{{}: sqltext.MySQL, {true, false}: sqltext.MySQLAnsi, {false, true}: sqltext.MySQLLiteral, {true, true}: sqltext.MySQLAnsiLiteral}[[2]bool{names, literal}]
	return n
}

var versionDigits = lazy.Regexp(`^(\d+)\.(\d+)\.(\d+)`)

func parseVersion(version string) serverVersion {
	m := versionDigits().FindStringSubmatch(strings.TrimPrefix(version, "5.5.5-"))
	n := serverVersion{maria: strings.Contains(version, "MariaDB")}
	if m != nil {
		major, _ := strconv.Atoi(m[1])
		minor, _ := strconv.Atoi(m[2])
		patch, _ := strconv.Atoi(m[3])
		n.version = major*10000 + minor*100 + patch
	}
	return n
}

// deepestVersioned is how many versioned comments may lie in each other. Dump clients
// write one in another at most.
const deepestVersioned = 8

// open gives the tokens of a statement as a server of that version reads it: versioned
// comments are replaced by what is in them, or by nothing (MariaDB and MySQL manuals,
// "Comment Syntax"). One that lies too deep becomes a token that no statement has.
func (n serverVersion) open(stmt string) []sqltext.Token {
	all, ok := n.openUntil(stmt, deepestVersioned)
	if !ok {
		return []sqltext.Token{{Kind: sqltext.Symbol, Text: "/*!"}}
	}
	return all
}

func (n serverVersion) openUntil(stmt string, depth int) (all []sqltext.Token, ok bool) {
	for t := range sqltext.Tokens(stmt, n.dialect) {
		if t.Kind != sqltext.Versioned {
			all = append(all, t)
			continue
		}
		if depth == 0 {
			return nil, false
		}
		inner := strings.TrimSuffix(t.Text, "*/")[len("/*!"):]
		mariaOnly := strings.HasPrefix(t.Text, "/*M!")
		if mariaOnly {
			inner = inner[1:]
		}
		digits := 0
		for digits < len(inner) && digits < 6 && isDigit(inner[digits]) {
			digits++
		}
		since, _ := strconv.Atoi(inner[:digits])
		skipped := since > n.version || mariaOnly && !n.maria || n.maria && !mariaOnly && since >= 50700 && since <= 99999
		space := sqltext.Token{Kind: sqltext.Space, Text: " "}
		all = append(all, space)
		if !skipped {
			opened, ok := n.openUntil(inner[digits:], depth-1)
			if !ok {
				return nil, false
			}
			all = append(append(all, opened...), space)
		}
	}
	return all, true
}

// tokenReader reads MySQL's grammar, as far as the gate needs it.
type tokenReader struct{ *sqltext.Reader }

func newTokenReader(tokens []sqltext.Token) *tokenReader {
	return &tokenReader{sqltext.NewReader(tokens)}
}

// value passes over one value of an option: a word, number, string or name.
func (r *tokenReader) value() bool {
	r.Take("-")
	switch t := r.Peek(); t.Kind {
	case sqltext.Word, sqltext.Name, sqltext.String:
		r.Next()
		if r.Take(".") {
			r.Next()
		}
		return true
	}
	return false
}

// engines are the storage engines that keep a table's rows in the table itself. Those
// that fetch them from somewhere else, or read files, do not belong to them.
var engines = []string{"InnoDB", "MyISAM", "Aria", "MEMORY", "HEAP", "ARCHIVE", "CSV", "BLACKHOLE", "ROCKSDB", "TokuDB", "XtraDB", "Columnstore", "Mroonga", "NDBCLUSTER", "NDB"}

func (r *tokenReader) engine() bool {
	r.Take("=")
	t := r.Next()
	return slices.ContainsFunc(engines, func(e string) bool { return strings.EqualFold(e, strings.Trim(t.Text, "'`")) })
}

// tableOptions are options of CREATE TABLE with one value.
var tableOptions = []string{"AUTO_INCREMENT", "AVG_ROW_LENGTH", "CHARSET", "CHECKSUM", "COLLATE", "COMMENT", "DELAY_KEY_WRITE", "KEY_BLOCK_SIZE",
	"MAX_ROWS", "MIN_ROWS", "PACK_KEYS", "ROW_FORMAT", "STATS_AUTO_RECALC", "STATS_PERSISTENT", "STATS_SAMPLE_PAGES", "TRANSACTIONAL", "PAGE_CHECKSUM",
	"PAGE_COMPRESSED", "PAGE_COMPRESSION_LEVEL", "ENCRYPTED", "ENCRYPTION_KEY_ID", "ENCRYPTION", "COMPRESSION", "AUTOEXTEND_SIZE", "ENGINE_ATTRIBUTE",
	"SECONDARY_ENGINE_ATTRIBUTE", "SEQUENCE", "TABLE_CHECKSUM", "IETF_QUOTES"}

// partitionWords are what may stand in PARTITION BY, beside what is in parentheses.
var partitionWords = []string{"PARTITION", "BY", "RANGE", "LIST", "HASH", "KEY", "LINEAR", "COLUMNS", "ALGORITHM", "PARTITIONS", "SUBPARTITION",
	"SUBPARTITIONS", "SYSTEM_TIME", "INTERVAL", "LIMIT", "STARTS", "HISTORY", "CURRENT", "AUTO", "TIMESTAMP", "SECOND", "MINUTE", "HOUR", "DAY", "WEEK", "MONTH", "QUARTER", "YEAR", "="}

// tableBody tells whether what stands in the parentheses of CREATE TABLE defines
// columns and keys, and no query or other table.
func tableBody(body []sqltext.Token) bool {
	for i, t := range body {
		if t.Is("SELECT") || i == 0 && (t.Kind != sqltext.Name && t.Kind != sqltext.Word || slices.ContainsFunc([]string{"TABLE", "VALUES", "WITH", "LIKE"}, t.Is)) {
			return false
		}
	}
	return len(body) > 0
}

// definition passes over what follows CREATE TABLE name: columns and keys, options,
// partitions, and nothing else.
func (r *tokenReader) definition() bool {
	body, ok := r.Parens()
	if !ok || !tableBody(body) {
		return false
	}
	for !r.End() {
		r.Take(",")
		r.Take("DEFAULT")
		switch {
		case r.Take("ENGINE"):
			if !r.engine() {
				return false
			}
		case r.Take("CHARACTER", "SET"), r.TakeOne(tableOptions...), r.quotedOption():
			r.Take("=")
			if !r.value() {
				return false
			}
		case r.Take("WITH", "SYSTEM", "VERSIONING"):
		case r.Take("TABLESPACE"):
			r.Take("=")
			if name, ok := r.Name(); !ok || name != "innodb_system" && name != "innodb_file_per_table" {
				return false
			}
		case r.Peek().Is("PARTITION"):
			return r.partitions()
		default:
			return false
		}
	}
	return true
}

// quotedOption is one that an engine defines: MariaDB writes their names in quotes.
func (r *tokenReader) quotedOption() bool {
	if r.Peek().Kind != sqltext.Name {
		return false
	}
	r.Next()
	return r.Peek().Is("=")
}

func (r *tokenReader) partitions() bool {
	for !r.End() {
		if inner, ok := r.Parens(); ok {
			if !partitionList(inner) {
				return false
			}
			continue
		}
		if t := r.Peek(); t.Kind == sqltext.String || t.Number() {
			r.Next()
		} else if !r.TakeOne(partitionWords...) {
			return false
		}
	}
	return true
}

// partitionList tells whether partitions lie where the table lies.
func partitionList(inner []sqltext.Token) bool {
	r := newTokenReader(inner)
	for !r.End() {
		switch {
		case r.Take("ENGINE"):
			if !r.engine() {
				return false
			}
		case slices.ContainsFunc([]string{"SELECT", "DIRECTORY", "TABLESPACE", "CONNECTION", "TABLE"}, r.Peek().Is):
			return false
		default:
			r.Next()
		}
	}
	return true
}

// sequenceWords are the options of CREATE SEQUENCE.
var sequenceWords = []string{"AS", "START", "WITH", "MINVALUE", "MAXVALUE", "NO", "INCREMENT", "BY", "CACHE", "NOCACHE", "CYCLE", "NOCYCLE", "RESTART", "=", "-",
	"TINYINT", "SMALLINT", "MEDIUMINT", "INT", "INTEGER", "BIGINT", "SIGNED", "UNSIGNED"}

func (r *tokenReader) sequenceOptions() bool {
	for !r.End() {
		switch t := r.Peek(); {
		case r.Take("ENGINE"):
			if !r.engine() {
				return false
			}
		case r.Take("COMMENT"):
			r.Take("=")
			if r.Next().Kind != sqltext.String {
				return false
			}
		case t.Number():
			r.Next()
		case !r.TakeOne(sequenceWords...):
			return false
		}
	}
	return true
}

// objectHead is the beginning of a view, trigger, routine or event.
type objectHead struct {
	kind, name string
	// definer are the places of the clause that ties it to an account, qualifier those
	// of the database's name before its own; both half open, equal if there is none.
	definer, qualifier [2]int
	database           string
}

// object reads the head of a CREATE statement, past CREATE itself. false means that it
// makes none of these, or something else under their name, such as a function out of a
// shared library.
func (r *tokenReader) object() (h objectHead, ok bool) {
	r.Take("OR", "REPLACE")
	for {
		switch {
		case r.Take("ALGORITHM"):
			r.Take("=")
			r.Next()
		case r.Take("SQL", "SECURITY"):
			r.Next()
		case r.Take("AGGREGATE"):
		case r.Peek().Is("DEFINER"):
			from := r.Place()
			r.Next()
			if !r.Take("=") || !r.account() {
				return h, false
			}
			h.definer = [2]int{from, r.Place()}
		default:
			return r.objectNamed(h)
		}
	}
}

// account passes over an account: 'user'@'host', CURRENT_USER, a role.
func (r *tokenReader) account() bool {
	if r.Take("CURRENT_USER") {
		r.Take("(", ")")
		return true
	}
	plain := func(t sqltext.Token) bool {
		return (t.Kind == sqltext.Name || t.Kind == sqltext.String || t.Kind == sqltext.Word || t.Is("%")) && !strings.Contains(t.Text, `\\`)
	}
	return plain(r.Next()) && (!r.Take("@") || plain(r.Next()))
}

func (r *tokenReader) objectNamed(h objectHead) (objectHead, bool) {
	for _, kind := range []string{"VIEW", "TRIGGER", "FUNCTION", "PROCEDURE", "EVENT"} {
		if r.Take(kind) {
			h.kind = kind
		}
	}
	r.Take("IF", "NOT", "EXISTS")
	from := r.Place()
	var ok bool
	if h.name, ok = r.anyName(); !ok || h.kind == "" {
		return h, false
	}
	if r.Take(".") {
		h.qualifier, h.database = [2]int{from, r.Place()}, h.name
		if h.name, ok = r.anyName(); !ok {
			return h, false
		}
	}
	switch h.kind {
	case "VIEW":
		if r.Peek().Is("(") {
			r.Parens()
		}
		return h, r.Take("AS")
	case "TRIGGER":
		return h, r.TakeOne("BEFORE", "AFTER")
	case "EVENT":
		return h, r.Take("ON", "SCHEDULE")
	}
	return h, r.Peek().Is("(")
}

// anyName is a name, in double quotes too: an object may have been made while they
// quoted names.
func (r *tokenReader) anyName() (string, bool) {
	if t := r.Peek(); t.Kind == sqltext.String && strings.HasPrefix(t.Text, `"`) {
		r.Next()
		return strings.Trim(t.Text, `"`), true
	}
	return r.Name()
}

// checkObject refuses a statement of a part of kind objects that is neither a setting
// nor makes a view, trigger, routine or event. It returns the kind of what it makes, none
// for a setting, and what is to be run.
func checkObject(stmt string, n serverVersion) (kind, run string, err error) {
	if sessionStatement().MatchString(stmt) {
		return "", stmt, nil
	}
	if m := objectSession().FindStringSubmatch(stmt); m != nil && (m[1] == "" || safeCharset(m[1])) {
		return "", stmt, nil
	}
	tokens := n.open(stmt)
	r := newTokenReader(tokens)
	if r.Take("CREATE") {
		if h, ok := r.object(); ok && h.database == "" {
			return h.kind, sqltext.Write(tokens, true), nil
		}
	}
	return "", "", foreign(stmt)
}

// checkSchema returns the table or sequence that a statement of a part of kind schema
// defines, and the statement as it is to be run; no name for a session statement.
// Anything else is refused.
func checkSchema(stmt string, n serverVersion) (table, run string, err error) {
	if sessionStatement().MatchString(stmt) {
		if unsafeMode().MatchString(stmt) {
			return "", "", foreign(stmt)
		}
		return "", stmt, nil
	}
	tokens := n.open(stmt)
	r := newTokenReader(tokens)
	ok := false
	switch {
	case r.Take("CREATE", "TABLE"):
		if table, ok = r.Name(); ok {
			ok = r.definition()
		}
	case r.Take("CREATE", "SEQUENCE"):
		if table, ok = r.Name(); ok {
			ok = r.sequenceOptions()
		}
	case r.Take("DO"):
		table, _, ok = r.setval()
	}
	if !ok {
		return "", "", foreign(stmt)
	}
	return table, sqltext.Write(tokens, false), nil
}

// setval passes over SETVAL(name, number, number), and gives the name and its place.
func (r *tokenReader) setval() (name string, at int, ok bool) {
	if !r.Take("SETVAL") {
		return "", 0, false
	}
	from := r.Mark()
	r.Take("(")
	at = r.Place()
	r.Reset(from)
	inner, ok := r.Parens()
	if !ok || !r.End() {
		return "", 0, false
	}
	v := newTokenReader(inner)
	name, ok = v.Name()
	for ok && !v.End() {
		ok = v.Take(",")
		v.Take("-")
		t := v.Next()
		ok = ok && t.Number()
	}
	return name, at, ok
}

// ansiMode matches SQL modes in which double quotes enclose names, unsafeMode those under
// which the server cuts text into tokens in another way than usual. Tables and rows are
// not written under any of them; views, triggers and routines may be.
const ansiModes = `\b(?:ANSI_QUOTES|ANSI|ORACLE|MSSQL|DB2|MAXDB|POSTGRESQL)\b`

var (
	ansiMode   = lazy.Regexp(ansiModes)
	unsafeMode = lazy.Regexp(ansiModes + `|\bNO_BACKSLASH_ESCAPES\b`)
)

// safeCharsets are the character sets in which no character has a quote or a backslash
// as its second byte.
var safeCharsets = []string{"utf8mb4", "utf8mb3", "utf8", "binary", "latin1", "latin2", "latin5", "latin7", "ascii", "cp1250", "cp1251", "cp1256", "cp1257",
	"cp850", "cp852", "cp866", "koi8r", "koi8u", "hebrew", "greek", "tis620", "swe7", "dec8", "hp8", "macroman", "macce", "keybcs2", "armscii8", "geostd8"}

func safeCharset(name string) bool { return slices.Contains(safeCharsets, strings.ToLower(name)) }

func excerpt(stmt string) string {
	return fmt.Sprintf("%.60q", strings.Join(strings.Fields(stmt[:min(len(stmt), 200)]), " "))
}
