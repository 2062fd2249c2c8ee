package postgres

import (
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"revlet/internal/database"
	"revlet/internal/database/sqltext"
	"revlet/internal/platform/reason"
)

var regclass = regexp.MustCompile(`'(?:[^']|'')*'::"?regclass"?`)

// LoadDump runs an SQL text that the server's own dump client has written in its plain
// format, as far as the gate lets it (gate.go), in the staging schema. All of it is one
// transaction, which is undone if anything outside that schema was touched.
func (db *Database) LoadDump(ctx context.Context, p *database.Plan, r io.Reader) (int64, error) {
	conn, err := db.c.connect(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	outside, err := listBystanders(ctx, conn, p.Stage)
	if err != nil {
		return 0, fmt.Errorf("list what is there: %w", err)
	}
	// The live schema comes last: types of extensions may live there.
	if _, err := conn.Exec(ctx, "SET search_path = "+quote(p.Stage)+", "+quote(p.Live)+"; SET check_function_bodies = off; SET standard_conforming_strings = on; BEGIN", pgx.QueryExecModeSimpleProtocol); err != nil {
		return 0, err
	}
	l := &dumpLoader{conn: conn, text: sqltext.NewSplitter(r, sqltext.PostgreSQL), stage: p.Stage, prefix: quoteIfNeeded(p.Live) + "."}
	if err := l.run(ctx); err != nil {
		return l.rows, err
	}
	if l.made == 0 {
		return l.rows, errors.New("the SQL file makes nothing")
	}
	if err := outside.touched(ctx, conn, p.Stage); err != nil {
		return l.rows, err
	}
	_, err = conn.Exec(ctx, "COMMIT")
	return l.rows, err
}

// DumpTables names the tables that a dump makes. No server is asked, and nothing is
// judged: LoadDump does.
func DumpTables(r io.Reader) (tables []string, err error) {
	s := sqltext.NewSplitter(r, sqltext.PostgreSQL)
	for {
		stmt, err := s.Next()
		if errors.Is(err, io.EOF) {
			return tables, nil
		}
		if err != nil {
			return nil, err
		}
		if name, ok := tableMade(stmt); ok {
			tables = append(tables, name)
		}
		if copies.MatchString(stmt) {
			if _, err := s.Line(); err != nil { // the rest of the statement's own
				return nil, io.ErrUnexpectedEOF
			}
			if _, err := io.Copy(io.Discard, &untilEnd{lines: s.Line}); err != nil {
				return nil, err
			}
		}
	}
}

// encodings are those in which no character has an ASCII byte as its second one, so that a
// quote is a quote (PostgreSQL manual, 24.3 "Character Set Support").
var encodings = strings.Fields("UTF8 UNICODE SQL_ASCII LATIN1 LATIN2 LATIN3 LATIN4 LATIN5 LATIN6 LATIN7 LATIN8 LATIN9 LATIN10 ISO_8859_5 ISO_8859_6 ISO_8859_7 ISO_8859_8 " +
	"WIN866 WIN874 WIN1250 WIN1251 WIN1252 WIN1253 WIN1254 WIN1255 WIN1256 WIN1257 WIN1258 KOI8R KOI8U EUC_CN EUC_JP EUC_KR EUC_TW EUC_JIS_2004")

// encodingSet is the encoding that a statement says the text is in from there on, if it does.
func encodingSet(stmt string) string {
	r := newReader(stmt)
	if !r.Take("SET") {
		return ""
	}
	r.Take("SESSION")
	if !r.Take("client_encoding") || !r.TakeOne("=", "TO") {
		return ""
	}
	t := r.Next()
	if !r.End() {
		return ""
	}
	return strings.Trim(t.Text, "'\"")
}

// copies matches a statement that rows follow.
var copies = regexp.MustCompile(`(?is)^COPY\s.*\sFROM\s+stdin$`)

// tableMade is the table that a statement makes.
func tableMade(stmt string) (string, bool) {
	r := newReader(stmt)
	if !r.Take("CREATE") {
		return "", false
	}
	r.Take("UNLOGGED")
	if !r.Take("TABLE") {
		return "", false
	}
	r.Take("IF", "NOT", "EXISTS")
	name, ok := r.Name()
	if ok && r.Take(".") {
		name, ok = r.Name()
	}
	return name, ok
}

// quoteIfNeeded writes a name as the dump client does.
func quoteIfNeeded(name string) string {
	if plainName.MatchString(name) {
		return name
	}
	return quote(name)
}

var plainName = regexp.MustCompile(`^[a-z_][a-z0-9_]*$`)

type dumpLoader struct {
	conn   *pgx.Conn
	text   *sqltext.Splitter
	stage  string
	prefix string
	rows   int64
	made   int
}

func (l *dumpLoader) run(ctx context.Context) error {
	for {
		stmt, err := l.text.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = l.statement(ctx, stmt)
		}
		if err != nil {
			return err
		}
	}
}

