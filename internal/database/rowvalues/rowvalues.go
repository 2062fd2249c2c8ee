// Package rowvalues changes the values in the rows of a dump while it is read: the text
// that comes out is what Revlet would have written for the changed rows, and passes the
// same gates. It reads parts of kind rows as the packages mysql, postgres and sqlite write
// them; what it cannot read in this way is an error, not passed on.
//
// Begin with NewReader. Memory is bounded by the longest row, or by the longest statement
// with SQLite.
package rowvalues

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"

	"revlet/internal/database"
	"revlet/internal/database/sqltext"
)

// Changer decides what a value becomes. It is called for texts and binary values; numbers
// and NULL never change.
type Changer interface {
	// Mentions tells whether a value may change. It is asked with a text that may be
	// escaped, and errs to the safe side.
	Mentions(v []byte) bool
	// Value returns a value of a column for the other place. v is only valid during the
	// call, and is not written to; it is returned as it is where nothing changes.
	Value(table, column string, v []byte) []byte
}

// RowChanger is a Changer that also decides by the other values of a row.
type RowChanger interface {
	Changer
	// Looks tells whether Row is to be asked about the rows of a table.
	Looks(table string) bool
	// Row returns new values by column; what it does not name is asked of Value, as ever.
	// value gives one of the row's values, numbers as their digits; false is NULL, or a
	// column that is not there. What it gives is only valid during the call.
	Row(table string, value func(column string) ([]byte, bool)) map[string][]byte
}

// Named changes rows as another Changer does for a table of the name Table, whatever they
// are called in the text.
type Named struct {
	Changer
	Table string
}

// Value implements Changer.
func (n Named) Value(_, column string, v []byte) []byte { return n.Changer.Value(n.Table, column, v) }

// Looks implements RowChanger.
func (n Named) Looks(string) bool {
	c, ok := n.Changer.(RowChanger)
	return ok && c.Looks(n.Table)
}

// Row implements RowChanger.
func (n Named) Row(_ string, value func(column string) ([]byte, bool)) map[string][]byte {
	return n.Changer.(RowChanger).Row(n.Table, value)
}

// ErrForm is wrapped by errors about rows that are not in the form that Revlet writes.
var ErrForm = fmt.Errorf("%w: rows in another form than Revlet writes them", database.ErrForeignSQL)

// Ahead tells how many bytes, at least, are left of a row with a long value, so that a
// reader can make room for them at once.
func (r *reader) Ahead() (n int) {
	for _, p := range r.queue {
		n += len(p.text) + len(p.value) + len(p.value)/16 // some of it is escaped
	}
	return n
}

// NewReader returns a reader of in's rows with their values changed. The engine is mysql,
// postgres or sqlite. What it returns has a method Ahead, too.
func NewReader(engine string, in io.Reader, c Changer) (io.Reader, error) {
	r := &reader{c: c}
	r.looks, _ = c.(RowChanger)
	switch engine {
	case "mysql":
		lines := bufio.NewReaderSize(in, 1<<18)
		r.next = func() error { return r.mysqlLine(lines) }
	case "postgres":
		lines := bufio.NewReaderSize(in, 1<<18)
		r.next = func() error { return r.fill(r.copyLine(lines)) }
	case "sqlite":
		statements := sqltext.NewSplitter(in, sqltext.SQLite)
		r.next = func() error { return r.fill(r.sqliteStatement(statements)) }
	default:
		return nil, fmt.Errorf("no rows of %s can be changed", engine)
	}
	return r, nil
}

// reader gives what next has left in out.
type reader struct {
	c    Changer
	next func() error
	// out is what was not given yet.
	out, buf []byte
	err      error
	// queue is what follows out of a row with a long value.
	queue []piece
	// table and columns are those of the rows that come.
	table   string
	columns []string
	// looks is c if it decides by rows, and nil for tables whose rows it does not look at.
	// fields are the values of the row that comes, set those that it gets instead.
	looks  RowChanger
	fields []field
	set    map[string][]byte
	// line is the row that is read, scratch a value without escapes.
	line, scratch []byte
	// rows tells, for postgres, that rows come.
	rows bool
}

// fill gives what was put into buf.
func (r *reader) fill(err error) error {
	if r.out = r.buf; len(r.queue) > 0 {
		r.flush()
	}
	return err
}

// flush has what is left of a row follow its long values, and gives back the room for it.
func (r *reader) flush() {
	r.queue = append(r.queue, piece{text: r.buf})
	r.out, r.buf, r.line, r.scratch = nil, nil, nil, nil
}

// Read implements io.Reader.
func (r *reader) Read(p []byte) (int, error) {
	for len(r.out) == 0 {
		if len(r.queue) > 0 {
			r.piece()
			continue
		}
		if r.err != nil {
			return 0, r.err
		}
		r.buf = reused(r.buf)
		r.err = r.next()
	}
	n := copy(p, r.out)
	r.out = r.out[n:]
	return n, nil
}

// piece is a share of a row: text as it is, or a value that is still to be escaped.
type piece struct {
	text, value []byte
	in          *escapes
}

