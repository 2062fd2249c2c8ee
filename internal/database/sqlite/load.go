package sqlite

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"revlet/internal/database"
	"revlet/internal/database/rowrestore"
	"revlet/internal/database/sqltext"
	"revlet/internal/platform/lazy"
)

// Plan implements database.Target. The stage is a file on the live one's file
// system, so that a rename puts it in place.
func (db *Database) Plan(id string) *database.Plan {
	name := filepath.Base(db.c.Path)
	return &database.Plan{
		ID:     id,
		Engine: "sqlite",
		Live:   db.c.Path,
		Stage:  filepath.Join(db.c.Beside, "new-"+name),
		Aside:  filepath.Join(db.c.Beside, "old-"+name),
	}
}

// Prepare implements database.Target.
func (db *Database) Prepare(_ context.Context, p *database.Plan, _ []string) error {
	live, err := db.c.Disk.Exists(p.Live)
	if err != nil {
		return err
	}
	p.Vacant = !live && p.Rows == nil
	for _, dir := range []string{db.c.Beside, filepath.Dir(db.c.Path)} {
		if err := db.c.Disk.MkdirAll(dir, 0o700); err != nil {
			return fmt.Errorf("stage the database: %w", err)
		}
	}
	return nil
}

// Lanes implements database.Target: a file has one writer.
func (db *Database) Lanes() int { return 1 }

// Load implements database.Target.
func (db *Database) Load(ctx context.Context, p *database.Plan, u database.Unit, r io.Reader) (int64, error) {
	pool, err := sql.Open("sqlite", dsn(p.Stage, "_pragma=synchronous(OFF)&_pragma=foreign_keys(OFF)&_pragma=busy_timeout(30000)"))
	if err != nil {
		return 0, err
	}
	defer pool.Close()
	conn, err := bounded(ctx, pool, sizeOf(p.Stage))
	if err != nil {
		return 0, fmt.Errorf("stage the database: %w", err)
	}
	defer conn.Close()
	var count int64
	longest := int(leastBound / 3)
	err = eachStatement(r, func(stmt string) error {
		if len(stmt) > longest {
			longest = len(stmt)
			if err := bound(conn, max(int64(longest), sizeOf(p.Stage))); err != nil {
				return err
			}
		}
		insert, err := check(u, stmt)
		if err != nil {
			return err
		}
		if p.Rows != nil && u.Kind == database.Objects && !makesIndex().MatchString(stmt) {
			return nil // the live ones stay
		}
		res, err := conn.ExecContext(ctx, stmt)
		if err != nil || !insert {
			return err
		}
		n, err := res.RowsAffected()
		count += n
		return err
	})
	if err != nil {
		return count, fmt.Errorf("load %s %s: %w", u.Kind, u.Table, err)
	}
	if u.Kind == database.Objects && p.Rows == nil {
		if err := bound(conn, sizeOf(p.Stage)); err != nil {
			return count, err
		}
		if err := prove(ctx, conn, p.Stage); err != nil {
			return count, err
		}
		return count, db.c.Mode.apply(p.Stage)
	}
	return count, nil
}

// apply gives a file its permissions and, where this account may, its owner.
func (m FileMode) apply(file string) error {
	if m.Perm == 0 {
		return nil
	}
	if err := os.Chmod(file, m.Perm); err != nil {
		return err
	}
	if os.Geteuid() == 0 {
		return os.Lchown(file, m.UID, m.GID)
	}
	return nil
}

// Check proves that a database file is consistent in itself.
func Check(ctx context.Context, file string) error {
	pool, err := sql.Open("sqlite", dsn(file, "mode=ro&immutable=1"))
	if err != nil {
		return fmt.Errorf("check %s: %w", file, err)
	}
	defer pool.Close()
	conn, err := bounded(ctx, pool, sizeOf(file))
	if err != nil {
		return fmt.Errorf("check %s: %w", file, err)
	}
	defer conn.Close()
	return consistent(ctx, conn, file)
}