func (l *dumpLoader) statement(ctx context.Context, stmt string) error {
	// Names of sequences in defaults and in setval are the literals that count.
	for _, named := range []*regexp.Regexp{regclass, setval} {
		stmt = named.ReplaceAllStringFunc(stmt, func(match string) string {
			return quotedLiteral.ReplaceAllStringFunc(match, func(lit string) string { return relativeLiteral(lit, l.prefix) })
		})
	}
	if name := encodingSet(stmt); name != "" {
		if !slices.Contains(encodings, strings.ToUpper(name)) {
			return fmt.Errorf("%w: the text is in the encoding %.20q, in which quotes cannot be told apart safely", database.ErrForeignSQL, name)
		}
		_, err := l.conn.Exec(ctx, "SET client_encoding = "+literal(name), pgx.QueryExecModeExec)
		return err
	}
	judged := judge(relative(stmt, l.prefix))
	switch judged.kind {
	case kindPassed:
		return nil
	case kindRefused:
		return fmt.Errorf("%w: %.60q", database.ErrForeignSQL, stmt)
	}
	run := judged.in(l.stage)
	switch judged.kind {
	case kindCopy:
		if _, err := l.text.Line(); err != nil { // the rest of the statement's own
			return fmt.Errorf("the text ends before the rows: %w", io.ErrUnexpectedEOF)
		}
		tag, err := l.conn.PgConn().CopyFrom(ctx, &untilEnd{lines: l.text.Line}, run)
		l.rows += tag.RowsAffected()
		return onlyRows(run, err)
	case kindRows:
		tag, err := l.conn.Exec(ctx, run, pgx.QueryExecModeSimpleProtocol)
		l.rows += tag.RowsAffected()
		return onlyRows(run, err)
	}
	l.made++
	if _, err := l.conn.Exec(ctx, run, pgx.QueryExecModeSimpleProtocol); err != nil {
		return fmt.Errorf("%.60q: %w", stmt, err)
	}
	return nil
}

var setval = regexp.MustCompile(`^SELECT pg_catalog\.setval\('(?:[^']|'')*'`)

var quotedLiteral = regexp.MustCompile(`'(?:[^']|'')*'`)

// relativeLiteral takes the schema off the name in a literal.
func relativeLiteral(lit, prefix string) string {
	inner := strings.ReplaceAll(lit[1:len(lit)-1], "''", "'")
	return "'" + strings.ReplaceAll(relative(inner, prefix), "'", "''") + "'"
}

// undefinedTable is the server's code for a table that is not there.
const undefinedTable = "42P01"

func onlyRows(stmt string, err error) error {
	switch {
	case codeOf(err) == undefinedTable:
		return reason.New(reason.OnlyRows, nil, "%.60q: the file holds rows of a table and not its definition", stmt)
	case err != nil:
		return fmt.Errorf("%.60q: %w", stmt, err)
	}
	return nil
}

// Statements cuts SQL text into statements.
func Statements(r io.Reader) ([]string, error) { return sqltext.All(r, sqltext.PostgreSQL) }
