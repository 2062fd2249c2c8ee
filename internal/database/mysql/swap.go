package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"revlet/internal/database"
	"revlet/internal/database/rowrestore"
	"revlet/internal/platform/lazy"
	"revlet/internal/platform/reason"
)

// Swap implements database.Target: one RENAME TABLE statement puts every live
// table and view aside and every staged table in place.
func (db *Database) Swap(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return db.onShare(ctx, p, func(m rowrestore.Make) error { return rowrestore.Swap(ctx, m, p) })
	}
	return db.exchange(ctx, p, p.OldKeys, p.NewKeys, p.NewObjects, func(e exists) (out []string) {
		for _, m := range p.Tables {
			if m.Staged != "" && !e.has(p.Stage, m.Staged) {
				continue // done, whatever has become of the live one before or since
			}
			if m.Aside != "" && e.has(p.Live, m.Name) && !e.has(p.Aside, m.Aside) {
				out = append(out, in(p.Live, m.Name)+" TO "+in(p.Aside, m.Aside))
			}
			if m.Staged != "" && e.has(p.Stage, m.Staged) {
				out = append(out, in(p.Stage, m.Staged)+" TO "+in(p.Live, m.Name))
			}
		}
		for _, v := range p.Views {
			if e.has(p.Live, v.Name) && !e.has(p.Live, v.Aside) {
				out = append(out, in(p.Live, v.Name)+" TO "+in(p.Live, v.Aside))
			}
		}
		return out
	})
}

// Revert implements database.Target.
func (db *Database) Revert(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return db.onShare(ctx, p, func(m rowrestore.Make) error { return rowrestore.Revert(ctx, m, p) })
	}
	if p.Stage != p.Live {
		// A finished swap has removed the empty staging database.
		if _, err := db.pool.ExecContext(ctx, db.createDatabase(p.Stage)); err != nil {
			return db.c.explain(err)
		}
	}
	return db.exchange(ctx, p, p.NewKeys, p.OldKeys, p.OldObjects, func(e exists) (out []string) {
		for i, m := range p.Tables {
			out = append(out, revert(p, e, i, m)...)
		}
		for _, v := range p.Views {
			if e.has(p.Live, v.Aside) {
				out = append(out, in(p.Live, v.Aside)+" TO "+in(p.Live, v.Name))
			}
		}
		return out
	})
}

// AsideThere implements database.Target.
func (db *Database) AsideThere(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return db.onConn(ctx, p.Live, func(conn *sql.Conn) error {
			return rowrestore.AsideThere(ctx, &rowShare{rowrestore.Session{Conn: conn}, p}, p)
		})
	}
	e, err := db.existingNow(ctx, p)
	if err != nil {
		return err
	}
	var gone []string
	for _, m := range p.Tables {
		if m.Aside != "" && !e.has(p.Aside, m.Aside) {
			gone = append(gone, "table "+m.Name)
		}
	}
	for _, v := range p.Views {
		if !e.has(p.Live, v.Aside) {
			gone = append(gone, "view "+v.Name)
		}
	}
	return database.Gone(database.ErrAsideGone, gone, "database "+p.Aside)
}

// StageThere implements database.Target.
func (db *Database) StageThere(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return db.onConn(ctx, p.Live, func(conn *sql.Conn) error {
			return rowrestore.StageThere(ctx, &rowShare{rowrestore.Session{Conn: conn}, p}, p)
		})
	}
	e, err := db.existingNow(ctx, p)
	if err != nil {
		return err
	}
	var gone []string
	for _, m := range p.Tables {
		if m.Staged != "" && !e.has(p.Stage, m.Staged) {
			gone = append(gone, "table "+m.Name)
		}
	}
	return database.Gone(database.ErrStageGone, gone, "database "+p.Stage)
}

// Free implements database.Target. While an exchange waits the site is closed, and whoever asks for one of the tables waits behind
// it. A transaction that was left open, or a dump that takes hours, holds them. Where the account may not lock tables, that is not
// known. An exchange of rows waits for rows only, and not for long.
func (db *Database) Free(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return nil
	}
	e, err := db.existingNow(ctx, p)
	if err != nil {
		return err
	}
	var tables []string
	for _, m := range p.Tables {
		if view, there := e[[2]string{p.Live, m.Name}]; there && !view {
			tables = append(tables, quote(m.Name)+" WRITE")
		}
	}
	if len(tables) == 0 {
		return nil
	}
	return db.onConn(ctx, p.Live, func(conn *sql.Conn) error {
		if _, err := conn.ExecContext(ctx, fmt.Sprintf("SET SESSION lock_wait_timeout = %d", int(lockWait.Seconds()))); err != nil {
			return err
		}
		_, err := conn.ExecContext(ctx, "LOCK TABLES "+strings.Join(tables, ", "))
		if isCode(err, errLockWait) {
			return reason.New(reason.TablesInUse, reason.Names{"database": p.Live}, "somebody else has had tables of database %s in use for %s, such as a transaction that was left open or a long dump", p.Live, lockWait)
		}
		return nil // unlocked with the connection
	})
}

