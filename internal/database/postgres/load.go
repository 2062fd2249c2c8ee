package postgres

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"revlet/internal/database"
	"revlet/internal/database/rowrestore"
	"revlet/internal/platform/reason"
)

// Plan implements database.Target: stage and aside are schemas.
func (db *Database) Plan(id string) *database.Plan {
	return &database.Plan{ID: id, Engine: "postgres", Live: db.schema, Stage: "rv_new_" + id, Aside: "rv_old_" + id}
}

// Prepare implements database.Target.
func (db *Database) Prepare(ctx context.Context, p *database.Plan, tables []string) error {
	p.Coming = tables
	if _, err := db.conn.Exec(ctx, "CREATE SCHEMA IF NOT EXISTS "+quote(p.Stage)); err != nil {
		return fmt.Errorf("make the staging schema: %w; the account needs the right CREATE on database %s", err, db.c.Name)
	}
	if p.Rows != nil {
		return nil // nothing is exchanged
	}
	return db.CheckRestore(ctx)
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
	// The live schema comes last: extensions may live there. What a function's text names may
	// come later, or be what is not saved.
	for _, q := range []string{"SET search_path = " + quote(p.Stage) + ", " + quote(p.Live), "SET check_function_bodies = off"} {
		if _, err := conn.Exec(ctx, q); err != nil {
			return 0, err
		}
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
	text, err := io.ReadAll(io.LimitReader(in, longestDefinitions))
	if err == nil && len(text) == longestDefinitions {
		err = fmt.Errorf("more than %d MiB of definitions", longestDefinitions>>20)
	}
	if err != nil {
		return 0, err
	}
	return 0, runStatements(ctx, conn, u, p.Stage, p.Live, string(text))
}

// longestDefinitions bounds what defines tables, views and functions.
const longestDefinitions = 64 << 20

// isHeader tells whether a line is one of those that a text begins with. What holds on every
// connection anyway is not run.
func isHeader(ctx context.Context, conn *pgx.Conn, line string) (bool, error) {
	if line != bytesLine {
		return strings.Contains(header, line), nil
	}
	_, err := conn.Exec(ctx, bytesLine, pgx.QueryExecModeExec)
	return true, err
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
		if is, err := isHeader(ctx, conn, line+"\n"); err != nil || is {
			if err != nil {
				return 0, err
			}
			continue
		}
		if !head.MatchString(line) {
			return 0, fmt.Errorf("%w: %.60q", database.ErrForeignSQL, line)
		}
		tag, err := conn.PgConn().CopyFrom(ctx, &untilEnd{lines: linesOf(in)}, "COPY "+quote(stage)+"."+strings.TrimSuffix(strings.TrimPrefix(line, "COPY "), " FROM stdin;")+" FROM STDIN")
		if err != nil {
			return 0, err
		}
		if _, err := in.ReadByte(); !errors.Is(err, io.EOF) {
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
		if is, err := isHeader(ctx, conn, stmt+";\n"); err != nil || is {
			if err != nil {
				return err
			}
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
		return db.withRows(ctx, func() error { return rowrestore.Swap(ctx, &rowShare{db, p}, p) })
	}
	var staged bool
	err := db.conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_namespace WHERE nspname = $1)", p.Stage).Scan(&staged)
	if err == nil && staged { // else it was done before
		var brought []movableObject
		brought, err = movables(ctx, db.conn, p.Stage)
		p.Brought = append([]string{}, namesIn(brought)...)
	}
	if err != nil {
		return fmt.Errorf("exchange the tables: %w", err)
	}
	if err := db.exchange(ctx, p.Live, p.Stage, p.Aside, p.Stay, nil); err != nil {
		return err
	}
	replaced, err := movables(ctx, db.conn, p.Aside)
	if err != nil {
		return fmt.Errorf("look at what was set aside: %w", err)
	}
	p.Vacant, p.Replaced = len(replaced) == 0, namesIn(replaced)
	users, err := column(ctx, db.conn, outsiders, p.Aside)
	if err != nil {
		return fmt.Errorf("look for what still uses the old tables: %w", err)
	}
	if note := "what still uses what was set aside, until it is made anew: " + strings.Join(users, ", "); len(users) > 0 && !slices.Contains(p.Notes, note) {
		p.Notes = append(p.Notes, note)
	}
	return nil
}

// Revert implements database.Target.
func (db *Database) Revert(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return db.withRows(ctx, func() error { return rowrestore.Revert(ctx, &rowShare{db, p}, p) })
	}
	return db.exchange(ctx, p.Live, p.Aside, p.Stage, nil, p)
}

