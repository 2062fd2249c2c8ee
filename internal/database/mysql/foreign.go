package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"revlet/internal/database"
	"revlet/internal/database/sqltext"
	"revlet/internal/platform/reason"
)

// LoadDump runs an SQL text that the server's own dump client, or a database
// admin page, has written, as far as the gate lets it (gate.go, dump.go). It needs a
// staging database of its own. Of a text that holds several databases it takes the one
// that p.From names, or the one that is called as the live one is. The plan is
// completed with what the text has made.
func (db *Database) LoadDump(ctx context.Context, p *database.Plan, r io.Reader) (rows int64, err error) {
	if p.Stage == p.Live {
		return 0, fmt.Errorf("an SQL file can only be staged in a database of its own, and the account may not make one; run once as the server's administrator: GRANT ALL ON `rv\\_%%`.* TO %s", quote(db.c.User))
	}
	err = db.onConn(ctx, p.Stage, func(conn *sql.Conn) error {
		d := &dumpLoader{db: db, conn: conn, stage: p.Stage, gate: newDumpGate(parseVersion(db.info.Version), p.Live, p.From)}
		if err := d.run(ctx, r); err != nil {
			return err
		}
		rows = d.rows
		return db.completeFromStage(ctx, conn, p, d.gate.events())
	})
	return rows, err
}

// dumpLoader runs what the gate lets through.
type dumpLoader struct {
	db    *Database
	conn  *sql.Conn
	stage string
	gate  *dumpGate
	rows  int64
	// pending counts statements since the last commit.
	pending int
}

// commitEvery bounds a transaction: a commit for each row would take for ever.
const commitEvery = 1000

func (d *dumpLoader) run(ctx context.Context, r io.Reader) error {
	// What the client that loads dumps begins with.
	for _, q := range []string{"SET SESSION time_zone = 'SYSTEM', sql_mode = 'NO_AUTO_VALUE_ON_ZERO'", "SET autocommit = 0"} {
		if _, err := d.conn.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	s := sqltext.NewSplitter(r, sqltext.MySQL)
	for {
		stmt, err := s.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err == nil {
			err = d.statement(ctx, stmt)
		}
		if err != nil {
			return err
		}
	}
	if err := d.gate.settled(); err != nil {
		return err
	}
	if _, err := d.conn.ExecContext(ctx, "COMMIT"); err != nil {
		return err
	}
	return d.makeObjects(ctx)
}

func (d *dumpLoader) statement(ctx context.Context, stmt string) error {
	run, err := d.gate.admit(stmt)
	if err != nil {
		return err
	}
	if d.gate.restart {
		// What came so far was another database.
		d.gate.restart, d.rows = false, 0
		for _, q := range []string{"DROP DATABASE " + quote(d.stage), d.db.createDatabase(d.stage), "USE " + quote(d.stage)} {
			if _, err := d.conn.ExecContext(ctx, q); err != nil {
				return err
			}
		}
	}
	for _, q := range run {
		res, err := d.conn.ExecContext(ctx, q)
		if isCode(err, errNoTable) {
			return reason.New(reason.OnlyRows, nil, "%s: the file holds rows of a table and not its definition", excerpt(q))
		}
		if err != nil {
			return fmt.Errorf("%s: %w", excerpt(q), err)
		}
		if n, err := res.RowsAffected(); err == nil {
			d.rows += n
		}
	}
	if d.pending += len(run); d.pending >= commitEvery {
		d.pending = 0
		_, err = d.conn.ExecContext(ctx, "COMMIT")
	}
	return err
}

// makeObjects makes what was held back, now that all rows are in: the server then
// tells whether it is right before anything live changes. Events are not made here,
// for they would run.
func (d *dumpLoader) makeObjects(ctx context.Context) error {
	for _, o := range d.gate.inOrder() {
		under := []string{"SET NAMES " + o.charset, "SET SESSION sql_mode = " + text(o.sqlMode)}
		if o.collation != "" {
			under = append(under, "SET SESSION collation_connection = "+o.collation)
		}
		for _, q := range append(under, o.create) {
			_, err := d.conn.ExecContext(ctx, q)
			if err != nil && (q == o.create || !isCode(err, errNoCollation)) {
				return fmt.Errorf("%s %s: %w", strings.ToLower(o.kind), o.name, err)
			}
		}
	}
	return session(ctx, d.conn, "utf8mb4")
}

// completeFromStage finds what a dump has made in the staging database: tables
// to exchange, and views, triggers and routines to make anew afterwards. events were
// held back altogether.
func (db *Database) completeFromStage(ctx context.Context, conn *sql.Conn, p *database.Plan, events []object) error {
	stage := &Database{c: db.c, pool: db.pool, info: db.info}
	stage.c.Name, stage.c.OwnTables = p.Stage, nil
	listed, views, err := stage.listTables(ctx, conn)
	if err != nil {
		return err
	}
	if len(listed) == 0 {
		return errors.New("the SQL file makes no tables")
	}
	objects, _, err := stage.readObjects(ctx, conn, views, nil)
	if err != nil {
		return err
	}
	if err := stage.dropObjects(ctx, conn, p.Stage, objects); err != nil {
		return err
	}
	p.NewObjects = objectsText(append(objects, events...))
	made := map[string]bool{}
	for _, t := range listed {
		made[t.name] = true
	}
	for i, m := range p.Tables {
		if made[m.Name] {
			p.Tables[i].Staged = m.Name
			delete(made, m.Name)
		}
	}
	for _, t := range listed {
		if made[t.name] {
			p.Tables = append(p.Tables, database.TableMove{Name: t.name, Staged: t.name})
		}
	}
	return nil
}

// inOrder are the views, triggers and routines that were held back, each after what it
// needs.
func (g *dumpGate) inOrder() []object {
	var all []object
	for _, kind := range []string{"FUNCTION", "PROCEDURE", "VIEW", "TRIGGER"} {
		var of []object
		for _, o := range g.objects {
			if o.kind == kind {
				of = append(of, o)
			}
		}
		if kind == "VIEW" {
			of = orderViews(of, g.taken)
		}
		all = append(all, of...)
	}
	return all
}

func (g *dumpGate) events() []object {
	return slices.DeleteFunc(slices.Clone(g.objects), func(o object) bool { return o.kind != "EVENT" })
}