// existingNow is existing on a connection of its own.
func (db *Database) existingNow(ctx context.Context, p *database.Plan) (exists, error) {
	conn, err := db.pool.Conn(ctx)
	if err != nil {
		return nil, db.c.explain(err)
	}
	defer conn.Close()
	return db.existing(ctx, conn, p)
}

// revert puts one table back. What is aside tells whether that is done: the live one may
// have been dropped since, or another made in its place.
func revert(p *database.Plan, e exists, i int, m database.TableMove) (out []string) {
	there := e.has(p.Live, m.Name)
	switch back := m.Aside != "" && e.has(p.Aside, m.Aside); {
	case m.Aside != "" && !back:
		return nil
	case there && m.Staged != "" && !e.has(p.Stage, m.Staged):
		out = append(out, in(p.Live, m.Name)+" TO "+in(p.Stage, m.Staged))
	case there && back:
		out = append(out, in(p.Live, m.Name)+" TO "+in(p.Stage, madeSince(p, i)))
		p.Notes = append(p.Notes, "table "+m.Name+" was made anew since, and gives way to the one from before")
	}
	if m.Aside != "" {
		out = append(out, in(p.Aside, m.Aside)+" TO "+in(p.Live, m.Name))
	}
	return out
}

// madeSince is where a table goes that was made since a restore under the name of one
// that comes back.
func madeSince(p *database.Plan, i int) string {
	return fmt.Sprintf("%s%s_since%d", stagePrefix, p.ID, i)
}

// AsideSource implements database.Target.
func (db *Database) AsideSource(ctx context.Context, p *database.Plan) (database.Source, error) {
	c := db.c
	c.Name, c.Prefix, c.OwnTables = p.Aside, "", nil
	if p.Rows != nil || p.Aside == p.Live {
		c.only = asidePrefix + p.ID + "_"
	}
	return Open(ctx, c)
}

// exists tells which tables and views there are, as database and name; the
// value is true for views.
type exists map[[2]string]bool

func (e exists) has(db, table string) bool {
	_, ok := e[[2]string{db, table}]
	return ok
}

func (db *Database) existing(ctx context.Context, conn *sql.Conn, p *database.Plan) (exists, error) {
	rows, err := conn.QueryContext(ctx, `SELECT TABLE_SCHEMA, TABLE_NAME, TABLE_TYPE = 'VIEW' FROM information_schema.TABLES
		WHERE TABLE_SCHEMA IN (?, ?, ?)`, p.Live, p.Stage, p.Aside)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	e := exists{}
	for rows.Next() {
		var schema, name string
		var view bool
		if err := rows.Scan(&schema, &name, &view); err != nil {
			return nil, err
		}
		e[[2]string{schema, name}] = view
	}
	return e, rows.Err()
}

// exchange takes the live triggers and routines away, renames in one statement
// what renames still names, and makes the objects and foreign keys of the state
// that is live now. Each step can be run again after a crash.
func (db *Database) exchange(ctx context.Context, p *database.Plan, from, to []database.ForeignKey, objects string, renames func(exists) []string) error {
	return db.onConn(ctx, p.Live, func(conn *sql.Conn) error {
		if err := takeTurn(ctx, conn, p); err != nil {
			return err
		}
		_, _ = conn.ExecContext(ctx, "SET SESSION system_versioning_alter_history = KEEP") // unknown to MySQL
		e, err := db.existing(ctx, conn, p)
		if err != nil {
			return err
		}
		if len(renames(e)) == 0 {
			if same, err := db.hasObjects(ctx, conn, p, objects); err != nil || same {
				return errors.Join(err, addKeys(ctx, conn, p, to))
			}
		}
		if err := db.clearObjects(ctx, conn, p); err != nil {
			return err
		}
		if e, err = db.existing(ctx, conn, p); err != nil {
			return err
		}
		if todo := renames(e); len(todo) > 0 {
			if err := dropKeys(ctx, conn, p, from); err != nil {
				return err
			}
			if _, err := conn.ExecContext(ctx, "RENAME TABLE "+strings.Join(todo, ", ")); err != nil {
				return fmt.Errorf("exchange the tables: %w", err)
			}
		}
		if err := addKeys(ctx, conn, p, to); err != nil {
			return err
		}
		return eachObject(objects, parseVersion(db.info.Version), func(_, stmt string) error {
			_, err := conn.ExecContext(ctx, stmt)
			if objectSession().MatchString(stmt) && isCode(err, errNoCharset, errNoCollation) {
				return nil // another version or make has others
			}
			if err != nil {
				return fmt.Errorf("%.60s…: %w", stmt, err)
			}
			return nil
		})
	})
}

// hasObjects tells whether the live database has these triggers, routines and events, and no
// views but those that were there before: nothing is to be done then, and nothing is tried
// that the server may have come to refuse.
func (db *Database) hasObjects(ctx context.Context, conn *sql.Conn, p *database.Plan, objects string) (bool, error) {
	mine, views, err := db.own(ctx, conn)
	if err != nil {
		return false, err
	}
	for _, v := range views {
		if !slices.ContainsFunc(p.Views, func(m database.TableMove) bool { return m.Name == v }) {
			return false, nil
		}
	}
	now, _, err := db.dumpObjects(ctx, conn, nil, mine)
	return now == objects, err
}

