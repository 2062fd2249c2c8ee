// Package sqlite saves and puts back SQLite databases, which are files.
package sqlite

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"
	"unicode/utf8"

	"modernc.org/sqlite"

	"revlet/internal/database"
	"revlet/internal/platform/disk"
)

// Config says where a database is.
type Config struct {
	Path string
	// Scratch is a folder for a copy of a database that is not in WAL mode, so
	// that its writers are held up only while it is copied.
	Scratch string
	// Private tells that nobody writes to the file: it needs no copy.
	Private bool
	Disk    *disk.Disk
	// Beside is where files are staged and set aside; empty means the
	// database's own folder.
	Beside string
	// Mode is given to a restored file.
	Mode FileMode
	// only limits what is read to what the share of that identity has set aside.
	only string
}

// FileMode is a database file's permissions and owner.
type FileMode struct {
	Perm     fs.FileMode
	UID, GID int
}

// Database is an open database. It is a Source and a Target.
type Database struct {
	c    Config
	pool *sql.DB
	info database.Info
}

func dsn(path, options string) string {
	return (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath()}).String() + "?" + options
}

// Open opens the file for reading; it must exist and be a database.
func Open(ctx context.Context, c Config) (*Database, error) {
	return open(ctx, c, "mode=ro&_pragma=busy_timeout(30000)")
}

// OpenUntouched is Open for a look at what nobody writes to, or may for a moment: it makes
// no files beside the database, unless there is a log that must be read too.
func OpenUntouched(ctx context.Context, c Config) (*Database, error) {
	for _, log := range []string{"-wal", "-journal"} {
		info, err := c.Disk.Stat(c.Path + log)
		if err == nil && info.Size() > 0 {
			return Open(ctx, c)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("database file: %w", err)
		}
	}
	return open(ctx, c, "mode=ro&immutable=1")
}

func open(ctx context.Context, c Config, mode string) (*Database, error) {
	bytes, err := regular(c)
	if err != nil {
		return nil, fmt.Errorf("database file: %w", err)
	}
	pool, err := sql.Open("sqlite", dsn(c.Path, mode))
	if err != nil {
		return nil, fmt.Errorf("database file %s: %w", c.Path, err)
	}
	db := &Database{c: c, pool: pool, info: database.Info{Engine: "sqlite", Name: filepath.Base(c.Path), Bytes: bytes}}
	err = pool.QueryRowContext(ctx, "SELECT sqlite_version(), (SELECT COUNT(*) FROM sqlite_schema)").Scan(&db.info.Version, new(int))
	if err == nil {
		err = pool.QueryRowContext(ctx, "PRAGMA encoding").Scan(&db.info.Charset)
	}
	if err != nil {
		_ = pool.Close()
		return nil, fmt.Errorf("database file %s: %w", c.Path, err)
	}
	return db, nil
}

// regular tells how large the database is, and refuses it where it, or a file that SQLite opens beside it, is one
// that might be waited for: a named pipe that whoever owns the folder has put there. None of them is opened for
// that: closing it would end the locks that SQLite has on it in this process.
func regular(c Config) (bytes int64, err error) {
	for _, beside := range []string{"", "-wal", "-shm", "-journal"} {
		info, err := c.Disk.Stat(c.Path + beside)
		switch {
		case beside != "" && errors.Is(err, fs.ErrNotExist):
			continue
		case err != nil:
			return 0, err
		case !info.Mode().IsRegular():
			return 0, &fs.PathError{Op: "read", Path: c.Path + beside, Err: disk.ErrSpecial}
		}
		if beside == "" {
			bytes = info.Size()
		}
	}
	return bytes, nil
}

// ForRestore returns a Target for a database file that need not exist.
func ForRestore(c Config) *Database {
	return &Database{c: c, info: database.Info{Engine: "sqlite", Name: filepath.Base(c.Path)}}
}

// Info implements database.Source.
func (db *Database) Info() database.Info { return db.info }

// Close implements database.Source and database.Target.
func (db *Database) Close() error {
	if db.pool == nil {
		return nil
	}
	return db.pool.Close()
}

