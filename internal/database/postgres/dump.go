package postgres

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jackc/pgx/v5"

	"revlet/internal/database"
)

// The lines that say what encoding a text is in. A database in SQL_ASCII takes any bytes, and
// gives them as they are: nobody knows what they mean.
const (
	utf8Line  = "SET client_encoding = 'UTF8';\n"
	bytesLine = "SET client_encoding = 'SQL_ASCII';\n"
)

// header is what a text begins with.
func (s *snapshot) header() string {
	if s.db.info.Charset == "SQL_ASCII" {
		return strings.Replace(header, utf8Line, bytesLine, 1)
	}
	return header
}

// header makes a part loadable by itself with psql. Names in the text are
// relative to the schema, which whoever loads it chooses with search_path.
const header = utf8Line + "SET standard_conforming_strings = on;\nSET check_function_bodies = off;\n"

// lanes is how many connections dump at a time; they share one snapshot.
const lanes = 2

// onlyTables has nothing be read but tables, where the server can do that (PostgreSQL manual, 19.11
// restrict_nonsystem_relation_kind): one that was listed may be a view by now, which runs what its owner likes.
const onlyTables = "SELECT set_config(name, 'view, foreign-table', false) FROM pg_settings WHERE name = 'restrict_nonsystem_relation_kind'"

type snapshot struct {
	db      *Database
	all     []*pgx.Conn
	free    chan *pgx.Conn
	schema  string
	objects string
	units   []database.Unit
	queries map[string]tableQuery
	gaps    []database.Gap
	// marks are what the server vouches for later, unchanged the tables that it vouches for now: see vouched.go.
	marks     *database.Marks
	unchanged []string
}

// tableQuery is how one table's rows are read and written back.
type tableQuery struct{ read, write string }

// Snapshot implements database.Source.
func (db *Database) Snapshot(ctx context.Context) (database.Snapshot, error) {
	return db.snapshot(ctx, nil)
}

func (db *Database) snapshot(ctx context.Context, before *database.Marks) (*snapshot, error) {
	s := &snapshot{db: db, free: make(chan *pgx.Conn, lanes), queries: map[string]tableQuery{}}
	if err := s.begin(ctx, before); err != nil {
		_ = s.Close()
		return nil, fmt.Errorf("database %s: %w", db.c.Name, err)
	}
	return s, nil
}

func (s *snapshot) begin(ctx context.Context, before *database.Marks) error {
	id := ""
	for range lanes {
		conn, err := s.db.c.connect(ctx)
		if err != nil {
			return err
		}
		s.all = append(s.all, conn)
		if _, err := conn.Exec(ctx, fmt.Sprintf("SET lock_timeout = '%ds'", int(dumpWait.Seconds()))); err != nil {
			return err
		}
		if _, err := conn.Exec(ctx, "BEGIN TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY"); err != nil {
			return err
		}
		if id == "" {
			err = conn.QueryRow(ctx, "SELECT pg_export_snapshot()").Scan(&id)
		} else {
			_, err = conn.Exec(ctx, "SET TRANSACTION SNAPSHOT "+literal(id))
		}
		if err != nil {
			return err
		}
		if _, err := conn.Exec(ctx, "SET row_security = off; SET extra_float_digits = 3; SET datestyle = 'ISO'; SET intervalstyle = 'postgres'; SET timezone = 'UTC'; SET bytea_output = 'hex'"); err != nil {
			return err
		}
		if _, err := conn.Exec(ctx, onlyTables); err != nil {
			return err
		}
		if s.db.info.Charset == "SQL_ASCII" {
			if _, err := conn.Exec(ctx, bytesLine); err != nil {
				return err
			}
		}
		s.free <- conn
	}
	d := &describer{conn: s.all[0], schema: s.db.schema}
	if err := d.describe(ctx); err != nil {
		return err
	}
	for _, conn := range s.all { // references to objects are then written as the definitions are
		if _, err := conn.Exec(ctx, "SET search_path = "+quote(s.db.schema)); err != nil {
			return err
		}
	}
	s.gaps = d.gaps
	s.schema = s.header() + d.early.String()
	s.objects = s.header() + d.late.String()
	s.units = append(s.units, database.Unit{Kind: database.Schema})
	err := s.rows(ctx, before, d.tables)
	s.units = append(s.units, database.Unit{Kind: database.Objects})
	return err
}