// own are the site's tables, by name, and its views.
func (db *Database) own(ctx context.Context, conn *sql.Conn) (map[string]*table, []string, error) {
	listed, views, err := db.listTables(ctx, conn)
	if err != nil {
		return nil, nil, err
	}
	mine, views, _ := db.neighbours(listed, views)
	live := map[string]*table{}
	for _, t := range mine {
		live[t.name] = t
	}
	return live, views, nil
}

// takeTurn waits until no other session exchanges the same tables: a process
// that was killed leaves its last statement running on the server.
func takeTurn(ctx context.Context, conn *sql.Conn, p *database.Plan) error {
	var got sql.NullBool
	if err := conn.QueryRowContext(ctx, "SELECT GET_LOCK(?, 120)", "revlet "+p.ID).Scan(&got); err != nil {
		return err
	}
	if !got.Bool {
		return errors.New("an earlier exchange of the tables still runs on the server")
	}
	return nil
}

// clearObjects drops live triggers and routines, which the plan can make anew,
// and the views that a swap has made. A view whose aside is not there yet is
// one of the old ones and stays for the rename.
func (db *Database) clearObjects(ctx context.Context, conn *sql.Conn, p *database.Plan) error {
	own, views, err := db.own(ctx, conn)
	if err != nil {
		return err
	}
	// What cannot be read could not be put back by an undo: it stays.
	live, _, err := db.readObjects(ctx, conn, nil, own)
	if err != nil {
		return err
	}
	e, err := db.existing(ctx, conn, p)
	if err != nil {
		return err
	}
	old := map[string]bool{}
	for _, v := range p.Views {
		old[v.Name] = !e.has(p.Live, v.Aside)
	}
	for _, v := range views {
		if !old[v] {
			live = append(live, object{kind: "VIEW", name: v})
		}
	}
	return db.dropObjects(ctx, conn, p.Live, live)
}

// keyLine matches a foreign key in SHOW CREATE TABLE, which gives each a line.
var keyLine = lazy.Regexp("^  CONSTRAINT (`(?:[^`]|``)*`) (FOREIGN KEY .*?),?$")

// splitKeys takes the foreign keys out of a table's definition: their names are
// unique in a database, so that staged tables cannot have them while the live
// ones do.
func splitKeys(table, create string) (string, []database.ForeignKey) {
	var keys []database.ForeignKey
	var lines []string
	for line := range strings.SplitSeq(create, "\n") {
		if m := keyLine().FindStringSubmatch(line); m != nil {
			keys = append(keys, database.ForeignKey{Table: table, Name: unquote(m[1]), Definition: m[2]})
			continue
		}
		if strings.HasPrefix(line, ")") && len(lines) > 0 {
			lines[len(lines)-1] = strings.TrimSuffix(lines[len(lines)-1], ",")
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n"), keys
}

func liveKeys(ctx context.Context, conn *sql.Conn, live map[string]*table) ([]database.ForeignKey, error) {
	var all []database.ForeignKey
	for _, t := range live {
		if t.kind == "SEQUENCE" {
			continue
		}
		var name, create string
		if err := conn.QueryRowContext(ctx, "SHOW CREATE TABLE "+quote(t.name)).Scan(&name, &create); err != nil {
			return nil, err
		}
		_, keys := splitKeys(t.name, create)
		all = append(all, keys...)
	}
	return all, nil
}

// dropKeys removes foreign keys from the live tables that still have them.
func dropKeys(ctx context.Context, conn *sql.Conn, p *database.Plan, keys []database.ForeignKey) error {
	for _, k := range keys {
		_, err := conn.ExecContext(ctx, "ALTER TABLE "+in(p.Live, k.Table)+" DROP FOREIGN KEY "+quote(k.Name))
		if err != nil && !isCode(err, errCannotDrop, errNoTable) {
			return fmt.Errorf("foreign key %s of table %s: %w", k.Name, k.Table, err)
		}
	}
	return nil
}

// addKeys gives the live tables foreign keys that they do not have yet.
func addKeys(ctx context.Context, conn *sql.Conn, p *database.Plan, keys []database.ForeignKey) error {
	for _, k := range keys {
		var n int
		err := conn.QueryRowContext(ctx, `SELECT COUNT(*) FROM information_schema.TABLE_CONSTRAINTS WHERE CONSTRAINT_SCHEMA = ?
			AND TABLE_NAME = ? AND CONSTRAINT_NAME = ? AND CONSTRAINT_TYPE = 'FOREIGN KEY'`, p.Live, k.Table, k.Name).Scan(&n)
		if err == nil && n == 0 {
			_, err = conn.ExecContext(ctx, "ALTER TABLE "+in(p.Live, k.Table)+" ADD CONSTRAINT "+quote(k.Name)+" "+k.Definition)
		}
		if err != nil {
			return fmt.Errorf("foreign key %s of table %s: %w", k.Name, k.Table, err)
		}
	}
	return nil
}
