// Package engine opens a site's database with the code for its make.
package engine

import (
	"context"
	"fmt"
	"io"

	"revlet/internal/database"
	"revlet/internal/database/mysql"
	"revlet/internal/database/postgres"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// Source opens a database for dumping. scratch is a folder for passing copies.
func Source(ctx context.Context, d *disk.Disk, db site.Database, scratch string) (database.Source, error) {
	if err := reachable(db); err != nil {
		return nil, err
	}
	switch db.Engine {
	case "mysql":
		return mysql.Open(ctx, mysqlConfig(db))
	case "postgres":
		return postgres.Open(ctx, postgresConfig(db))
	case "sqlite":
		if db.Place != nil {
			return farFile(ctx, d, db, scratch)
		}
		return localFile(ctx, d, db, scratch, sqlite.Open)
	default:
		return nil, fmt.Errorf("database %s: no engine called %q", db.Label, db.Engine)
	}
}

// Untouched is Source for a look that leaves no traces beside a database that is a file.
func Untouched(ctx context.Context, d *disk.Disk, db site.Database, scratch string) (database.Source, error) {
	if db.Engine == "sqlite" && db.Place == nil && db.On == "" {
		return localFile(ctx, d, db, scratch, sqlite.OpenUntouched)
	}
	return Source(ctx, d, db, scratch)
}

// CopyFile makes a copy of a database that is a file in a folder of a site, as of one
// moment, and returns its path on this machine.
func CopyFile(ctx context.Context, d *disk.Disk, in tree.Folder, name, scratch string) (string, error) {
	if here, ok := in.(interface{ Path(name string) string }); ok && !exposed(here.Path(name)) {
		return sqlite.Copy(ctx, d, here.Path(name), scratch)
	}
	return fetchFile(ctx, d, in, name, scratch)
}

// IsFile tells whether a file begins as a database does that CopyFile copies.
func IsFile(head []byte) bool { return string(head) == sqlite.Magic }

// Target opens a database for restoring into. mode and beside are for one that
// is a file: its permissions, and the folder to stage it in.
func Target(ctx context.Context, d *disk.Disk, db site.Database, mode sqlite.FileMode, beside string) (database.Target, error) {
	if err := reachable(db); err != nil {
		return nil, err
	}
	switch db.Engine {
	case "mysql":
		return mysql.Open(ctx, mysqlConfig(db))
	case "postgres":
		return postgres.Open(ctx, postgresConfig(db))
	case "sqlite":
		if db.Place != nil {
			return nil, fmt.Errorf("database %s: %w", db.Label, ErrFarFile)
		}
		return sqlite.ForRestore(sqlite.Config{Path: db.Path, Disk: d, Mode: mode, Beside: beside}), nil
	default:
		return nil, fmt.Errorf("database %s: no engine called %q", db.Label, db.Engine)
	}
}

// Make makes a database, its account and its rights, as an administrator of the server. It
// returns what it has made, in words, also with an error.
func Make(ctx context.Context, admin, db site.Database, s database.Setup) (made []string, err error) {
	if db.Engine == "postgres" {
		return postgres.Make(ctx, postgresConfig(admin), postgresConfig(db), s)
	}
	return mysql.Make(ctx, mysqlConfig(admin), mysqlConfig(db), s)
}

// Statements cuts SQL text, as Revlet writes it for a make of database, into
// statements.
func Statements(make string, r io.Reader) ([]string, error) {
	switch make {
	case "mysql":
		return mysql.Statements(r)
	case "postgres":
		return postgres.Statements(r)
	case "sqlite":
		return sqlite.Statements(r)
	default:
		return nil, fmt.Errorf("no engine called %q", make)
	}
}

// DumpTables names the tables that a text of another program makes of a database: the
// one that live or, if it is given, from names, where the text holds several.
func DumpTables(make string, r io.Reader, live, from string) ([]string, error) {
	switch make {
	case "mysql":
		return mysql.DumpTables(r, live, from)
	case "postgres":
		return postgres.DumpTables(r)
	default:
		return nil, fmt.Errorf("no engine called %q takes text of another program", make)
	}
}

func postgresConfig(db site.Database) postgres.Config {
	return postgres.Config{Host: db.Host, Port: db.Port, Socket: db.Socket, User: db.User, Password: db.Password, Name: db.Name, TLS: db.TLS, As: db.As, Dial: through(db)}
}

func mysqlConfig(db site.Database) mysql.Config {
	return mysql.Config{Host: db.Host, Port: db.Port, Socket: db.Socket, User: db.User, Password: db.Password,
		Name: db.Name, Prefix: db.Prefix, OwnTables: db.OwnTables, TLS: db.TLS, As: db.As, Dial: through(db)}
}
