package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"regexp"

	"revlet/internal/database"
	"revlet/internal/database/sqltext"
)

var (
	// passedOver matches what a dump says about where it is loaded, and locks
	// that nobody else could contend for in the staging database.
	passedOver = regexp.MustCompile(`(?is)^(?:/\*.*?\*/\s*)*(?:CREATE DATABASE|USE|LOCK TABLES|UNLOCK TABLES|/\*!\d+ CREATE DATABASE)\b`)
	// reachingOut matches statements that have no place in a dump of one database.
	reachingOut = regexp.MustCompile(`(?is)^(?:/\*.*?\*/\s*)*(?:DROP DATABASE|GRANT|REVOKE|CREATE USER|ALTER USER|DROP USER|SET GLOBAL|SET PASSWORD|INSTALL|LOAD DATA|SELECT|CALL|SOURCE)\b`)
	// dumpDefiner matches the account an object is tied to, in a versioned
	// comment of its own as dump clients write it.
	dumpDefiner = regexp.MustCompile("/\\*!\\d+ DEFINER=`(?:[^`]|``)*`@`(?:[^`]|``)*`(?: SQL SECURITY DEFINER)? ?\\*/")
)

// LoadDump runs an SQL text that the server's own dump client, or a database
// admin page, has written. It needs a staging database of its own. The plan is
// completed with what the text has made.
func (db *Database) LoadDump(ctx context.Context, p *database.Plan, r io.Reader) (rows int64, err error) {
	if p.Stage == p.Live {
		return 0, fmt.Errorf("an SQL file can only be staged in a database of its own, and the account may not make one; run once as the server's administrator: GRANT ALL ON `rv\\_%%`.* TO %s", quote(db.c.User))
	}
	err = db.onConn(ctx, p.Stage, func(conn *sql.Conn) error {
		if rows, err = runDump(ctx, conn, r); err != nil {
			return err
		}
		return db.completeFromStage(ctx, conn, p)
	})
	return rows, err
}

func runDump(ctx context.Context, conn *sql.Conn, r io.Reader) (rows int64, err error) {
	s := sqltext.NewSplitter(r, sqltext.MySQL)
	for {
		stmt, err := s.Next()
		if errors.Is(err, io.EOF) {
			return rows, nil
		}
		if err != nil {
			return rows, err
		}
		if passedOver.MatchString(stmt) {
			continue
		}
		if reachingOut.MatchString(stmt) {
			return rows, foreign(stmt)
		}
		stmt = definer.ReplaceAllString(dumpDefiner.ReplaceAllString(stmt, ""), "")
		res, err := conn.ExecContext(ctx, stmt)
		if err != nil {
			return rows, fmt.Errorf("%.60q: %w", stmt, err)
		}
		if n, err := res.RowsAffected(); err == nil {
			rows += n
		}
	}
}

// completeFromStage finds what a dump has made in the staging database: tables
// to exchange, and views, triggers and routines to make anew afterwards.
func (db *Database) completeFromStage(ctx context.Context, conn *sql.Conn, p *database.Plan) error {
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
	p.NewObjects = objectsText(objects)
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