// atOnce is how much of a long value is escaped at a time.
const atOnce = 64 << 10

// piece puts the next share of the queue into out.
func (r *reader) piece() {
	p := &r.queue[0]
	if len(p.value) == 0 {
		r.out = p.text
		*p = piece{} // nothing of it is held any more
		r.queue = r.queue[1:]
		return
	}
	n := min(len(p.value), atOnce)
	r.scratch = p.in.escape(r.scratch[:0], p.value[:n])
	r.out, p.value = r.scratch, p.value[n:]
}

// long queues what was written of a row so far, and a value that follows it.
func (r *reader) long(value []byte, in *escapes) {
	r.queue = append(r.queue, piece{text: r.buf}, piece{value: value, in: in})
	r.buf = nil
}

// large is the length from which on room for a row is given back, and values are changed
// where they lie.
const large = 4 << 20

// reused is room for another row.
func reused(b []byte) []byte {
	if cap(b) > large {
		return nil
	}
	return b[:0]
}

// read reads a whole line with its end.
func (r *reader) read(in *bufio.Reader) error {
	r.line, r.scratch = reused(r.line), reused(r.scratch)
	for {
		chunk, err := in.ReadSlice('\n')
		r.line = append(r.line, chunk...)
		switch {
		case len(r.line) > sqltext.Longest:
			return sqltext.ErrTooLong
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case errors.Is(err, io.EOF) && len(r.line) > 0:
			return nil
		}
		return err
	}
}

func (r *reader) form() error { return fmt.Errorf("%w: %.60q", ErrForm, r.line) }

// field is a literal of a row: where it stands in line, and its value; null is NULL.
type field struct {
	from, to int
	value    []byte
	null     bool
}

// asked tells whether rows of the table are looked at as a whole.
func (r *reader) asked() bool { return r.looks != nil && r.looks.Looks(r.table) }

// look asks what the row in fields gets for new values.
func (r *reader) look() {
	r.set = r.looks.Row(r.table, func(column string) ([]byte, bool) {
		i := slices.Index(r.columns, column)
		if i < 0 || i >= len(r.fields) || r.fields[i].null {
			return nil, false
		}
		return r.fields[i].value, true
	})
}

// given is the value that the row as a whole gives a column.
func (r *reader) given(column int) ([]byte, bool) {
	if len(r.set) == 0 || column >= len(r.columns) {
		return nil, false
	}
	v, ok := r.set[r.columns[column]]
	return v, ok
}

// changed returns a value's replacement, and whether it is another one.
func (r *reader) changed(column int, v []byte) ([]byte, bool) {
	if column >= len(r.columns) {
		return v, false
	}
	if now, ok := r.given(column); ok {
		return now, true
	}
	now := r.c.Value(r.table, r.columns[column], v)
	return now, len(now) != len(v) || len(v) > 0 && &now[0] != &v[0]
}

// names reads quoted names behind an opening parenthesis: "a", "b") …; it returns what
// follows the closing one.
func names(text []byte, quote byte) (all []string, rest []byte, ok bool) {
	for {
		name, after, ok := name(text, quote)
		if !ok {
			return nil, nil, false
		}
		all = append(all, name)
		if rest, done := bytes.CutPrefix(after, []byte(")")); done {
			return all, rest, true
		}
		if text, ok = bytes.CutPrefix(after, []byte(", ")); !ok {
			return nil, nil, false
		}
	}
}

// name reads one name in quotes, or a plain word such as rowid.
func name(text []byte, quote byte) (name string, rest []byte, ok bool) {
	if len(text) == 0 || text[0] != quote {
		end := bytes.IndexAny(text, ",) (")
		if end <= 0 {
			return "", nil, false
		}
		return string(text[:end]), text[end:], true
	}
	var b []byte
	for i := 1; i < len(text); i++ {
		if text[i] != quote {
			b = append(b, text[i])
			continue
		}
		if i+1 < len(text) && text[i+1] == quote {
			b = append(b, quote)
			i++
			continue
		}
		return string(b), text[i+1:], true
	}
	return "", nil, false
}

// head reads INSERT INTO name (names) VALUES, and returns what follows.
func (r *reader) head(text []byte, quote byte) (rest []byte, ok bool) {
	if rest, ok = bytes.CutPrefix(text, []byte("INSERT INTO ")); !ok {
		return nil, false
	}
	if r.table, rest, ok = name(rest, quote); !ok {
		return nil, false
	}
	if rest, ok = bytes.CutPrefix(rest, []byte(" (")); !ok {
		return nil, false
	}
	if r.columns, rest, ok = names(rest, quote); !ok {
		return nil, false
	}
	return bytes.CutPrefix(rest, []byte(" VALUES\n"))
}

// unhex decodes digits into scratch; false when they are none.
func (r *reader) unhex(digits []byte) ([]byte, bool) {
	n := hex.DecodedLen(len(digits))
	if cap(r.scratch) < n {
		r.scratch = make([]byte, n)
	}
	r.scratch = r.scratch[:n]
	_, err := hex.Decode(r.scratch, digits)
	return r.scratch, err == nil
}
