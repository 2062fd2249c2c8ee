package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"revlet/internal/database"
	"revlet/internal/platform/lazy"
	"revlet/internal/platform/reason"
)

// LoadDump runs an SQL text that the server's own dump client, or a database
// admin page, has written, as far as the gate lets it (gate.go, dumpgate.go). Where the
// account may make no staging database, its tables are staged under other names in the
// live one. Of a text that holds several databases it takes the one that p.From names,
// or the one that is called as the live one is; for a share, the tables of that only.
// The plan is completed with what the text has made.
func (db *Database) LoadDump(ctx context.Context, p *database.Plan, r io.Reader) (rows int64, err error) {
	err = db.onConn(ctx, p.Stage, func(conn *sql.Conn) error {
		d := &dumpLoader{db: db, conn: conn, plan: p, gate: newDumpGate(parseVersion(db.info.Version), p.Live, p.From), added: map[string]int64{}, lenient: map[string]bool{}, enums: map[string][]string{}}
		if err := d.choosePlaces(ctx); err != nil {
			return err
		}
		if err := d.run(ctx, r); err != nil {
			return err
		}
		rows = d.rows
		if d.misfits > 0 {
			p.Notes = append(p.Notes, fmt.Sprintf("values of the SQL that are not right for their column, kept as the server takes them, or left out: %d; the first: %s", d.misfits, d.misfit))
		}
		switch {
		case p.Rows != nil:
			return nil // the live objects stay
		case p.Stage == p.Live:
			return d.completeInLive(ctx)
		}
		if err := d.makeObjects(ctx); err != nil {
			return err
		}
		return db.completeFromStage(ctx, conn, p, d.gate.events())
	})
	return rows, err
}

// dumpLoader runs what the gate lets through.
type dumpLoader struct {
	db   *Database
	conn *sql.Conn
	plan *database.Plan
	gate *dumpGate
	rows int64
	// pending counts statements since the last commit.
	pending int
	// added counts the rows that were added to each staged table.
	added map[string]int64
	// lenient are staged tables whose rows are let in although the server has something to say of each: what that is, is
	// looked at. enums are the columns of a kind of which a value is one of a list.
	lenient map[string]bool
	enums   map[string][]string
	// under is what the session was last set to. misfits counts values that do not fit their
	// columns, where they are taken; misfit is what the server has said of the first.
	under   string
	misfits int64
	misfit  string
	// named are the tables that are staged in the live database, in the order in which
	// they were made.
	named []database.TableMove
}

// choosePlaces says under which names tables are staged: those of a share under the
// plan's, and no others; all of them under other names where they stand beside the live
// ones.
func (d *dumpLoader) choosePlaces(ctx context.Context) error {
	p := d.plan
	if p.Rows != nil {
		d.gate.place = func(table string, _ use) (string, bool) {
			to, err := staged(p, table)
			return to, err == nil
		}
		return nil
	}
	if p.Stage != p.Live {
		return nil
	}
	var folds bool // names are the same whatever their case
	if err := d.conn.QueryRowContext(ctx, "SELECT @@lower_case_table_names <> 0").Scan(&folds); err != nil {
		return err
	}
	d.gate.place = func(table string, what use) (string, bool) {
		if folds {
			table = strings.ToLower(table)
		}
		for _, m := range d.named {
			if m.Name == table {
				return m.Staged, true
			}
		}
		if what == drops {
			return "", false // what there was before; it goes aside
		}
		m := database.TableMove{Name: table, Staged: fmt.Sprintf("%s%s_%d", stagePrefix, p.ID, len(d.named))}
		d.named = append(d.named, m)
		return m.Staged, true
	}
	return nil
}

// commitEvery bounds a transaction: a commit for each row would take for ever.
const commitEvery = 1000