// AsideThere implements database.Target.
func (db *Database) AsideThere(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return db.withRows(ctx, func() error { return rowrestore.AsideThere(ctx, &rowShare{db, p}, p) })
	}
	names, err := db.movedNames(ctx, p.Aside)
	if err != nil || names == nil {
		return cmp.Or(err, database.Gone(database.ErrAsideGone, []string{"schema " + p.Aside}, "database "+db.c.Name))
	}
	return database.Gone(database.ErrAsideGone, without(p.Replaced, names), "schema "+p.Aside)
}

// StageThere implements database.Target.
func (db *Database) StageThere(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return db.withRows(ctx, func() error { return rowrestore.StageThere(ctx, &rowShare{db, p}, p) })
	}
	names, err := db.movedNames(ctx, p.Stage)
	if err != nil || names == nil {
		return cmp.Or(err, database.Gone(database.ErrStageGone, []string{"schema " + p.Stage}, "database "+db.c.Name))
	}
	return database.Gone(database.ErrStageGone, without(p.Coming, names), "schema "+p.Stage)
}

// Free implements database.Target. Where the account may not lock the tables, nothing is known.
func (db *Database) Free(ctx context.Context, p *database.Plan) error {
	if p.Rows == nil {
		tables, err := column(ctx, db.conn, "SELECT format('%I.%I', $1::text, relname) FROM pg_class WHERE relkind IN ('r', 'p') AND relnamespace = $1::text::regnamespace", p.Live)
		if err != nil {
			return err
		}
		return db.lockable(ctx, tables, "ACCESS EXCLUSIVE")
	}
	var tables []string
	for _, move := range p.Rows.Moves {
		if !move.Made {
			tables = append(tables, (&rowShare{db, p}).Live(move.Table))
		}
	}
	return db.withRows(ctx, func() error { return db.lockable(ctx, tables, "SHARE ROW EXCLUSIVE") })
}

// lockable refuses to begin what locks tables, by their complete names, if that would have to be waited for.
func (db *Database) lockable(ctx context.Context, tables []string, mode string) error {
	if len(tables) == 0 {
		return nil
	}
	tx, err := db.conn.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	if _, err := tx.Exec(ctx, fmt.Sprintf("SET LOCAL lock_timeout = '%ds'", int(exchangeWait.Seconds()))); err != nil {
		return err
	}
	_, err = tx.Exec(ctx, "LOCK TABLE "+strings.Join(tables, ", ")+" IN "+mode+" MODE")
	if err = db.inUse(err); reason.Is(err, reason.TablesInUse) {
		return err
	}
	return nil
}

// inUse gives an error of waiting for a lock (55P03, lock_not_available) its reason.
func (db *Database) inUse(err error) error {
	var pe *pgconn.PgError
	if !errors.As(err, &pe) || pe.Code != "55P03" {
		return err
	}
	return reason.New(reason.TablesInUse, reason.Names{"database": db.c.Name}, "somebody else has had tables of database %s in use for %s, such as a transaction that was left open or a long dump", db.c.Name, exchangeWait)
}

// movedNames are the names in a schema that an exchange moves; nil if there is no such schema.
func (db *Database) movedNames(ctx context.Context, schema string) ([]string, error) {
	var there bool
	if err := db.conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_namespace WHERE nspname = $1)", schema).Scan(&there); err != nil || !there {
		return nil, err
	}
	all, err := movables(ctx, db.conn, schema)
	return append([]string{}, namesIn(all)...), err
}

func without(all, some []string) []string {
	return slices.DeleteFunc(slices.Clone(all), func(name string) bool { return slices.Contains(some, name) })
}

// exchangeWait is how long tables that others have in use are waited for: the site is closed meanwhile, and whoever asks for one of
// them waits behind the exchange. A dump waits for dumpWait, and holds nobody up.
const exchangeWait, dumpWait = 10 * time.Second, 10 * time.Minute

