package sqlite

import (
	"context"
	"database/sql"
	"os"

	driver "modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// A file of a few pages can have definitions that make a value of a gigabyte of each row: a column's check, an index over an expression,
// a view. They are run in this process, when rows are loaded and when a file is proved. So no value may be longer than what the file,
// or a statement, could hold, doubled by writing it as hexadecimal digits, and then some.

// leastBound is what a value may always have, and mostBound SQLite's own limit, in bytes.
const leastBound, mostBound = 32 << 20, 1_000_000_000

// bound limits the length of what SQLite makes on a connection, to something in proportion to so many bytes.
func bound(conn *sql.Conn, bytes int64) error {
	_, err := driver.Limit(conn, lib.SQLITE_LIMIT_LENGTH, int(max(leastBound, min(3*bytes, mostBound))))
	return err
}

// bounded is a connection of a pool on which values are bounded by the length of the file.
func bounded(ctx context.Context, pool *sql.DB, bytes int64) (*sql.Conn, error) {
	conn, err := pool.Conn(ctx)
	if err != nil {
		return nil, err
	}
	if err := bound(conn, bytes); err != nil {
		_ = conn.Close()
		return nil, err
	}
	return conn, nil
}

// sizeOf is the length of a database file and its log in bytes, 0 where that is not known.
func sizeOf(file string) (bytes int64) {
	for _, name := range []string{file, file + "-wal"} {
		if info, err := os.Stat(name); err == nil {
			bytes += info.Size()
		}
	}
	return bytes
}