// Lookup implements database.Source.
func (db *Database) Lookup(ctx context.Context, table, column, where, is string) (string, error) {
	var v sql.NullString
	conn, err := bounded(ctx, db.pool, sizeOf(db.c.Path))
	if err != nil {
		return "", err
	}
	defer conn.Close()
	err = conn.QueryRowContext(ctx, fmt.Sprintf("SELECT %s FROM %s WHERE %s = ?", named(column), named(table), named(where)), is).Scan(&v)
	return database.ValueOf(v, err)
}

// Edit implements database.Target.
func (db *Database) Edit(ctx context.Context, edits ...database.Edit) error {
	pool, err := sql.Open("sqlite", dsn(db.c.Path, "mode=rw&_pragma=busy_timeout(30000)"))
	if err != nil {
		return err
	}
	defer pool.Close()
	conn, err := bounded(ctx, pool, sizeOf(db.c.Path))
	if err != nil {
		return err
	}
	defer conn.Close()
	text := func(c string) string { return "CAST(" + c + " AS TEXT)" }
	return database.EditAll(ctx, conn, database.Dialect{Quote: named, Mark: func(int) string { return "?" }, Text: text}, edits)
}

// named is quote for a name of which is not known whether it is there: SQLite takes one in double quotes that it does not know for
// a text.
func named(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

type table struct {
	name    string
	sql     string
	columns []string
	order   string
	rowid   string // name under which the row number is saved, if it must be
}

type snapshot struct {
	conn    *sql.Conn
	pool    *sql.DB // of the copy, if one was made
	copy    string
	d       *disk.Disk
	passes  func(table string) bool
	only    bool
	how     string
	tables  map[string]*table
	schema  string
	objects string
	units   []database.Unit
	// text is the encoding of the file's texts.
	text encoding
}

// encoding is how a file keeps texts; nil is UTF-8.
type encoding binary.AppendByteOrder

// encodings are those that PRAGMA encoding names.
var encodings = map[string]encoding{"UTF-16le": binary.LittleEndian, "UTF-16be": binary.BigEndian}

// Snapshot implements database.Source.
func (db *Database) Snapshot(ctx context.Context) (database.Snapshot, error) {
	s := &snapshot{d: db.c.Disk, passes: db.c.passes, only: db.c.only != "", tables: map[string]*table{}, how: "one read transaction"}
	if err := s.begin(ctx, db); err != nil {
		_ = s.Close()
		return nil, fmt.Errorf("database file %s: %w", db.c.Path, err)
	}
	return s, nil
}

func (s *snapshot) begin(ctx context.Context, db *Database) error {
	var mode string
	if err := db.pool.QueryRowContext(ctx, "PRAGMA journal_mode").Scan(&mode); err != nil {
		return err
	}
	pool := db.pool
	if mode != "wal" && !db.c.Private {
		if err := s.copyFrom(ctx, db); err != nil {
			return fmt.Errorf("copy: %w", err)
		}
		pool = s.pool
		s.how = "a copy made in one read transaction"
	}
	conn, err := bounded(ctx, pool, sizeOf(db.c.Path))
	if err != nil {
		return err
	}
	s.conn = conn
	if _, err := conn.ExecContext(ctx, "BEGIN"); err != nil {
		return err
	}
	return s.describe(ctx, mode)
}

// copyFrom makes a copy and opens it.
func (s *snapshot) copyFrom(ctx context.Context, db *Database) error {
	file, err := copyPages(ctx, db.pool, db.c.Scratch)
	if err != nil {
		return err
	}
	s.copy = file
	s.pool, err = sql.Open("sqlite", dsn(s.copy, "mode=ro&immutable=1")) // and nothing is made beside it
	return err
}

// Magic is what every SQLite file begins with.
const Magic = "SQLite format 3\x00"

// Copy makes a copy of a database file as of one moment, in the folder scratch,
// and returns the copy's path.
func Copy(ctx context.Context, d *disk.Disk, file, scratch string) (string, error) {
	db, err := Open(ctx, Config{Path: file, Scratch: scratch, Disk: d})
	if err != nil {
		return "", err
	}
	defer db.Close()
	return copyPages(ctx, db.pool, scratch)
}

// copyWait is how long a copy tries again while writers hold the file.
const copyWait = time.Minute

// copyPages makes a page-by-page copy with SQLite's backup interface.
func copyPages(ctx context.Context, pool *sql.DB, scratch string) (string, error) {
	f, err := os.CreateTemp(scratch, "sqlite-*")
	if err != nil {
		return "", err
	}
	to := f.Name()
	if err := f.Close(); err != nil {
		return "", err
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		return "", err
	}
	defer conn.Close()
	err = conn.Raw(func(dc any) error {
		source, ok := dc.(interface {
			NewBackup(string) (*sqlite.Backup, error)
		})
		if !ok {
			return errors.New("the driver cannot copy databases")
		}
		b, err := source.NewBackup(to)
		if err != nil {
			return err
		}
		for give := time.Now().Add(copyWait); ; {
			more, err := b.Step(-1)
			if err == nil && !more {
				return b.Finish()
			}
			if err != nil && time.Now().After(give) {
				return errors.Join(err, b.Finish())
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	if err != nil {
		return "", errors.Join(err, os.Remove(to))
	}
	return to, nil
}

func (s *snapshot) describe(ctx context.Context, mode string) error {
	schema, err := s.pragmas(ctx, mode)
	if err != nil {
		return err
	}
	rows, err := s.conn.QueryContext(ctx, "SELECT type, name, sql FROM sqlite_schema WHERE sql IS NOT NULL ORDER BY rowid")
	if err != nil {
		return err
	}
	defer rows.Close()
	var objects, late strings.Builder
	var order []string
	for rows.Next() {
		var kind, name, text string
		if err := rows.Scan(&kind, &name, &text); err != nil {
			return err
		}
		switch {
		case strings.HasPrefix(name, "sqlite_stat"), !s.passes(name), kind != "table" && s.only:
		case kind == "table" && strings.HasPrefix(strings.ToUpper(text), "CREATE VIRTUAL"):
			// Its own tables are saved like any other; making the virtual
			// table anew would make them too, so it is entered by hand.
			fmt.Fprintf(&late, "INSERT INTO sqlite_schema (type, name, tbl_name, rootpage, sql) VALUES ('table', %s, %s, 0, %s);\n", literal(name), literal(name), literal(text))
		case kind == "table":
			order = append(order, name)
			s.tables[name] = &table{name: name, sql: text}
			if name != "sqlite_sequence" {
				schema += text + ";\n"
			}
		default:
			objects.WriteString(text + ";\n")
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	s.schema = schema
	s.objects = objects.String()
	if late.Len() > 0 {
		s.objects += "PRAGMA writable_schema = ON;\n" + late.String() + "PRAGMA writable_schema = RESET;\n"
	}
	s.units = []database.Unit{{Kind: database.Schema}}
	slices.Sort(order)
	for _, name := range order {
		if err := s.tables[name].describe(ctx, s.conn); err != nil {
			return fmt.Errorf("table %s: %w", name, err)
		}
		s.units = append(s.units, database.Unit{Kind: database.Rows, Table: name, Slice: 1})
	}
	s.units = append(s.units, database.Unit{Kind: database.Objects})
	return nil
}

// pragmas writes the settings that live in the file's header.
func (s *snapshot) pragmas(ctx context.Context, mode string) (string, error) {
	var b strings.Builder
	for _, name := range []string{"encoding", "page_size", "auto_vacuum", "application_id", "user_version"} {
		var v string
		if err := s.conn.QueryRowContext(ctx, "PRAGMA "+name).Scan(&v); err != nil {
			return "", err
		}
		if name == "encoding" {
			s.text = encodings[v]
			v = literal(v)
		}
		fmt.Fprintf(&b, "PRAGMA %s = %s;\n", name, v)
	}
	if mode == "wal" {
		b.WriteString("PRAGMA journal_mode = WAL;\n")
	}
	return b.String(), nil
}

func (t *table) describe(ctx context.Context, conn *sql.Conn) error {
	rows, err := conn.QueryContext(ctx, "SELECT name, type, pk, hidden FROM pragma_table_xinfo(?)", t.name)
	if err != nil {
		return err
	}
	defer rows.Close()
	keys := map[int]string{}
	integerKey := false
	for rows.Next() {
		var name, kind string
		var pk, hidden int
		if err := rows.Scan(&name, &kind, &pk, &hidden); err != nil {
			return err
		}
		if pk > 0 {
			keys[pk] = name
			integerKey = strings.EqualFold(kind, "INTEGER")
		}
		if hidden == 0 {
			t.columns = append(t.columns, name)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	var withoutRowid bool
	if err := conn.QueryRowContext(ctx, "SELECT wr FROM pragma_table_list WHERE schema = 'main' AND name = ?", t.name).Scan(&withoutRowid); err != nil {
		return err
	}
	switch {
	case withoutRowid:
		var names []string
		for i := 1; i <= len(keys); i++ {
			names = append(names, quote(keys[i]))
		}
		t.order = strings.Join(names, ", ")
	case len(keys) == 1 && integerKey:
		t.order = quote(keys[1])
	default:
		for _, alias := range []string{"rowid", "_rowid_", "oid"} {
			if !slices.ContainsFunc(t.columns, func(c string) bool { return strings.EqualFold(c, alias) }) {
				t.rowid, t.order = alias, alias
				break
			}
		}
	}
	if t.order == "" {
		return errors.New("its columns hide every name of the row number")
	}
	return nil
}

// Units implements database.Snapshot.
func (s *snapshot) Units() []database.Unit { return s.units }

// Lanes implements database.Snapshot.
func (s *snapshot) Lanes() int { return 1 }

// Consistency implements database.Snapshot.
func (s *snapshot) Consistency() string { return s.how }

// Sequences implements database.Snapshot.
func (s *snapshot) Sequences() []string { return nil }

// Gaps implements database.Snapshot: who may read the file may read all of it.
func (s *snapshot) Gaps() []database.Gap { return nil }

// Neighbours implements database.Snapshot.
func (s *snapshot) Neighbours() []string { return nil }

// Close implements database.Snapshot.
func (s *snapshot) Close() error {
	var errs []error
	if s.conn != nil {
		_, _ = s.conn.ExecContext(context.Background(), "ROLLBACK")
		errs = append(errs, s.conn.Close())
	}
	if s.pool != nil {
		errs = append(errs, s.pool.Close())
	}
	if s.copy != "" {
		errs = append(errs, s.d.Remove(s.copy))
	}
	return errors.Join(errs...)
}

// Dump implements database.Snapshot.
func (s *snapshot) Dump(ctx context.Context, u database.Unit, w io.Writer) (int64, error) {
	if u.Kind != database.Rows {
		return 0, database.WriteDefinitions(u, s.schema, s.objects, w)
	}
	n, err := s.tables[u.Table].dump(ctx, s.conn, s.text, w)
	if err != nil {
		return n, fmt.Errorf("table %s: %w", u.Table, err)
	}
	return n, nil
}

// perStatement is how many rows one INSERT takes.
const perStatement = 100

func (t *table) dump(ctx context.Context, conn *sql.Conn, in encoding, w io.Writer) (int64, error) {
	names := make([]string, len(t.columns))
	for i, c := range t.columns {
		names[i] = quote(c)
	}
	if t.rowid != "" {
		names = append([]string{t.rowid}, names...)
	}
	list := strings.Join(names, ", ")
	rows, err := conn.QueryContext(ctx, "SELECT "+list+" FROM "+quote(t.name)+" ORDER BY "+t.order)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	out := bufio.NewWriterSize(w, 1<<18)
	out.WriteString("BEGIN;\n")
	if t.name == "sqlite_sequence" {
		out.WriteString("DELETE FROM sqlite_sequence;\n")
	}
	values := make([]any, len(names))
	pointers := make([]any, len(names))
	for i := range values {
		pointers[i] = &values[i]
	}
	var n int64
	for rows.Next() {
		if err := rows.Scan(pointers...); err != nil {
			return n, err
		}
		switch {
		case n%perStatement == 0 && n > 0:
			out.WriteString(";\n")
			fallthrough
		case n == 0:
			out.WriteString("INSERT INTO " + quote(t.name) + " (" + list + ") VALUES\n")
		default:
			out.WriteString(",\n")
		}
		for i, v := range values {
			out.WriteByte("(,"[btoi(i > 0)])
			write(out, v, in)
		}
		if err := out.WriteByte(')'); err != nil {
			return n, err
		}
		n++
	}
	if n > 0 {
		out.WriteString(";\n")
	}
	out.WriteString("COMMIT;\n")
	return n, errors.Join(rows.Err(), out.Flush())
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// literal writes a string as SQLite reads it.
func literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// piece is how much of a large value is written at a time.
const piece = 64 << 10

// bytesOf is a text as a file keeps it, which is what a blob of it becomes again.
func bytesOf(text string, in encoding) []byte {
	if in == nil {
		return []byte(text)
	}
	var all []byte
	for _, unit := range utf16.Encode([]rune(text)) {
		all = in.AppendUint16(all, unit)
	}
	return all
}

// write writes what encode gives, of a large value a piece at a time. An error stays in out.
func write(out *bufio.Writer, v any, in encoding) {
	text, isText := v.(string)
	data, isBlob := v.([]byte)
	before, digits, after := "x'", isBlob, "'"
	switch {
	case max(len(text), len(data)) < piece:
		out.WriteString(encode(v, in))
		return
	case isText && (strings.ContainsRune(text, 0) || !utf8.ValidString(text)):
		before, digits, after = "CAST(x'", true, "' AS TEXT)"
		text = string(bytesOf(text, in))
	case isText:
		before = "'"
	}
	out.WriteString(before)
	for n := max(len(text), len(data)); n > 0; n = max(len(text), len(data)) {
		n = min(n, piece)
		switch {
		case isBlob:
			fmt.Fprintf(out, "%x", data[:n])
			data = data[n:]
		case digits:
			fmt.Fprintf(out, "%x", text[:n])
			text = text[n:]
		default:
			out.WriteString(strings.ReplaceAll(text[:n], "'", "''"))
			text = text[n:]
		}
	}
	out.WriteString(after)
}

// encode writes a value so that SQLite reads the very same value of the same
// storage class.
func encode(v any, in encoding) string {
	switch v := v.(type) {
	case nil:
		return "NULL"
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		return encodeReal(v)
	case string:
		if strings.ContainsRune(v, 0) || !utf8.ValidString(v) {
			return fmt.Sprintf("CAST(x'%x' AS TEXT)", bytesOf(v, in))
		}
		return literal(v)
	case []byte:
		return fmt.Sprintf("x'%x'", v)
	case bool:
		return strconv.Itoa(btoi(v))
	case time.Time:
		return literal(v.Format(time.RFC3339Nano))
	default:
		return literal(fmt.Sprint(v))
	}
}

func encodeReal(v float64) string {
	if math.IsInf(v, 0) {
		return []string{"9e999", "-9e999"}[btoi(v < 0)]
	}
	s := strconv.FormatFloat(v, 'g', -1, 64)
	if !strings.ContainsAny(s, ".e") {
		s += ".0"
	}
	return s
}

// Tables implements database.Source: those that are saved, so no virtual ones, whose rows
// lie in others, and none of the planner's.
func (db *Database) Tables(ctx context.Context) ([]database.TableInfo, error) {
	rows, err := db.pool.QueryContext(ctx, "SELECT name FROM sqlite_schema WHERE type = 'table' AND rootpage > 0 AND name NOT LIKE 'sqlite\\_stat%' ESCAPE '\\' ORDER BY name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []database.TableInfo
	for rows.Next() {
		var t database.TableInfo
		if err := rows.Scan(&t.Name); err != nil {
			return nil, err
		}
		if db.c.passes(t.Name) {
			all = append(all, t)
		}
	}
	return all, rows.Err()
}