func (d *dumpLoader) run(ctx context.Context, r io.Reader) error {
	// What the client that loads dumps begins with.
	for _, q := range []string{"SET SESSION time_zone = 'SYSTEM', sql_mode = '" + dumpMode + "'", "SET autocommit = 0"} {
		if _, err := d.conn.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	if err := d.gate.each(r, func(stmt string) error { return d.statement(ctx, stmt) }); err != nil {
		return err
	}
	if _, err := d.conn.ExecContext(ctx, "COMMIT"); err != nil {
		return err
	}
	return d.counted(ctx)
}

func (d *dumpLoader) statement(ctx context.Context, stmt string) error {
	run, err := d.gate.admit(stmt)
	if err != nil {
		return err
	}
	if d.gate.restart {
		// What came so far was another database.
		d.gate.restart, d.rows, d.misfits, d.added = false, 0, 0, map[string]int64{}
		if err := d.startAgain(ctx); err != nil {
			return err
		}
	}
	for _, q := range run {
		err := d.exec(ctx, q)
		if isCode(err, errNoTable) {
			return reason.New(reason.OnlyRows, nil, "%s: the file holds rows of a table and not its definition", excerpt(q))
		}
		if err != nil {
			return fmt.Errorf("%s: %w", excerpt(q), d.db.sayPacket(err))
		}
	}
	if d.pending += len(run); d.pending >= commitEvery {
		d.pending = 0
		_, err = d.conn.ExecContext(ctx, "COMMIT")
	}
	return err
}

// exec runs a statement of the text. Values that do not fit their columns are refused, or told: left to itself, and in
// the mode in which dumps are read, the server cuts a text, sets a number to the nearest, and says so to nobody who does
// not ask. Tables are made without that: what they are is the text's own affair.
func (d *dumpLoader) exec(ctx context.Context, q string) error {
	does := d.gate.rows
	strict := does.adds && !d.plan.Misfits && !d.lenient[does.table]
	if err := d.prepare(ctx, strict, does.ignore); err != nil {
		return err
	}
	res, err := d.conn.ExecContext(ctx, q)
	switch {
	case strict && isCode(err, errGenerated, errTruncated):
		if lenient, look := d.mayBeLenient(ctx, does.table, err); look != nil {
			return look
		} else if !lenient {
			return reason.Because(reason.DoesNotFitSQL, nil, err)
		}
		d.lenient[does.table] = true
		return d.exec(ctx, q)
	case isCode(err, misfits...):
		return reason.Because(reason.DoesNotFitSQL, nil, err)
	case err != nil:
		return err
	}
	if n, err := res.RowsAffected(); does.adds && err == nil {
		d.rows += n
		if !does.replace { // of those that are replaced, too, it counts some
			d.added[does.table] += n
		}
	} else if does.table != "" {
		delete(d.added, does.table)
	}
	if does.adds && (!strict || does.ignore) {
		return d.warnings(ctx, q)
	}
	return nil
}

// prepare has the session refuse values that do not fit if strict is set, and pass over rows that are not unique one by
// one, and with a word, if ignore is.
func (d *dumpLoader) prepare(ctx context.Context, strict, ignore bool) error {
	mode, unique := dumpMode, 0
	if strict {
		mode += ",STRICT_ALL_TABLES"
	}
	if ignore {
		unique = 1
	}
	under := fmt.Sprintf("SET SESSION sql_mode = '%s', unique_checks = %d, max_error_count = 65535", mode, unique)
	if under == d.under {
		return nil
	}
	_, err := d.conn.ExecContext(ctx, under)
	d.under = under
	return err
}

// ofColumn finds the column in what the server says of a value.
var ofColumn = lazy.Regexp("column '([^']+)'")

// mayBeLenient tells whether a statement that failed in strict mode may be run outside of it, with a look at what the server
// says then. Dumps give values for what the server works out itself, and these it may pass over. And they have an empty text
// for a value that is none of the list of its column: it was never there, as servers without strict mode keep such.
func (d *dumpLoader) mayBeLenient(ctx context.Context, name string, failed error) (bool, error) {
	if isCode(failed, errTruncated) {
		enum, err := d.ofEnum(ctx, name, failed.Error())
		if err != nil || !enum {
			return false, err
		}
	}
	// Where nothing is taken back, the rows before the one that failed are in.
	var engine sql.NullString
	err := d.conn.QueryRowContext(ctx, "SELECT ENGINE FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?", name).Scan(&engine)
	return err == nil && (isCode(failed, errGenerated) || (&table{engine: engine.String}).transactional()), err
}

// ofEnum tells whether what the server says is about a column of which a value is one of a list.
func (d *dumpLoader) ofEnum(ctx context.Context, table, said string) (bool, error) {
	columns, known := d.enums[table]
	if !known {
		var err error
		columns, err = queryStrings(ctx, d.conn, "SELECT COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = "+text(table)+" AND DATA_TYPE = 'enum'")
		if err != nil {
			return false, err
		}
		d.enums[table] = columns
	}
	found := ofColumn().FindStringSubmatch(said)
	return found != nil && slices.Contains(columns, found[1]), nil
}

// misfits are the codes of errors about values that do not fit: data truncated, out of range, a wrong or incorrect value, data too long.
var misfits = []uint16{1265, 1264, 1292, 1366, 1406}

// counted proves that the rows that were added are there. MariaDB loads the first rows of a table in another way while
// nothing is looked for twice, and has been seen to take some, to say so, and to keep none.
func (d *dumpLoader) counted(ctx context.Context) error {
	for _, table := range slices.Sorted(maps.Keys(d.added)) {
		var n int64
		for _, of := range []string{"", " FOR SYSTEM_TIME ALL"} { // of tables that keep their past, with it
			err := d.conn.QueryRowContext(ctx, "SELECT COUNT(*) FROM "+quote(table)+of).Scan(&n)
			if isCode(err, errNoTable) {
				n = d.added[table] // dropped since
			} else if err != nil && of == "" {
				return err
			}
			if n >= d.added[table] {
				break
			}
		}
		if n < d.added[table] {
			return reason.New(reason.RowsVanished, nil, "of table %s the server took %d rows, and holds %d of them", d.liveName(table), d.added[table], n)
		}
	}
	return nil
}

// liveName is what a table is called that is staged under another name.
func (d *dumpLoader) liveName(staged string) string {
	for _, m := range append(slices.Clone(d.named), d.plan.Tables...) {
		if m.Staged == staged {
			return m.Name
		}
	}
	return staged
}

// warnings asks what the server has to say of the statement before.
func (d *dumpLoader) warnings(ctx context.Context, q string) error {
	rows, err := d.conn.QueryContext(ctx, "SHOW WARNINGS")
	if err != nil {
		return err
	}
	said, err := database.Texts(rows) // level, code, words
	if err != nil {
		return err
	}
	said = slices.DeleteFunc(said, func(row []string) bool { return row[1] == strconv.Itoa(errGenerated) })
	if len(said) == 0 {
		return nil
	}
	for _, row := range said {
		if d.plan.Misfits {
			break
		}
		if enum, err := d.ofEnum(ctx, d.gate.rows.table, row[2]); err != nil {
			return err
		} else if !enum || row[1] != strconv.Itoa(errTruncated) {
			return reason.New(reason.DoesNotFitSQL, nil, "%s: %s", excerpt(q), row[2])
		}
	}
	if d.misfits == 0 {
		d.misfit = excerpt(q) + ": " + said[0][2]
	}
	d.misfits += int64(len(said))
	return nil
}

// startAgain throws away what is staged.
func (d *dumpLoader) startAgain(ctx context.Context) error {
	var run []string
	if stage := quote(d.plan.Stage); d.plan.Stage != d.plan.Live {
		run = []string{"DROP DATABASE " + stage, d.db.createDatabase(d.plan.Stage), "USE " + stage}
	} else if d.plan.Rows != nil {
		for _, m := range d.plan.Tables {
			run = append(run, "DROP TABLE IF EXISTS "+quote(m.Staged))
		}
	} else {
		for _, m := range d.named {
			run = append(run, "DROP TABLE IF EXISTS "+quote(m.Staged))
		}
	}
	for _, q := range run {
		if _, err := d.conn.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// completeInLive completes the plan with the tables that are staged beside the live
// ones. Views, triggers and routines cannot be tried here, where the live ones stand: the
// exchange makes them, and is taken back if the server refuses one.
func (d *dumpLoader) completeInLive(ctx context.Context) error {
	p := d.plan
	there, err := d.db.existing(ctx, d.conn, p)
	if err != nil {
		return err
	}
	made := 0
	for _, m := range d.named {
		if !there.has(p.Live, m.Staged) {
			continue // dropped again: it stood for a view
		}
		made++
		if i := slices.IndexFunc(p.Tables, func(one database.TableMove) bool { return one.Name == m.Name }); i >= 0 {
			p.Tables[i].Staged = m.Staged
		} else {
			p.Tables = append(p.Tables, m)
		}
	}
	if made == 0 {
		return errNoTables
	}
	p.NewKeys = d.gate.keys
	objects := append(d.gate.inOrder(), d.gate.events()...)
	for i := range objects {
		objects[i].sqlMode = strings.ReplaceAll(objects[i].sqlMode, " ", "")
	}
	p.NewObjects = objectsText(objects)
	return eachObject(p.NewObjects, d.gate.version, func(_, _ string) error { return nil })
}

// errNoTables is about a dump that makes nothing.
var errNoTables = errors.New("the SQL file makes no tables")

// DumpTables names the tables that a dump makes, of the database that LoadDump would
// take: see there. No server is asked. The error wraps database.ErrForeignSQL for a
// text that would not be let through.
func DumpTables(r io.Reader, live, from string) ([]string, error) {
	g := newDumpGate(parseVersion("10.11.0-MariaDB"), live, from)
	var tables []string
	g.place = func(table string, what use) (string, bool) {
		if g.restart {
			g.restart, tables = false, nil
		}
		i := slices.Index(tables, table)
		switch {
		case what == makes && i < 0:
			tables = append(tables, table)
		case what == drops && i >= 0:
			tables = slices.Delete(tables, i, i+1)
		}
		return table, true
	}
	err := g.each(r, func(stmt string) error {
		_, err := g.admit(stmt)
		return err
	})
	if err != nil {
		return nil, err
	}
	return tables, nil
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
	// What the server tells of them is in the mode of the asking session.
	if _, err := d.conn.ExecContext(ctx, "SET SESSION sql_mode = '"+dumpMode+"'"); err != nil {
		return err
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
		return errNoTables
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
