package postgres

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5"

	"revlet/internal/database"
	"revlet/internal/database/rowrestore"
)

// Plan implements database.Target: stage and aside are schemas.
func (db *Database) Plan(id string) *database.Plan {
	return &database.Plan{ID: id, Engine: "postgres", Live: db.schema, Stage: "rv_new_" + id, Aside: "rv_old_" + id}
}

// Prepare implements database.Target.
func (db *Database) Prepare(ctx context.Context, p *database.Plan, _ []string) error {
	if _, err := db.conn.Exec(ctx, "CREATE SCHEMA IF NOT EXISTS "+quote(p.Stage)); err != nil {
		return fmt.Errorf("make the staging schema: %w; the account needs the right CREATE on database %s", err, db.c.Name)
	}
	return nil
}

// Lanes implements database.Target.
func (db *Database) Lanes() int { return lanes }

// Load implements database.Target.
func (db *Database) Load(ctx context.Context, p *database.Plan, u database.Unit, r io.Reader) (int64, error) {
	conn, err := db.c.connect(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	// The live schema comes last: extensions may live there.
	if _, err := conn.Exec(ctx, "SET search_path = "+quote(p.Stage)+", "+quote(p.Live)); err != nil {
		return 0, err
	}
	in := bufio.NewReaderSize(r, 1<<18)
	if u.Kind == database.Rows {
		n, err := copyRows(ctx, conn, p.Stage, u.Table, in)
		if err != nil {
			return n, fmt.Errorf("load table %s: %w", u.Table, err)
		}
		return n, nil
	}
	if u.Kind == database.Objects && p.Rows != nil {
		return 0, nil // the live ones stay
	}
	text, err := io.ReadAll(in)
	if err != nil {
		return 0, err
	}
	return 0, runStatements(ctx, conn, u, p.Stage, p.Live, string(text))
}

// copyHead is the line that begins a table's rows.
func copyHead(table string) *regexp.Regexp {
	return regexp.MustCompile(`^COPY ` + regexp.QuoteMeta(quote(table)) + `( \((?:"(?:[^"]|"")*"(?:, )?)+\))? FROM stdin;$`)
}

func copyRows(ctx context.Context, conn *pgx.Conn, stage, table string, in *bufio.Reader) (int64, error) {
	head := copyHead(table)
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return 0, fmt.Errorf("the text ends before the rows: %w", io.ErrUnexpectedEOF)
		}
		line = strings.TrimSuffix(line, "\n")
		if strings.Contains(header, line+"\n") {
			continue
		}
		if !head.MatchString(line) {
			return 0, fmt.Errorf("%w: %.60q", database.ErrForeignSQL, line)
		}
		tag, err := conn.PgConn().CopyFrom(ctx, &untilEnd{lines: linesOf(in)}, "COPY "+quote(stage)+"."+strings.TrimSuffix(strings.TrimPrefix(line, "COPY "), " FROM stdin;")+" FROM STDIN")
		if err != nil {
			return 0, err
		}
		if rest, err := io.ReadAll(in); err != nil || len(rest) > 0 {
			return 0, errors.Join(err, fmt.Errorf("%w after the rows", database.ErrForeignSQL))
		}
		return tag.RowsAffected(), nil
	}
}

// untilEnd gives rows up to the line `\.`. lines gives the next line, or a piece of
// a long one.
type untilEnd struct {
	lines func() ([]byte, error)
	rest  []byte
	// inside is set while a line is not at its end.
	inside, done bool
}

func (u *untilEnd) Read(p []byte) (int, error) {
	for len(u.rest) == 0 {
		if u.done {
			return 0, io.EOF
		}
		line, err := u.lines()
		if err != nil {
			return 0, fmt.Errorf("the rows break off: %w", io.ErrUnexpectedEOF)
		}
		if !u.inside && string(bytes.TrimRight(line, "\r\n")) == `\.` {
			u.done = true
			continue
		}
		u.rest, u.inside = line, !bytes.HasSuffix(line, []byte("\n"))
	}
	n := copy(p, u.rest)
	u.rest = u.rest[n:]
	return n, nil
}

// linesOf gives the lines of a reader, long ones in pieces.
func linesOf(in *bufio.Reader) func() ([]byte, error) {
	return func() ([]byte, error) {
		line, err := in.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) {
			err = nil
		}
		return line, err
	}
}

func runStatements(ctx context.Context, conn *pgx.Conn, u database.Unit, stage, live, text string) error {
	statements, err := Statements(strings.NewReader(text))
	if err != nil {
		return err
	}
	for _, stmt := range statements {
		if strings.Contains(header, stmt+";\n") {
			continue
		}
		judged := judgeDefinition(stmt)
		if judged.kind == kindRefused {
			return fmt.Errorf("%w: %.60q", database.ErrForeignSQL, stmt)
		}
		if judged.on > 0 {
			stmt = judged.in(stage)
		}
		// One statement at a time: the extended protocol takes no second one.
		if err := runStatement(ctx, conn, live, stmt); err != nil {
			return fmt.Errorf("load %s: %.60q: %w", u.Kind, stmt, err)
		}
	}
	return nil
}