// exchange makes what is in schema from live and moves what was live to a new
// schema to. The schema from goes in the same transaction: while it is there,
// the exchange has not been made. What an archive never held stays; when a restore is
// taken back, what was made since does, unless something of its name comes back.
func (db *Database) exchange(ctx context.Context, live, from, to string, stay []string, undone *database.Plan) error {
	err := pgx.BeginFunc(ctx, db.conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, fmt.Sprintf("SET LOCAL lock_timeout = '%ds'", int(exchangeWait.Seconds()))); err != nil {
			return err
		}
		var there bool
		if err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_namespace WHERE nspname = $1)", from).Scan(&there); err != nil || !there {
			return err
		}
		stuck, err := texts(ctx, tx, immovable, live, from)
		if err != nil {
			return err
		}
		if len(stuck) > 0 {
			if err := renameSchemas(ctx, tx, live, from, to, stuck[0]); err != nil || undone != nil {
				return err
			}
			if err := moveAll(ctx, tx, to, live, func(name string) bool { return !slices.Contains(stay, name) }); err != nil {
				return err
			}
			return carryRights(ctx, tx, live, to)
		}
		if _, err := tx.Exec(ctx, "CREATE SCHEMA "+quote(to)); err != nil {
			return err
		}
		made, err := madeSince(ctx, tx, live, from, undone)
		if err != nil {
			return err
		}
		along, err := texts(ctx, tx, statisticsOn, live, stay)
		if err != nil {
			return err
		}
		stays := slices.Concat(made, stay, along)
		if err := moveAll(ctx, tx, live, to, func(name string) bool { return slices.Contains(stays, name) }); err != nil {
			return err
		}
		if err := moveAll(ctx, tx, from, live, func(string) bool { return false }); err != nil {
			return err
		}
		if _, err = tx.Exec(ctx, "DROP SCHEMA "+quote(from)); err != nil || undone != nil {
			return err
		}
		return carryRights(ctx, tx, live, to)
	})
	if err != nil {
		return fmt.Errorf("exchange the tables: %w", db.inUse(err))
	}
	return nil
}

// statisticsOn are the statistics on tables of the schema $1 that are called as $2 says.
const statisticsOn = `SELECT 'statistics ' || s.stxname FROM pg_statistic_ext s JOIN pg_class c ON c.oid = s.stxrelid
	WHERE s.stxnamespace = $1::text::regnamespace AND c.relnamespace = s.stxnamespace AND c.relname = ANY($2)`

// immovable lists range types in the schemas $1 and $2 that this account cannot move: the
// functions that make their values belong to the server's administrator.
const immovable = `SELECT DISTINCT t.typname::text FROM pg_type t JOIN pg_depend d ON d.refobjid = t.oid AND d.refclassid = 'pg_type'::regclass AND d.deptype = 'i' AND d.classid = 'pg_proc'::regclass
	JOIN pg_proc p ON p.oid = d.objid WHERE t.typnamespace IN ($1::text::regnamespace, $2::text::regnamespace) AND NOT pg_has_role(p.proowner, 'USAGE') ORDER BY 1`

// inTheWay lists what lies in the schema $1 and must stay there: parts of extensions, and
// what is not saved.
const inTheWay = `SELECT o.type || ' ' || o.identity FROM pg_depend d, LATERAL pg_identify_object(d.classid, d.objid, 0) o
	WHERE d.refclassid = 'pg_namespace'::regclass AND d.refobjid = $1::text::regnamespace AND (d.classid NOT IN ('pg_class'::regclass, 'pg_type'::regclass, 'pg_proc'::regclass, 'pg_statistic_ext'::regclass)
	OR EXISTS (SELECT FROM pg_depend e WHERE e.objid = d.objid AND e.classid = d.classid AND e.deptype = 'e')) ORDER BY 1 LIMIT 1`

