package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/zstd"

	"revlet/internal/database"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
)

// ChangeStaged has the rows of all staged tables go through change, which gets each table's
// name in the archive and its rows as Dump writes them. It is for what another program has
// written, which is staged before its rows can be read. The rows pass through files in dir,
// compressed.
func (db *Database) ChangeStaged(ctx context.Context, p *database.Plan, d *disk.Disk, dir string, change func(table string, rows io.Reader) (io.Reader, error)) error {
	c := db.c
	c.Name, c.Prefix, c.OwnTables = p.Stage, "", nil
	if p.Stage == p.Live {
		c.only = stagePrefix + p.ID + "_"
	}
	staged, err := Open(ctx, c)
	if err != nil {
		return err
	}
	defer staged.Close()
	names := map[string]string{}
	for _, m := range p.Tables {
		if m.Staged != "" {
			names[m.Staged] = m.Archived()
		}
	}
	spooled, err := staged.spool(ctx, d, dir, names)
	if err != nil {
		return err
	}
	return db.onConn(ctx, p.Stage, func(conn *sql.Conn) error {
		if _, err := conn.ExecContext(ctx, "SET SESSION foreign_key_checks = 0, unique_checks = 0"); err != nil {
			return err
		}
		emptied := map[string]bool{}
		for _, u := range spooled {
			if !emptied[u.table] {
				if _, err := conn.ExecContext(ctx, "TRUNCATE TABLE "+quote(u.table)); err != nil {
					return fmt.Errorf("table %s: %w", names[u.table], err)
				}
				emptied[u.table] = true
			}
			if err := u.load(ctx, db, conn, d, func(rows io.Reader) (io.Reader, error) { return change(names[u.table], rows) }); err != nil {
				return fmt.Errorf("table %s: %w", names[u.table], err)
			}
		}
		return nil
	})
}

// spooledRows are the rows of a staged table, or a slice of them, in a file.
type spooledRows struct {
	table, file string
	rows        int64
}

// spool writes the rows of staged tables into files.
func (db *Database) spool(ctx context.Context, d *disk.Disk, dir string, names map[string]string) (all []spooledRows, err error) {
	var triggers int
	if err := db.pool.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()").Scan(&triggers); err != nil {
		return nil, err
	}
	if triggers > 0 && db.c.only == "" {
		return nil, reason.New(reason.CannotMove, nil, "the database has triggers, which would run when the rows of a copy that another program has written are changed")
	}
	snapshot, err := db.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	defer snapshot.Close()
	for _, u := range snapshot.Units() {
		if u.Kind != database.Rows || names[u.Table] == "" {
			continue
		}
		one := spooledRows{table: u.Table, file: filepath.Join(dir, fmt.Sprintf("rows-%d.zst", len(all)))}
		if one.rows, err = one.write(ctx, d, snapshot, u); err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, nil
}

func (s spooledRows) write(ctx context.Context, d *disk.Disk, snapshot database.Snapshot, u database.Unit) (rows int64, err error) {
	f, err := d.OpenFile(s.file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return 0, err
	}
	defer func() {
		if failed := f.Close(); err == nil {
			err = failed
		}
	}()
	z, err := zstd.NewWriter(f, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return 0, err
	}
	if rows, err = snapshot.Dump(ctx, u, z); err != nil {
		return 0, err
	}
	return rows, z.Close()
}

// load puts the rows into their table, changed.
func (s spooledRows) load(ctx context.Context, db *Database, conn *sql.Conn, d *disk.Disk, change func(io.Reader) (io.Reader, error)) error {
	f, err := os.Open(s.file)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close(); _ = d.Remove(s.file) }()
	z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return err
	}
	defer z.Close()
	changed, err := change(z)
	if err != nil {
		return err
	}
	n, err := db.insertRows(ctx, conn, s.table, s.table, changed)
	if err == nil && n != s.rows {
		err = fmt.Errorf("%d rows came, %d were there", n, s.rows)
	}
	return err
}
