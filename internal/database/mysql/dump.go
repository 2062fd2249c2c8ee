package mysql

import (
	"bufio"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	driver "github.com/go-sql-driver/mysql"

	"revlet/internal/database"
)

// dumpMode is the SQL mode in which rows are read and written: zeros and dates such as
// 31 February stay what they are.
const dumpMode = "NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES"

// rowsHeader makes a part of rows loadable by itself with the plain client.
const rowsHeader = "SET NAMES binary;\n" +
	"SET SESSION sql_mode = '" + dumpMode + "', time_zone = '+00:00', foreign_key_checks = 0, unique_checks = 0;\n" +
	"SET autocommit = 0;\n"

const rowsFooter = "COMMIT;\n"

const schemaHeader = "SET NAMES utf8mb4;\n" +
	"SET SESSION sql_mode = '" + dumpMode + "', time_zone = '+00:00', foreign_key_checks = 0, unique_checks = 0;\n"

// statementBytes is about how long one INSERT gets: well below the smallest
// packet limit in use, long enough that the server's overhead does not count.
const statementBytes = 512 << 10

// sliceBytes is how much of a table goes into one part.
const sliceBytes = 16 << 20

// lanes is how many connections dump at a time when they can share a moment.
const lanes = 2

type snapshot struct {
	db      *Database
	tables  map[string]*table
	units   []database.Unit
	ranges  map[database.Unit]keyRange
	schema  string
	objects string
	gaps    []database.Gap
	others  []string
	how     string
	free    chan *sql.Conn
	all     []*sql.Conn
	plain   *sql.Conn // for tables that no snapshot covers
	// marks are of this snapshot, before those of an earlier one, where the server vouches for tables.
	marks, before *database.Marks
	plainUse      sync.Mutex
}

// keyRange is a slice of a table: from ≤ key < to, open where nil.
type keyRange struct{ from, to *int64 }

// Snapshot implements database.Source.
func (db *Database) Snapshot(ctx context.Context) (database.Snapshot, error) {
	return db.snapshot(ctx, nil)
}

func (db *Database) snapshot(ctx context.Context, before *database.Marks) (database.Snapshot, error) {
	s := &snapshot{db: db, before: before, tables: map[string]*table{}, ranges: map[database.Unit]keyRange{}, free: make(chan *sql.Conn, lanes)}
	if err := s.begin(ctx); err != nil {
		_ = s.Close()
		return nil, fmt.Errorf("database %s: %w", db.c.Name, err)
	}
	return s, nil
}

func (s *snapshot) begin(ctx context.Context) (err error) {
	if s.plain, err = s.db.pool.Conn(ctx); err != nil {
		return err
	}
	if err := session(ctx, s.plain, "utf8mb4"); err != nil {
		return err
	}
	listed, views, err := s.db.listTables(ctx, s.plain)
	if err != nil {
		return err
	}
	mine, views, others := s.db.neighbours(listed, views)
	s.others = others

	s.askBefore(ctx)
	unlock, n, err := s.lock(ctx, mine)
	if err != nil {
		return err
	}
	if n == 1 { // somebody may be writing
		s.unvouched()
	}
	s.askLocked(ctx, mine)
	for range n {
		conn, err := s.db.pool.Conn(ctx)
		if err != nil {
			unlock()
			return err
		}
		s.all = append(s.all, conn)
		s.free <- conn
		if err := beginSnapshot(ctx, conn); err != nil {
			unlock()
			return err
		}
	}
	unlock()
	if err := s.describe(ctx, mine); err != nil {
		return err
	}
	if views, err = s.working(ctx, views); err != nil {
		return err
	}
	var gaps []database.Gap
	s.objects, gaps, err = s.db.dumpObjects(ctx, s.plain, views, s.tables)
	s.gaps = append(s.gaps, gaps...)
	if err != nil {
		return err
	}
	_, err = s.plain.ExecContext(ctx, "SET NAMES binary")
	return err
}

// working sorts out views that read from something that is not there: no server
// would take their definition.
func (s *snapshot) working(ctx context.Context, views []string) (sound []string, err error) {
	for _, v := range views {
		rows, err := s.plain.QueryContext(ctx, "SELECT * FROM "+quote(v)+" LIMIT 0")
		if isCode(err, errInvalidView, errNoTable, errNoColumn) {
			s.gaps = append(s.gaps, database.Gap{Object: "view " + v, Why: "it is broken: " + err.Error()})
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("view %s: %w", v, err)
		}
		_ = rows.Close()
		sound = append(sound, v)
	}
	return sound, nil
}