// rows finds out which tables are to be read, and how.
func (s *snapshot) rows(ctx context.Context, before *database.Marks, tables []*table) error {
	for _, t := range tables {
		s.queries[t.name] = t.query()
	}
	if err := s.vouch(ctx, before, tables); err != nil {
		return err
	}
	for _, t := range tables {
		if t.unchanged {
			s.unchanged = append(s.unchanged, t.name)
			continue
		}
		s.units = append(s.units, database.Unit{Kind: database.Rows, Table: t.name, Slice: 1, Bytes: t.bytes})
	}
	return nil
}

// Units implements database.Snapshot.
func (s *snapshot) Units() []database.Unit { return s.units }

// Lanes implements database.Snapshot.
func (s *snapshot) Lanes() int { return lanes }

// Consistency implements database.Snapshot.
func (s *snapshot) Consistency() string {
	return fmt.Sprintf("one exported snapshot on %d connections", lanes)
}

// Sequences implements database.Snapshot: they are not staged by name.
func (s *snapshot) Sequences() []string { return nil }

// Gaps implements database.Snapshot.
func (s *snapshot) Gaps() []database.Gap { return s.gaps }

// Neighbours implements database.Snapshot.
func (s *snapshot) Neighbours() []string { return nil }

// Close implements database.Snapshot.
func (s *snapshot) Close() error {
	var errs []error
	for _, c := range s.all {
		errs = append(errs, c.Close(context.Background()))
	}
	return errors.Join(errs...)
}

// Dump implements database.Snapshot.
func (s *snapshot) Dump(ctx context.Context, u database.Unit, w io.Writer) (int64, error) {
	if u.Kind != database.Rows {
		return 0, database.WriteDefinitions(u, s.schema, s.objects, w)
	}
	var conn *pgx.Conn
	select {
	case conn = <-s.free:
		defer func() { s.free <- conn }()
	case <-ctx.Done():
		return 0, ctx.Err()
	}
	q := s.queries[u.Table]
	out := bufio.NewWriterSize(w, 1<<18)
	out.WriteString(s.header() + q.write + "\n")
	tag, err := conn.PgConn().CopyTo(ctx, out, q.read)
	if err != nil {
		return 0, fmt.Errorf("table %s: %w", u.Table, err)
	}
	out.WriteString("\\.\n")
	return tag.RowsAffected(), out.Flush()
}

// table is one table with rows of its own.
type table struct {
	name    string
	bytes   int64
	columns []string
	key     []string
	// unchanged tells that its rows are those of the last archive.
	unchanged bool
}

func (t *table) query() tableQuery {
	var names []string
	for _, c := range t.columns {
		names = append(names, quote(c))
	}
	list := strings.Join(names, ", ")
	order := list
	if len(t.key) > 0 {
		names = nil
		for _, k := range t.key {
			names = append(names, quote(k))
		}
		order = strings.Join(names, ", ")
	} else {
		// Not every type has an order of its own, but each has a text.
		names = nil
		for _, c := range t.columns {
			names = append(names, quote(c)+"::text")
		}
		order = strings.Join(names, ", ")
	}
	if list == "" {
		return tableQuery{read: "COPY (SELECT FROM " + quote(t.name) + ") TO STDOUT", write: "COPY " + quote(t.name) + " FROM stdin;"}
	}
	return tableQuery{
		read:  "COPY (SELECT " + list + " FROM ONLY " + quote(t.name) + " ORDER BY " + order + ") TO STDOUT",
		write: "COPY " + quote(t.name) + " (" + list + ") FROM stdin;",
	}
}
