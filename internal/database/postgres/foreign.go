package postgres

import (
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5"

	"revlet/internal/database"
	"revlet/internal/database/sqltext"
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
	l := &dumpLoader{conn: conn, text: sqltext.NewSplitter(r, sqltext.PostgreSQL), prefix: quoteIfNeeded(p.Live) + "."}
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
	text   *sqltext.Splitter
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
	switch {
	case passedOver.MatchString(stmt):
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
		if _, err := l.text.Line(); err != nil { // the rest of the statement's own
			return fmt.Errorf("the text ends before the rows: %w", io.ErrUnexpectedEOF)
		}
		tag, err := l.conn.PgConn().CopyFrom(ctx, &untilEnd{lines: l.text.Line}, "COPY "+m[1]+" FROM STDIN")
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
func Statements(r io.Reader) ([]string, error) { return sqltext.All(r, sqltext.PostgreSQL) }