// runStatement runs one statement. An extension that is not there yet goes into
// the live schema, where it stays: the staging one goes. Some have a schema of
// their own, which they say when they are asked to go elsewhere.
func runStatement(ctx context.Context, conn *pgx.Conn, live, stmt string) error {
	if strings.HasPrefix(stmt, "CREATE EXTENSION ") {
		if _, err := conn.Exec(ctx, stmt+" SCHEMA "+quote(live), pgx.QueryExecModeExec); err == nil {
			return nil
		}
	}
	_, err := conn.Exec(ctx, stmt, pgx.QueryExecModeExec)
	return err
}

// Swap implements database.Target: everything in the live schema moves to the
// aside one and everything staged into the live one, in one transaction. The
// live schema itself stays, with its rights and the extensions in it.
func (db *Database) Swap(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return rowrestore.Swap(ctx, &rowShare{db, p}, p)
	}
	return db.exchange(ctx, p.Live, p.Stage, p.Aside)
}

// Revert implements database.Target.
func (db *Database) Revert(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return rowrestore.Revert(ctx, &rowShare{db, p}, p)
	}
	return db.exchange(ctx, p.Live, p.Aside, p.Stage)
}

// exchange makes what is in schema from live and moves what was live to a new
// schema to. The schema from goes in the same transaction: while it is there,
// the exchange has not been made.
func (db *Database) exchange(ctx context.Context, live, from, to string) error {
	err := pgx.BeginFunc(ctx, db.conn, func(tx pgx.Tx) error {
		var there bool
		if err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_namespace WHERE nspname = $1)", from).Scan(&there); err != nil || !there {
			return err
		}
		if _, err := tx.Exec(ctx, "CREATE SCHEMA "+quote(to)); err != nil {
			return err
		}
		for _, move := range [][2]string{{live, to}, {from, live}} {
			if err := moveAll(ctx, tx, move[0], move[1]); err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, "DROP SCHEMA "+quote(from))
		return err
	})
	if err != nil {
		return fmt.Errorf("exchange the tables: %w", err)
	}
	return nil
}

// movable lists, as ALTER statements up to the new schema's name, everything in
// the schema $1 that is not part of something else or of an extension.
var movable = `SELECT format('ALTER %s %I.%I', CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'c' THEN 'TYPE' ELSE 'TABLE' END, $1::text, c.relname)
	FROM pg_class c WHERE c.relkind IN ('r', 'p', 'v', 'm', 'S', 'c', 'f') AND c.relnamespace = $1::text::regnamespace` + own("c.oid", "pg_class") + `
	AND NOT EXISTS (SELECT FROM pg_depend o WHERE o.objid = c.oid AND o.classid = 'pg_class'::regclass AND o.deptype IN ('a', 'i') AND c.relkind = 'S' AND o.refclassid = 'pg_class'::regclass)
	UNION ALL SELECT format('ALTER TYPE %I.%I', $1::text, t.typname) FROM pg_type t WHERE t.typtype IN ('e', 'd', 'r') AND t.typnamespace = $1::text::regnamespace` + own("t.oid", "pg_type") + `
	UNION ALL SELECT format('ALTER ROUTINE %I.%I(%s)', $1::text, p.proname, pg_get_function_identity_arguments(p.oid)) FROM pg_proc p WHERE p.pronamespace = $1::text::regnamespace` + own("p.oid", "pg_proc") + `
	AND NOT EXISTS (SELECT FROM pg_depend i WHERE i.objid = p.oid AND i.classid = 'pg_proc'::regclass AND i.deptype = 'i')`

func moveAll(ctx context.Context, tx pgx.Tx, from, to string) error {
	rows, err := tx.Query(ctx, movable, from)
	if err != nil {
		return err
	}
	all, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for _, alter := range all {
		if _, err := tx.Exec(ctx, alter+" SET SCHEMA "+quote(to)); err != nil {
			return fmt.Errorf("%s: %w", alter, err)
		}
	}
	return nil
}

// DropStage implements database.Target.
func (db *Database) DropStage(ctx context.Context, p *database.Plan) error {
	return db.drop(ctx, p.Stage)
}

// DropAside implements database.Target.
func (db *Database) DropAside(ctx context.Context, p *database.Plan) error {
	return db.drop(ctx, p.Aside)
}

// AsideSource implements database.Target.
func (db *Database) AsideSource(ctx context.Context, p *database.Plan) (database.Source, error) {
	source, err := Open(ctx, db.c)
	if err != nil {
		return nil, err
	}
	source.schema = p.Aside
	return source, nil
}

func (db *Database) drop(ctx context.Context, schema string) error {
	if !strings.HasPrefix(schema, "rv_") {
		return fmt.Errorf("%q is not a schema that Revlet set aside", schema)
	}
	_, err := db.conn.Exec(ctx, "DROP SCHEMA IF EXISTS "+quote(schema)+" CASCADE")
	return err
}
