package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"revlet/internal/database"
	"revlet/internal/platform/reason"
)

// What the account may do is found out by doing it to a table of its own, before anything
// live changes: rights come from roles, patterns of names and settings of the server, and
// an exchange that is refused half-way leaves a site closed.

// tryTable is what it is tried with.
func tryTable(p *database.Plan) string { return stagePrefix + p.ID + "_try" }

// tryPlaces finds out whether tables may be made in the staging place, brought from there to
// the live database and on to the aside, and dropped. Where there is no choice of a place, a
// right that not every site needs is not asked for: the one to foreign keys.
func tryPlaces(ctx context.Context, conn *sql.Conn, p *database.Plan) error {
	try, key := tryTable(p), ""
	way := []string{in(p.Stage, try), in(p.Live, try+"_live"), in(p.Aside, try+"_aside")}
	defer dropTried(ctx, conn, way...)
	if p.Stage != p.Live {
		key = ", FOREIGN KEY (up) REFERENCES " + way[0] + " (id)"
	}
	for _, q := range []string{
		"CREATE TABLE " + way[0] + " (id INT PRIMARY KEY, up INT" + key + ")",
		"INSERT INTO " + way[0] + " VALUES (1, 1)",
		"ALTER TABLE " + way[0] + " ADD more INT, ADD KEY (more)",
		"RENAME TABLE " + way[0] + " TO " + way[1],
		"RENAME TABLE " + way[1] + " TO " + way[2],
		"DROP TABLE " + way[2],
	} {
		if _, err := conn.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("%s: %w", strings.ToLower(strings.Join(strings.Fields(q)[:2], " ")), err)
		}
	}
	return nil
}

// tries are the statements that make and drop an object of each kind, nowhere but beside
// the table in the live database.
var tries = map[string][2]string{
	"VIEW":      {"CREATE VIEW {object} AS SELECT 1 AS one", "DROP VIEW {object}"},
	"TRIGGER":   {"CREATE TRIGGER {object} BEFORE INSERT ON {table} FOR EACH ROW SET @rv = 1", "DROP TRIGGER {object}"},
	"FUNCTION":  {"CREATE FUNCTION {object}() RETURNS INT DETERMINISTIC NO SQL RETURN 1", "DROP FUNCTION {object}"},
	"PROCEDURE": {"CREATE PROCEDURE {object}() SET @rv = 1", "DROP PROCEDURE {object}"},
	"EVENT":     {"CREATE EVENT {object} ON SCHEDULE EVERY 1 YEAR DISABLE DO SET @rv = 1", "DROP EVENT {object}"},
}

// tryObjects finds out whether what a text of kind objects makes may be made in the live
// database and dropped again.
func (db *Database) tryObjects(ctx context.Context, conn *sql.Conn, p *database.Plan, text string) error {
	kinds, err := kindsIn(text, parseVersion(db.info.Version))
	if err != nil || len(kinds) == 0 {
		return err
	}
	table, object := in(p.Live, tryTable(p)+"_live"), in(p.Live, tryTable(p)+"_object")
	defer dropTried(ctx, conn, table)
	if _, err := conn.ExecContext(ctx, "CREATE TABLE "+table+" (id INT PRIMARY KEY)"); err != nil {
		return fmt.Errorf("create table: %w", err)
	}
	for _, kind := range kinds {
		for _, q := range tries[kind] {
			if _, err := conn.ExecContext(ctx, strings.NewReplacer("{table}", table, "{object}", object).Replace(q)); err != nil {
				names := reason.Names{"what": strings.ToLower(kind) + "s"}
				return reason.New(reason.ObjectsDenied, names, "the account may not make or drop a %s: %w", strings.ToLower(kind), err)
			}
		}
	}
	return nil
}

// kindsIn are the kinds of objects that a text makes.
func kindsIn(text string, version serverVersion) (kinds []string, err error) {
	err = eachObject(text, version, func(kind, _ string) error {
		if kind != "" && !slices.Contains(kinds, kind) {
			kinds = append(kinds, kind)
		}
		return nil
	})
	return kinds, err
}

// dropTriedObject drops what a run that died has left of tryObjects, and passes over what it
// may not.
func dropTriedObject(ctx context.Context, conn *sql.Conn, p *database.Plan) {
	for kind := range tries {
		_, _ = conn.ExecContext(ctx, "DROP "+kind+" IF EXISTS "+in(p.Live, tryTable(p)+"_object"))
	}
}

// dropTried drops what is left of a try, and passes over what it may not.
func dropTried(ctx context.Context, conn *sql.Conn, tables ...string) {
	for _, t := range tables {
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), "DROP TABLE IF EXISTS "+t)
	}
}

// denied tells whether the server has refused something for want of a right.
func denied(err error) bool {
	return isCode(err, errDBAccess, errTableAccess, errSpecific, errColumnAccess, errRoutineAccess, errBinaryLog)
}

// sayDenied gives an error for want of a right the reason that goes with it.
func sayDenied(err error) error {
	var told *reason.Error
	if err == nil || !denied(err) || errors.As(err, &told) {
		return err
	}
	return fmt.Errorf("%w: %w", database.ErrNotSetUp, err)
}