// renameSchemas makes the exchange by giving the schemas each other's names, for an
// account that owns them. Everybody keeps the rights that he has on the live one.
func renameSchemas(ctx context.Context, tx pgx.Tx, live, from, to, stuck string) error {
	kept, err := texts(ctx, tx, inTheWay, live)
	if err != nil {
		return err
	}
	var mine bool
	if err := tx.QueryRow(ctx, "SELECT pg_has_role(nspowner, 'USAGE') FROM pg_namespace WHERE nspname = $1", live).Scan(&mine); err != nil {
		return err
	}
	switch {
	case len(kept) > 0:
		return fmt.Errorf("range type %s cannot be moved by this account, and the schema %s cannot be renamed as a whole because of %s: a superuser can restore it", stuck, live, kept[0])
	case !mine:
		return fmt.Errorf("range type %s cannot be moved by this account, and the schema %s is not its own: a superuser can restore it", stuck, live)
	}
	grants, err := texts(ctx, tx, `SELECT format('GRANT %s ON SCHEMA %I TO %s%s', a.privilege_type, $1::text, CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE a.grantee::regrole::text END, CASE WHEN a.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END)
		FROM pg_namespace n, LATERAL aclexplode(n.nspacl) a WHERE n.nspname = $1 AND a.grantee <> n.nspowner
		UNION ALL SELECT format('COMMENT ON SCHEMA %I IS %L', $1::text, obj_description(oid, 'pg_namespace')) FROM pg_namespace WHERE nspname = $1 AND obj_description(oid, 'pg_namespace') IS NOT NULL`, live)
	if err != nil {
		return err
	}
	all := append([]string{"ALTER SCHEMA " + quote(live) + " RENAME TO " + quote(to), "ALTER SCHEMA " + quote(from) + " RENAME TO " + quote(live)}, grants...)
	for _, stmt := range all {
		if _, err := tx.Exec(ctx, stmt); err != nil {
			return fmt.Errorf("%s: %w", stmt, err)
		}
	}
	return nil
}

// texts is column in a transaction.
func texts(ctx context.Context, tx pgx.Tx, q string, args ...any) ([]string, error) {
	rows, err := tx.Query(ctx, q, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// movable lists, as ALTER statements up to the new schema's name, everything in
// the schema $1 that is saved and not part of something else or of an extension. Functions
// go first: their types are named by the schema that they are in.
var movable = `SELECT alter, name FROM (SELECT 2 AS turn, c.relname::text AS name, format('ALTER %s %I.%I', CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'c' THEN 'TYPE' ELSE 'TABLE' END, $1::text, c.relname) AS alter
	FROM pg_class c WHERE c.relkind IN ('r', 'p', 'v', 'm', 'S', 'c') AND c.relnamespace = $1::text::regnamespace` + own("c.oid", "pg_class") + `
	AND NOT EXISTS (SELECT FROM pg_depend o WHERE o.objid = c.oid AND o.classid = 'pg_class'::regclass AND o.deptype IN ('a', 'i') AND c.relkind = 'S' AND o.refclassid = 'pg_class'::regclass)
	UNION ALL SELECT 2, 'type ' || t.typname, format('ALTER TYPE %I.%I', $1::text, t.typname) FROM pg_type t WHERE t.typtype IN ('e', 'd', 'r', 'm') AND t.typnamespace = $1::text::regnamespace` + own("t.oid", "pg_type") + `
	UNION ALL SELECT 2, 'statistics ' || s.stxname, format('ALTER STATISTICS %I.%I', $1::text, s.stxname) FROM pg_statistic_ext s WHERE s.stxnamespace = $1::text::regnamespace
	UNION ALL SELECT 1, 'routine ' || p.proname || '/' || p.pronargs, format('ALTER ROUTINE %I.%I(%s)', $1::text, p.proname, pg_get_function_identity_arguments(p.oid)) FROM pg_proc p JOIN pg_language l ON l.oid = p.prolang WHERE p.pronamespace = $1::text::regnamespace` + own("p.oid", "pg_proc") + `
	AND (p.prokind = 'a' OR l.lanname = ANY($2) OR EXISTS (SELECT FROM pg_depend i WHERE i.objid = p.oid AND i.classid = 'pg_proc'::regclass AND i.deptype = 'i'))) x ORDER BY turn`

// outsiders lists what does not lie in the schema $1 and uses what does.
const outsiders = `WITH refs AS (SELECT 'pg_class'::regclass AS catalogue, oid FROM pg_class WHERE relnamespace = $1::text::regnamespace
		UNION ALL SELECT 'pg_proc'::regclass, oid FROM pg_proc WHERE pronamespace = $1::text::regnamespace UNION ALL SELECT 'pg_type'::regclass, oid FROM pg_type WHERE typnamespace = $1::text::regnamespace),
	uses AS (SELECT d.classid, d.objid, COALESCE((SELECT adrelid FROM pg_attrdef WHERE oid = d.objid AND d.classid = 'pg_attrdef'::regclass), (SELECT ev_class FROM pg_rewrite WHERE oid = d.objid AND d.classid = 'pg_rewrite'::regclass),
		(SELECT conrelid FROM pg_constraint WHERE oid = d.objid AND d.classid = 'pg_constraint'::regclass), (SELECT tgrelid FROM pg_trigger WHERE oid = d.objid AND d.classid = 'pg_trigger'::regclass),
		CASE WHEN d.classid = 'pg_class'::regclass THEN d.objid END) AS relation FROM pg_depend d JOIN refs ON d.refclassid = refs.catalogue AND d.refobjid = refs.oid)
	SELECT DISTINCT n.nspname || '.' || x.name FROM (SELECT c.relnamespace AS at, c.relname AS name FROM uses u JOIN pg_class c ON c.oid = u.relation WHERE c.relkind <> 't'
		UNION ALL SELECT p.pronamespace, p.proname FROM uses u JOIN pg_proc p ON p.oid = u.objid AND u.classid = 'pg_proc'::regclass
		UNION ALL SELECT t.typnamespace, t.typname FROM uses u JOIN pg_type t ON t.oid = u.objid AND u.classid = 'pg_type'::regclass) x
	JOIN pg_namespace n ON n.oid = x.at WHERE n.nspname <> $1 AND n.nspname !~ '^pg_'
	UNION SELECT o.type || ' ' || o.identity FROM uses u, LATERAL pg_identify_object(u.classid, u.objid, 0) o WHERE u.relation IS NULL AND u.classid NOT IN ('pg_proc'::regclass, 'pg_type'::regclass, 'pg_policy'::regclass, 'pg_constraint'::regclass)
		AND o.schema IS DISTINCT FROM $1 AND NOT EXISTS (SELECT FROM pg_depend i WHERE i.objid = u.objid AND i.classid = u.classid AND i.deptype = 'i') ORDER BY 1`

// movableObject is one of them, with a name that is the same in every schema.
type movableObject struct{ Alter, Name string }

func movables(ctx context.Context, in interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}, schema string) ([]movableObject, error) {
	rows, err := in.Query(ctx, movable, schema, languages)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[movableObject])
}