func beginSnapshot(ctx context.Context, conn *sql.Conn) error {
	if err := session(ctx, conn, "binary"); err != nil {
		return err
	}
	if _, err := conn.ExecContext(ctx, "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ"); err != nil {
		return err
	}
	_, err := conn.ExecContext(ctx, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
	return err
}

// lockWait bounds how long writers of a busy site may hold the dump up.
const lockWait = 10 * time.Second

// lock keeps everybody from writing for the moment in which several
// connections begin their snapshots. It returns how many connections may be
// used: one when the account has no right to lock.
func (s *snapshot) lock(ctx context.Context, tables []*table) (unlock func(), n int, err error) {
	conn, err := s.db.pool.Conn(ctx)
	if err != nil {
		return nil, 0, err
	}
	wait := fmt.Sprintf("SET SESSION lock_wait_timeout = %d", int(lockWait.Seconds()))
	if _, err := conn.ExecContext(ctx, wait); err != nil {
		_ = conn.Close()
		return nil, 0, err
	}
	unlock = func() {
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), "UNLOCK TABLES")
		_ = conn.Close()
	}
	if _, err := conn.ExecContext(ctx, "FLUSH TABLES WITH READ LOCK"); err == nil {
		s.how = fmt.Sprintf("one moment on %d connections (read lock while they began)", lanes)
		return unlock, lanes, nil
	}
	if len(tables) > 0 {
		names := make([]string, len(tables))
		for i, t := range tables {
			names[i] = quote(t.name) + " READ"
		}
		if _, err := conn.ExecContext(ctx, "LOCK TABLES "+strings.Join(names, ", ")); err == nil {
			s.how = fmt.Sprintf("one moment on %d connections (tables locked while they began)", lanes)
			return unlock, lanes, nil
		}
	}
	s.how = "one moment on one connection (the account may not lock tables)"
	return unlock, 1, nil
}

func (s *snapshot) describe(ctx context.Context, mine []*table) error {
	var b strings.Builder
	b.WriteString(schemaHeader)
	unlocked := 0
	for _, t := range mine {
		if t.elsewhere() {
			s.gaps = append(s.gaps, database.Gap{Object: database.TableGap + t.name, Why: "its rows are kept elsewhere, by storage engine " + t.engine})
			continue
		}
		if err := t.describe(ctx, s.plain); err != nil {
			return err
		}
		if _, _, err := checkSchema(t.create, parseVersion(s.db.info.Version)); err != nil {
			s.gaps = append(s.gaps, database.Gap{Object: "definition of table " + t.name, Why: "it is saved, but would not be run by a restore: " + err.Error()})
		}
		s.tables[t.name] = t
		b.WriteString(t.create + ";\n")
		if t.kind == "SEQUENCE" {
			value, err := sequenceValue(ctx, s.plain, t.name)
			if err != nil {
				return err
			}
			b.WriteString(value)
			continue
		}
		if !t.transactional() {
			unlocked++
		}
	}
	if unlocked > 0 {
		s.how += fmt.Sprintf("; %d tables whose engine has no transactions were locked one by one", unlocked)
	}
	s.schema = b.String()
	s.units = []database.Unit{{Kind: database.Schema, Bytes: int64(len(s.schema))}}
	for _, t := range mine {
		if t.kind == "SEQUENCE" || t.elsewhere() || t.unchanged {
			continue
		}
		if err := s.slice(ctx, t); err != nil {
			return err
		}
	}
	s.units = append(s.units, database.Unit{Kind: database.Objects})
	return nil
}

// slice makes one unit of a table, or several of a large one. The borders are
// multiples of a power of two, so that they stay where they are from one dump
// to the next while the table grows.
func (s *snapshot) slice(ctx context.Context, t *table) error {
	whole := database.Unit{Kind: database.Rows, Table: t.name, Slice: 1, Bytes: t.bytes}
	if !t.intKey || t.bytes <= sliceBytes || !t.transactional() || t.kind != "BASE TABLE" {
		s.units = append(s.units, whole)
		return nil
	}
	var low, high sql.NullInt64
	key := quote(t.key[0])
	q := fmt.Sprintf("SELECT CAST(MIN(%s) AS SIGNED), CAST(MAX(%s) AS SIGNED) FROM %s", key, key, quote(t.name))
	if err := s.all[0].QueryRowContext(ctx, q).Scan(&low, &high); err != nil || !low.Valid || low.Int64 < 0 || high.Int64 < 0 {
		s.units = append(s.units, whole)
		return nil
	}
	pieces := t.bytes/sliceBytes + 1
	step := int64(1)
	for step < (high.Int64-low.Int64)/pieces {
		step <<= 1
	}
	first, last := low.Int64/step, high.Int64/step
	for k := first; k <= last; k++ {
		u := database.Unit{Kind: database.Rows, Table: t.name, Slice: int(k-first) + 1, Bytes: t.bytes / (last - first + 1)}
		var r keyRange
		if k > first {
			from := k * step
			r.from = &from
		}
		if k < last {
			to := (k + 1) * step
			r.to = &to
		}
		s.ranges[u] = r
		s.units = append(s.units, u)
	}
	return nil
}

