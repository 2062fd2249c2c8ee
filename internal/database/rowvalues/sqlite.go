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
	asked := r.asked()
	from, column := 0, 0
	for i := len(r.line) - len(rest); i < len(r.line); {
		switch c := r.line[i]; c {
		case '(':
			if column, r.set = 0, nil; asked {
				if !r.sqliteFields(i + 1) {
					return r.form()
				}
				r.look()
			}
			i++
		case ',':
			column++
			i++
		case ')', '\n':
			i++
		default:
			end, ok := r.sqliteLiteral(i)
			if !ok {
				return r.form()
			}
			from = r.sqliteValue(i, end, from, column)
			i = end
		}
	}
	r.buf = append(append(r.buf, r.line[from:]...), ";\n"...)
	return nil
}

// castBefore and castAfter stand around digits of a text that is not UTF-8, or holds a
// zero byte.
const castBefore, castAfter = "CAST(x'", "' AS TEXT)"

// sqliteFields reads the values of the row that begins at i.
func (r *reader) sqliteFields(i int) bool {
	for r.fields = r.fields[:0]; ; i++ {
		end, ok := r.sqliteLiteral(i)
		if !ok || end >= len(r.line) {
			return false
		}
		literal := r.line[i:end]
		v, ok := r.sqliteText(literal)
		if !ok {
			v = literal
		}
		r.fields = append(r.fields, field{i, end, bytes.Clone(v), string(literal) == "NULL"})
		if i = end; r.line[i] == ')' {
			return true
		}
		if r.line[i] != ',' {
			return false
		}
	}
}

// sqliteText is the value of 'text', x'digits' or CAST(x'digits' AS TEXT), into scratch;
// false for others.
func (r *reader) sqliteText(literal []byte) ([]byte, bool) {
	digits, isCast := bytes.CutPrefix(literal, []byte(castBefore))
	switch {
	case isCast || literal[0] == 'x':
		if !isCast {
			digits = literal[2:]
		}
		return r.unhex(digits[:bytes.IndexByte(digits, '\'')])
	case literal[0] != '\'':
		return nil, false
	}
	v := literal[1 : len(literal)-1]
	if bytes.IndexByte(v, '\'') >= 0 {
		r.scratch = append(r.scratch[:0], bytes.ReplaceAll(v, []byte("''"), []byte("'"))...)
		v = r.scratch
	}
	return v, true
}

// sqliteLiteral tells where 'text', x'digits' or CAST(x'digits' AS TEXT) ends, or a number or NULL.
func (r *reader) sqliteLiteral(i int) (end int, ok bool) {
	after := ""
	switch {
	case i >= len(r.line):
		return i, false
	case bytes.HasPrefix(r.line[i:], []byte(castBefore)):
		i += len(castBefore)
		after = castAfter[1:]
	case bytes.HasPrefix(r.line[i:], []byte("x'")):
		i += 2
	case r.line[i] == '\'':
		i++
	default:
		n := bytes.IndexAny(r.line[i:], ",)")
		return i + max(0, n), n > 0 && plainSQLite(r.line[i:i+n])
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

// plainSQLite tells whether a literal is a number or NULL, as archives have them.
func plainSQLite(literal []byte) bool {
	if string(literal) == "NULL" {
		return true
	}
	return bytes.IndexByte([]byte("+-.0123456789"), literal[0]) >= 0 && len(bytes.Trim(literal, "+-.0123456789eE")) == 0
}

// sqliteValue is mysqlValue for SQLite.
func (r *reader) sqliteValue(i, end, from, column int) int {
	literal := r.line[i:end]
	isText := literal[0] != 'x'
	_, given := r.given(column)
	if !given && literal[0] == '\'' && bytes.IndexByte(literal[1:len(literal)-1], '\'') >= 0 && !r.c.Mentions(literal[1:len(literal)-1]) {
		return from
	}
	v, ok := r.sqliteText(literal)
	if !ok && !given {
		return from
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