func consistent(ctx context.Context, in *sql.Conn, file string) error {
	var verdict string
	if err := in.QueryRowContext(ctx, "PRAGMA integrity_check(1)").Scan(&verdict); err != nil {
		return fmt.Errorf("check %s: %w", file, err)
	}
	if verdict != "ok" {
		return fmt.Errorf("check %s: %s", file, verdict)
	}
	return nil
}

// prove checks the whole staged file once everything is in it, and leaves no
// log beside it.
func prove(ctx context.Context, conn *sql.Conn, file string) error {
	if err := consistent(ctx, conn, file); err != nil {
		return err
	}
	_, err := conn.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)")
	return err
}

var (
	setting    = lazy.Regexp(`^PRAGMA (?:encoding|page_size|auto_vacuum|application_id|user_version|journal_mode|writable_schema) = [-'A-Za-z0-9]+$`)
	makesIndex = lazy.Regexp(`(?i)^CREATE\s+(?:UNIQUE\s+)?INDEX\s`)
	define     = lazy.Regexp(`(?i)^CREATE\s+(?:UNIQUE\s+)?(?:TABLE|INDEX|VIEW|TRIGGER)\s`)
	asQuery    = lazy.Regexp(`(?is)^CREATE\s+TABLE\s+\S+\s+AS\b`)
)

// check refuses what Revlet does not write into a part of that kind.
func check(u database.Unit, stmt string) (insert bool, err error) {
	switch {
	case setting().MatchString(stmt), stmt == "BEGIN", stmt == "COMMIT", stmt == "DELETE FROM sqlite_sequence":
		return false, nil
	case u.Kind == database.Rows && strings.HasPrefix(stmt, "INSERT INTO "+quote(u.Table)+" (") && literalsOnly(stmt):
		return true, nil
	case u.Kind == database.Objects && strings.HasPrefix(stmt, "INSERT INTO sqlite_schema (") && literalsOnly(stmt):
		return false, nil
	case u.Kind != database.Rows && define().MatchString(stmt) && !asQuery().MatchString(stmt):
		return false, nil
	}
	return false, fmt.Errorf("%w: %.60q", database.ErrForeignSQL, stmt)
}

// outside matches what may stand outside quotes in an INSERT: numbers, NULL,
// blobs, and CAST(… AS TEXT) around one.
var outside = lazy.Regexp(`^(?:[\s(),0-9eE.+-]|NULL|x|CAST|AS TEXT)*$`)

func literalsOnly(stmt string) bool {
	_, values, ok := strings.Cut(stmt, ") VALUES\n")
	if !ok {
		_, values, ok = strings.Cut(stmt, ") VALUES ")
	}
	var b strings.Builder
	quoted := false
	for i := 0; i < len(values); i++ {
		if values[i] == '\'' {
			quoted = !quoted
		} else if !quoted {
			b.WriteByte(values[i])
		}
	}
	return ok && !quoted && outside().MatchString(b.String())
}

// eachStatement calls visit for every statement of a text.
func eachStatement(r io.Reader, visit func(string) error) error {
	s := sqltext.NewSplitter(r, sqltext.SQLite)
	for {
		stmt, err := s.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = visit(stmt)
		}
		if err != nil {
			return err
		}
	}
}

// Statements cuts SQL text into statements.
func Statements(r io.Reader) ([]string, error) { return sqltext.All(r, sqltext.SQLite) }

// Swap implements database.Target: the live file and the logs that belong to it
// go aside, the staged one takes its place.
func (db *Database) Swap(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return db.onShare(ctx, p, func(m *rowShare) error { return rowrestore.Swap(ctx, m, p) })
	}
	if err := db.sync(p.Stage); err != nil {
		return err
	}
	if err := db.moveAll(p.Live, p.Aside, p.Stage); err != nil {
		return err
	}
	return db.moveAll(p.Stage, p.Live, "")
}