func sequenceValue(ctx context.Context, conn *sql.Conn, name string) (string, error) {
	var next int64
	if err := conn.QueryRowContext(ctx, "SELECT next_not_cached_value FROM "+quote(name)).Scan(&next); err != nil {
		return "", fmt.Errorf("sequence %s: %w", name, err)
	}
	return fmt.Sprintf("DO SETVAL(%s, %d, 0);\n", quote(name), next), nil
}

// Units implements database.Snapshot.
func (s *snapshot) Units() []database.Unit { return s.units }

// Lanes implements database.Snapshot.
func (s *snapshot) Lanes() int { return len(s.all) }

// Consistency implements database.Snapshot.
func (s *snapshot) Consistency() string { return s.how }

// Sequences implements database.Snapshot.
func (s *snapshot) Sequences() []string {
	var names []string
	for _, t := range s.tables {
		if t.kind == "SEQUENCE" {
			names = append(names, t.name)
		}
	}
	slices.Sort(names)
	return names
}

// Gaps implements database.Snapshot.
func (s *snapshot) Gaps() []database.Gap { return s.gaps }

// Neighbours implements database.Snapshot.
func (s *snapshot) Neighbours() []string { return s.others }

// Close implements database.Snapshot.
func (s *snapshot) Close() error {
	var errs []error
	if s.plain != nil {
		errs = append(errs, s.plain.Close())
	}
	for _, c := range s.all {
		_, _ = c.ExecContext(context.Background(), "ROLLBACK")
		errs = append(errs, c.Close())
	}
	return errors.Join(errs...)
}

// Dump implements database.Snapshot.
func (s *snapshot) Dump(ctx context.Context, u database.Unit, w io.Writer) (int64, error) {
	if u.Kind != database.Rows {
		return 0, database.WriteDefinitions(u, s.schema, s.objects, w)
	}
	t := s.tables[u.Table]
	if !t.transactional() {
		s.plainUse.Lock()
		defer s.plainUse.Unlock()
		// A failed lock is no failure of the dump: without the right to lock,
		// the table is read as it is.
		if _, err := s.plain.ExecContext(ctx, "LOCK TABLES "+quote(t.name)+" READ"); err == nil {
			defer s.plain.ExecContext(context.WithoutCancel(ctx), "UNLOCK TABLES")
		}
		return dumpRows(ctx, s.plain, t, keyRange{}, w)
	}
	select {
	case conn := <-s.free:
		defer func() { s.free <- conn }()
		return dumpRows(ctx, conn, t, s.ranges[u], w)
	case <-ctx.Done():
		return 0, ctx.Err()
	}
}

// dumpRows writes a table's rows as INSERT statements, a row a line.
func dumpRows(ctx context.Context, conn *sql.Conn, t *table, r keyRange, w io.Writer) (int64, error) {
	out := bufio.NewWriterSize(w, 1<<18)
	out.WriteString(rowsHeader)
	if t.kind == "SYSTEM VERSIONED" {
		out.WriteString("SET SESSION system_versioning_insert_history = 1;\n")
	}
	n, err := writeRows(ctx, conn, t, r, out)
	if errors.Is(err, driver.ErrInvalidConn) {
		err = fmt.Errorf("the server closed the connection while the table was read; run it again when the server is at rest (%w)", err)
	}
	if isCode(err, errNoTable, errAltered) {
		err = fmt.Errorf("%w: %w", database.ErrChanged, err)
	}
	if err != nil {
		return n, fmt.Errorf("table %s: %w", t.name, err)
	}
	out.WriteString(rowsFooter)
	return n, out.Flush()
}

func writeRows(ctx context.Context, conn *sql.Conn, t *table, r keyRange, out *bufio.Writer) (int64, error) {
	if len(t.columns) == 0 {
		return 0, nil
	}
	rows, err := conn.QueryContext(context.WithValue(ctx, tableRows{}, true), t.query(r))
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	head := t.insertHead()
	values := make([]sql.RawBytes, len(t.columns))
	pointers := make([]any, len(values))
	for i := range values {
		pointers[i] = &values[i]
	}
	var count int64
	var line []byte
	length := 0
	for rows.Next() {
		if err := rows.Scan(pointers...); err != nil {
			return count, err
		}
		size := rawLength(values)
		if line = line[:0]; size < largeRow {
			line = appendRow(line, t.columns, values)
			size = len(line)
		}
		switch {
		case length == 0:
			out.WriteString(head)
		case length+size > statementBytes:
			out.WriteString(";\n")
			out.WriteString(head)
			length = 0
		default:
			out.WriteString(",\n")
		}
		if len(line) == 0 {
			writeLarge(out, t.columns, values)
		}
		if _, err := out.Write(line); err != nil {
			return count, err
		}
		length += size
		count++
	}
	if length > 0 {
		out.WriteString(";\n")
	}
	return count, rows.Err()
}

