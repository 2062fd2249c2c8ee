package postgres

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5"

	"revlet/internal/database"
)

var (
	// passedOver matches what a dump says about its own session, and about
	// owners and rights, which are the loading account's here.
	passedOver = regexp.MustCompile(`(?is)^(?:SET |SELECT pg_catalog\.set_config\(|CREATE SCHEMA |COMMENT ON (?:EXTENSION|SCHEMA)|GRANT |REVOKE |ALTER DEFAULT PRIVILEGES|ALTER [A-Z ]+ (?:IF EXISTS )?(?:ONLY )?\S+(?:\([^)]*\))? OWNER TO )`)
	// reachingOut matches statements that have no place in a dump of one database.
	reachingOut = regexp.MustCompile(`(?is)^(?:DROP|CREATE (?:ROLE|USER|DATABASE|SERVER|SUBSCRIPTION)|ALTER (?:ROLE|USER|SYSTEM|DATABASE)|DO\b|CALL|COPY .* (?:TO|FROM) (?:PROGRAM|'))`)
	setval      = regexp.MustCompile(`^SELECT pg_catalog\.setval\('([^']*)'`)
	regclass    = regexp.MustCompile(`'(?:[^']|'')*'::regclass`)
	copyFrom    = regexp.MustCompile(`(?s)^COPY (.*) FROM stdin$`)
)

// LoadDump runs an SQL text that the server's own dump client has written in
// its plain format, in the staging schema.
func (db *Database) LoadDump(ctx context.Context, p *database.Plan, r io.Reader) (int64, error) {
	conn, err := db.c.connect(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "SET search_path = "+quote(p.Stage)+", "+quote(p.Live)+"; SET check_function_bodies = off; SET standard_conforming_strings = on", pgx.QueryExecModeSimpleProtocol); err != nil {
		return 0, err
	}
	l := &dumpLoader{conn: conn, in: bufio.NewReaderSize(r, 1<<18), prefix: quoteIfNeeded(p.Live) + "."}
	if err := l.run(ctx); err != nil {
		return l.rows, err
	}
	if l.made == 0 {
		return l.rows, errors.New("the SQL file makes nothing")
	}
	return l.rows, nil
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
	in     *bufio.Reader
	prefix string
	rows   int64
	made   int
}

func (l *dumpLoader) run(ctx context.Context) error {
	var text strings.Builder
	for {
		line, err := l.in.ReadString('\n')
		if errors.Is(err, io.EOF) && line == "" {
			if strings.TrimSpace(withoutComments(text.String())) != "" {
				return fmt.Errorf("the text ends inside a statement: %w", io.ErrUnexpectedEOF)
			}
			return nil
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if strings.HasPrefix(line, `\`) && withoutComments(text.String()) == "" {
			continue // a command to the client
		}
		text.WriteString(line)
		statements, rest := complete(text.String())
		for _, stmt := range statements {
			if err := l.statement(ctx, strings.TrimSpace(withoutComments(stmt))); err != nil {
				return err
			}
		}
		if len(statements) > 0 {
			text.Reset()
			text.WriteString(rest)
		}
	}
}

func (l *dumpLoader) statement(ctx context.Context, stmt string) error {
	switch {
	case stmt == "", passedOver.MatchString(stmt):
		return nil
	case reachingOut.MatchString(stmt):
		return fmt.Errorf("%w: %.60q", database.ErrForeignSQL, stmt)
	}
	if m := setval.FindStringSubmatch(stmt); m != nil {
		stmt = strings.Replace(stmt, "'"+m[1]+"'", "'"+relative(m[1], l.prefix)+"'", 1)
	}
	// Names of sequences in defaults are the one kind of literal that counts.
	stmt = relative(regclass.ReplaceAllStringFunc(stmt, func(lit string) string { return strings.Replace(lit, "'"+l.prefix, "'", 1) }), l.prefix)
	if m := copyFrom.FindStringSubmatch(stmt); m != nil {
		tag, err := l.conn.PgConn().CopyFrom(ctx, &untilEnd{in: l.in}, "COPY "+m[1]+" FROM STDIN")
		l.rows += tag.RowsAffected()
		return err
	}
	l.made++
	if _, err := l.conn.Exec(ctx, stmt, pgx.QueryExecModeSimpleProtocol); err != nil {
		return fmt.Errorf("%.60q: %w", stmt, err)
	}
	return nil
}

// Statements cuts SQL text into statements.
func Statements(r io.Reader) ([]string, error) {
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	statements, _ := complete(string(text))
	for i := range statements {
		statements[i] = strings.TrimSpace(withoutComments(statements[i]))
	}
	return statements, nil
}

// complete cuts off the statements that end in text, with what is left.
func complete(text string) (statements []string, rest string) {
	from := 0
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c == '\'' || c == '"' || c == '$':
			i = skipLiteral(text, i)
		case strings.HasPrefix(text[i:], "--"):
			for i < len(text) && text[i] != '\n' {
				i++
			}
		case c == ';':
			statements = append(statements, text[from:i])
			i++
			from = i
		default:
			i++
		}
	}
	return statements, text[from:]
}

// withoutComments drops lines that are comments before a statement.
func withoutComments(stmt string) string {
	for {
		stmt = strings.TrimLeft(stmt, " \t\r\n")
		if !strings.HasPrefix(stmt, "--") {
			return stmt
		}
		_, stmt, _ = strings.Cut(stmt, "\n")
	}
}