// sync makes a file and its name durable, if it is there still: what takes the live
// one's place must not be empty after a power cut.
func (db *Database) sync(file string) error {
	f, err := db.c.Disk.OpenFile(file, os.O_RDWR, 0) // Windows flushes nothing that is open for reading
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("sync %s: %w", file, err)
	}
	return db.c.Disk.SyncDir(filepath.Dir(file))
}

// Revert implements database.Target.
func (db *Database) Revert(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return db.onShare(ctx, p, func(m *rowShare) error { return rowrestore.Revert(ctx, m, p) })
	}
	aside, err := db.c.Disk.Exists(p.Aside)
	if err != nil {
		return err
	}
	staged, err := db.c.Disk.Exists(p.Stage)
	if err != nil {
		return err
	}
	if !staged {
		if err := db.clearWay(p, aside); err != nil {
			return err
		}
	}
	if !aside {
		return nil
	}
	return db.moveAll(p.Aside, p.Live, "")
}

// AsideThere implements database.Target.
func (db *Database) AsideThere(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		if live, err := db.c.Disk.Exists(p.Live); err != nil || !live {
			return cmp.Or(err, database.Gone(database.ErrAsideGone, []string{"the file itself"}, p.Live))
		}
		return db.onShare(ctx, p, func(m *rowShare) error { return rowrestore.AsideThere(ctx, m, p) })
	}
	aside, err := db.c.Disk.Exists(p.Aside)
	if err != nil || aside || p.Vacant {
		return err
	}
	return database.Gone(database.ErrAsideGone, []string{filepath.Base(p.Aside)}, filepath.Dir(p.Aside))
}

// Free implements database.Target: a file changes places whoever reads it.
func (db *Database) Free(context.Context, *database.Plan) error { return nil }

// StageThere implements database.Target.
func (db *Database) StageThere(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return db.onShare(ctx, p, func(m *rowShare) error { return rowrestore.StageThere(ctx, m, p) })
	}
	staged, err := db.c.Disk.Exists(p.Stage)
	if err != nil || staged {
		return err
	}
	return database.Gone(database.ErrStageGone, []string{filepath.Base(p.Stage)}, filepath.Dir(p.Stage))
}

// clearWay moves the live file to where it was staged. Where there is none any more, an
// empty one stands for it there: whoever comes again sees that this is done, and does not
// take the one that was put back for it.
func (db *Database) clearWay(p *database.Plan, aside bool) error {
	live, err := db.c.Disk.Exists(p.Live)
	if err != nil {
		return err
	}
	if !live && aside {
		return db.c.Disk.WriteFile(p.Stage, nil, 0o600)
	}
	return db.moveAll(p.Live, p.Stage, "")
}

// logs are the files that SQLite keeps beside a database; the database itself
// moves last, so that it never stands without them.
var logs = []string{"-wal", "-journal", "-shm", ""}

// moveAll renames a database file with its logs. When unless is given, nothing
// is moved once that file is gone: the step was taken before a crash.
func (db *Database) moveAll(from, to, unless string) error {
	if unless != "" {
		if staged, err := db.c.Disk.Exists(unless); err != nil || !staged {
			return err
		}
	}
	for _, suffix := range logs {
		there, err := db.c.Disk.Exists(from + suffix)
		if err != nil {
			return err
		}
		if !there {
			continue
		}
		if err := db.c.Disk.RenameNoLinks(from+suffix, to+suffix); err != nil {
			return fmt.Errorf("exchange the database file: %w", err)
		}
	}
	return db.c.Disk.SyncDir(filepath.Dir(to))
}

// DropStage implements database.Target.
func (db *Database) DropStage(_ context.Context, p *database.Plan) error { return db.dropAll(p.Stage) }

// DropAside implements database.Target.
func (db *Database) DropAside(ctx context.Context, p *database.Plan) error {
	if p.Rows != nil {
		return db.dropShare(ctx, p)
	}
	return db.dropAll(p.Aside)
}

func (db *Database) dropAll(file string) error {
	for _, suffix := range logs {
		there, err := db.c.Disk.Exists(file + suffix)
		if err == nil && there {
			err = db.c.Disk.Remove(file + suffix)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
