package rowvalues

import (
	"bytes"
	"encoding/hex"
	"strings"
	"unicode/utf8"
	"unsafe"

	"revlet/internal/database/sqltext"
)

// sqliteStatement passes on one statement.
func (r *reader) sqliteStatement(in *sqltext.Splitter) error {
	stmt, err := in.Next()
	if err != nil {
		return err
	}
	if !strings.HasPrefix(stmt, "INSERT") {
		r.buf = append(append(r.buf, stmt...), ";\n"...)
		return nil
	}
	r.line = unsafe.Slice(unsafe.StringData(stmt), len(stmt)) // only read
	rest, ok := r.head(r.line, '"')
	if !ok {
		return r.form()
	}
	from, column := 0, 0
	for i := len(r.line) - len(rest); i < len(r.line); {
		switch c := r.line[i]; c {
		case '(':
			column = 0
			i++
		case ',':
			column++
			i++
		case '\'', 'x', 'C':
			end, ok := r.sqliteLiteral(i)
			if !ok {
				return r.form()
			}
			from = r.sqliteValue(i, end, from, column)
			i = end
		default:
			i++
		}
	}
	r.buf = append(append(r.buf, r.line[from:]...), ";\n"...)
	return nil
}

// castBefore and castAfter stand around digits of a text that is not UTF-8, or holds a
// zero byte.
const castBefore, castAfter = "CAST(x'", "' AS TEXT)"

// sqliteLiteral tells where 'text', x'digits' or CAST(x'digits' AS TEXT) ends.
func (r *reader) sqliteLiteral(i int) (end int, ok bool) {
	after := ""
	switch {
	case bytes.HasPrefix(r.line[i:], []byte(castBefore)):
		i += len(castBefore)
		after = castAfter[1:]
	case bytes.HasPrefix(r.line[i:], []byte("x'")):
		i += 2
	case r.line[i] == '\'':
		i++
	default:
		return i, false
	}
	for {
		at := bytes.IndexByte(r.line[i:], '\'')
		if at < 0 {
			return i, false
		}
		i += at + 1
		if i >= len(r.line) || r.line[i] != '\'' {
			return i + len(after), bytes.HasPrefix(r.line[i:], []byte(after))
		}
		i++
	}
}

// sqliteValue is mysqlValue for SQLite.
func (r *reader) sqliteValue(i, end, from, column int) int {
	literal := r.line[i:end]
	var v []byte
	isText := literal[0] != 'x'
	switch digits, isCast := bytes.CutPrefix(literal, []byte(castBefore)); {
	case isCast, !isText:
		if !isCast {
			digits = literal[2:]
		}
		decoded, ok := r.unhex(digits[:bytes.IndexByte(digits, '\'')])
		if !ok {
			return from
		}
		v = decoded
	default:
		if v = literal[1 : len(literal)-1]; bytes.IndexByte(v, '\'') >= 0 {
			if !r.c.Mentions(v) {
				return from
			}
			r.scratch = append(r.scratch[:0], bytes.ReplaceAll(v, []byte("''"), []byte("'"))...)
			v = r.scratch
		}
	}
	now, other := r.changed(column, v)
	if !other {
		return from
	}
	r.buf = append(r.buf, r.line[from:i]...)
	switch {
	case !isText:
		r.buf = append(hex.AppendEncode(append(r.buf, "x'"...), now), '\'')
	case bytes.IndexByte(now, 0) >= 0 || !utf8.Valid(now):
		r.buf = append(hex.AppendEncode(append(r.buf, castBefore...), now), castAfter...)
	default:
		r.buf = append(append(append(r.buf, '\''), bytes.ReplaceAll(now, []byte("'"), []byte("''"))...), '\'')
	}
	return end
}