// largeRow is from when on a row is written piece by piece, and not first put together in
// memory beside the values that the driver holds.
const largeRow = 1 << 20

func rawLength(values []sql.RawBytes) (n int) {
	for _, v := range values {
		n += len(v)
	}
	return n
}

// writeLarge writes what appendRow gives, a piece at a time. An error stays in out.
func writeLarge(out *bufio.Writer, columns []column, values []sql.RawBytes) {
	var b []byte
	for i, v := range values {
		out.WriteByte("(,"[btoi(i > 0)])
		if len(v) < largeRow/2 || columns[i].form == formNumber || columns[i].form == formFloat {
			b = appendValue(b[:0], columns[i], v)
			_, _ = out.Write(b)
			continue
		}
		if columns[i].form == formTyped {
			out.WriteString("_utf8mb4")
		}
		out.WriteByte('\'')
		for piece := range slices.Chunk(v, hexMost) {
			b = appendEscaped(b[:0], piece)
			_, _ = out.Write(b)
		}
		out.WriteByte('\'')
	}
	out.WriteByte(')')
}

func (t *table) insertHead() string {
	names := make([]string, len(t.columns))
	for i, c := range t.columns {
		names[i] = quote(c.name)
	}
	return "INSERT INTO " + quote(t.name) + " (" + strings.Join(names, ", ") + ") VALUES\n"
}

func (t *table) query(r keyRange) string {
	var b strings.Builder
	b.WriteString("SELECT ")
	for i, c := range t.columns {
		if i > 0 {
			b.WriteString(", ")
		}
		b.WriteString(quote(c.name))
		if c.form == formFloat {
			b.WriteString(" + 0e0")
		}
	}
	b.WriteString(" FROM " + quote(t.name))
	if t.kind == "SYSTEM VERSIONED" {
		b.WriteString(" FOR SYSTEM_TIME ALL")
	}
	var conditions []string
	if r.from != nil {
		conditions = append(conditions, quote(t.key[0])+" >= "+strconv.FormatInt(*r.from, 10))
	}
	if r.to != nil {
		conditions = append(conditions, quote(t.key[0])+" < "+strconv.FormatInt(*r.to, 10))
	}
	if len(conditions) > 0 {
		b.WriteString(" WHERE " + strings.Join(conditions, " AND "))
	}
	for i, k := range t.key {
		b.WriteString([]string{", ", " ORDER BY "}[btoi(i == 0)] + quote(k))
	}
	return b.String()
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

func appendRow(b []byte, columns []column, values []sql.RawBytes) []byte {
	b = append(b, '(')
	for i, v := range values {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendValue(b, columns[i], v)
	}
	return append(b, ')')
}

func appendValue(b []byte, c column, v []byte) []byte {
	switch {
	case v == nil:
		return append(b, "NULL"...)
	case c.form == formNumber || c.form == formFloat:
		return append(b, v...)
	case c.form == formBytes && len(v) <= hexMost:
		return appendHex(b, v)
	case c.form == formTyped:
		b = append(b, "_utf8mb4"...)
	}
	return appendText(b, v)
}

// hexMost is how long a binary value is written as hexadecimal digits: they
// double its length, and a statement must not outgrow the server's packets.
const hexMost = 64 << 10

const hexDigits = "0123456789abcdef"

func appendHex(b, v []byte) []byte {
	if len(v) == 0 {
		return append(b, "''"...)
	}
	b = append(b, "0x"...)
	for _, c := range v {
		b = append(b, hexDigits[c>>4], hexDigits[c&15])
	}
	return b
}

// escaped maps the bytes that a literal cannot hold as they are; a newline is
// among them, so that a row is always one line.
var escaped = [256]byte{0: '0', '\n': 'n', '\r': 'r', '\\': '\\', '\'': '\'', 26: 'Z'}

func appendText(b, v []byte) []byte {
	return append(appendEscaped(append(b, '\''), v), '\'')
}

func appendEscaped(b, v []byte) []byte {
	from := 0
	for i, c := range v {
		if e := escaped[c]; e != 0 {
			b = append(b, v[from:i]...)
			b = append(b, '\\', e)
			from = i + 1
		}
	}
	return append(b, v[from:]...)
}
