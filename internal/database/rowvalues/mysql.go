package rowvalues

import (
	"bufio"
	"bytes"
	"encoding/hex"
)

// mysqlLine passes on one line: a statement that is not of rows, the head of an INSERT, or
// a row.
func (r *reader) mysqlLine(in *bufio.Reader) error {
	if err := r.read(in); err != nil {
		return err
	}
	if len(r.line) == 0 || r.line[0] != '(' {
		if rest, ok := r.head(r.line, '`'); ok && len(rest) > 0 || !ok && bytes.HasPrefix(r.line, []byte("INSERT")) {
			return r.form()
		}
		r.out = r.line
		return nil
	}
	if r.set = nil; r.asked() {
		if err := r.mysqlFields(); err != nil {
			return err
		}
		r.look()
	}
	from, column := 0, 0
	err := r.mysqlLiterals(func(i, end int) {
		from = r.mysqlValue(i, end, from, column)
		column++
	})
	if err != nil {
		return err
	}
	if r.out = r.line; from > 0 {
		r.buf = append(r.buf, r.line[from:]...)
		r.out = r.buf
	}
	if len(r.queue) > 0 {
		r.flush()
	}
	return nil
}

// mysqlLiterals visits the literals of the row in line.
func (r *reader) mysqlLiterals(visit func(i, end int)) error {
	for i := 1; ; {
		end, ok := r.mysqlLiteral(i)
		if !ok || end >= len(r.line) {
			return r.form()
		}
		visit(i, end)
		i = end + 1
		if r.line[end] == ')' {
			return nil
		}
		if r.line[end] != ',' {
			return r.form()
		}
	}
}

// mysqlFields reads the values of the row in line.
func (r *reader) mysqlFields() error {
	r.fields = r.fields[:0]
	return r.mysqlLiterals(func(i, end int) {
		literal := r.line[i:end]
		f := field{i, end, literal, string(literal) == "NULL"}
		if digits, ok := bytes.CutPrefix(literal, []byte("0x")); ok {
			if v, ok := r.unhex(digits); ok {
				f.value = bytes.Clone(v)
			}
		} else if _, text, ok := bytes.Cut(literal, []byte{'\''}); ok {
			f.value = inMySQL.unescape(nil, text[:len(text)-1])
		}
		r.fields = append(r.fields, f)
	})
}

// mysqlLiteral tells where a literal ends.
func (r *reader) mysqlLiteral(i int) (end int, ok bool) {
	if bytes.HasPrefix(r.line[i:], []byte("_utf8mb4'")) {
		i += len("_utf8mb4")
	}
	if i < len(r.line) && r.line[i] == '\'' {
		return r.mysqlText(i + 1)
	}
	from := i
	for i < len(r.line) && r.line[i] != ',' && r.line[i] != ')' && r.line[i] != '\'' {
		i++
	}
	return i, i > from
}

// mysqlText tells where a text ends that begins at i, behind its quote. A quote that was
// found is not looked for again at each escape before it.
func (r *reader) mysqlText(i int) (end int, ok bool) {
	for quote := -1; ; {
		if quote < i {
			at := -1
			if i < len(r.line) {
				at = bytes.IndexByte(r.line[i:], '\'')
			}
			if at < 0 {
				return i, false
			}
			quote = i + at
		}
		escape := bytes.IndexByte(r.line[i:quote], '\\')
		if escape < 0 {
			return quote + 1, true
		}
		i += escape + 2
	}
}

// mysqlValue writes what stands from `from` on up to the literal from i to end, and the
// literal, if it changes; it returns what was written so far.
func (r *reader) mysqlValue(i, end, from, column int) int {
	literal := r.line[i:end]
	if digits, ok := bytes.CutPrefix(literal, []byte("0x")); ok {
		v, ok := r.unhex(digits)
		if now, other := r.changed(column, v); ok && other {
			r.buf = append(append(r.buf, r.line[from:i]...), "0x"...)
			r.buf = hex.AppendEncode(r.buf, now)
			return end
		}
		return from
	}
	before, text, isText := bytes.Cut(literal, []byte{'\''})
	now, other := r.given(column)
	switch {
	case other && !isText:
		before = nil // a number or NULL
	case !other && !isText:
		return from
	case !other:
		text = text[:len(text)-1]
		inPlace := false
		if bytes.IndexByte(text, '\\') >= 0 {
			if !r.c.Mentions(text) {
				return from
			}
			if inPlace = len(text) > large; inPlace {
				text = inMySQL.unescape(text[:0], text)
			} else {
				r.scratch = inMySQL.unescape(r.scratch[:0], text)
				text = r.scratch
			}
		}
		if now, other = r.changed(column, text); !other && !inPlace {
			return from
		}
	}
	r.buf = append(append(append(r.buf, r.line[from:i]...), before...), '\'')
	if len(now) > large {
		r.long(now, inMySQL)
	} else {
		r.buf = inMySQL.escape(r.buf, now)
	}
	r.buf = append(r.buf, '\'')
	return end
}

// inMySQL are the bytes that package mysql escapes in a text, and how.
var inMySQL = newEscapes(map[byte]byte{0: '0', '\n': 'n', '\r': 'r', '\\': '\\', '\'': '\'', 26: 'Z'})