func namesIn(all []movableObject) (names []string) {
	for _, o := range all {
		names = append(names, o.Name)
	}
	return names
}

// madeSince are the names of what was made in the live schema since a restore, but for
// those that something has which comes back.
func madeSince(ctx context.Context, tx pgx.Tx, live, from string, undone *database.Plan) (stay []string, err error) {
	if undone == nil || undone.Brought == nil {
		return nil, nil
	}
	now, err := movables(ctx, tx, live)
	if err != nil {
		return nil, err
	}
	back, err := movables(ctx, tx, from)
	for _, name := range namesIn(now) {
		switch {
		case slices.Contains(undone.Brought, name):
		case slices.Contains(namesIn(back), name):
			undone.Notes = append(undone.Notes, name+" was made anew since, and gives way to the one from before")
		default:
			stay = append(stay, name)
		}
	}
	return stay, err
}

// moveAll moves what is in one schema to another, but for what stays.
func moveAll(ctx context.Context, tx pgx.Tx, from, to string, stays func(name string) bool) error {
	// Names of types in lists of arguments are then complete.
	if _, err := tx.Exec(ctx, "SET LOCAL search_path = pg_catalog"); err != nil {
		return err
	}
	all, err := movables(ctx, tx, from)
	if err != nil {
		return err
	}
	for _, o := range all {
		if stays(o.Name) {
			continue
		}
		if _, err := tx.Exec(ctx, o.Alter+" SET SCHEMA "+quote(to)); err != nil {
			return fmt.Errorf("%s: %w", o.Alter, err)
		}
	}
	return nil
}

// DropStage implements database.Target.
func (db *Database) DropStage(ctx context.Context, p *database.Plan) error {
	return db.drop(ctx, p.Stage)
}

// DropAside implements database.Target. What lies elsewhere and still uses what is set
// aside would go with it: then nothing is deleted.
func (db *Database) DropAside(ctx context.Context, p *database.Plan) error {
	var there bool
	if err := db.conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_namespace WHERE nspname = $1)", p.Aside).Scan(&there); err != nil || !there {
		return err
	}
	users, err := column(ctx, db.conn, outsiders, p.Aside)
	if err != nil {
		return err
	}
	if len(users) > 0 {
		return fmt.Errorf("what is set aside in schema %s is still used by %s, which would be deleted with it; make these anew first", p.Aside, strings.Join(users, ", "))
	}
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
