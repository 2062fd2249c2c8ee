package rowvalues

import (
	"bufio"
	"bytes"
	"encoding/hex"
)

// copyLine passes on one line: a statement, the head of a COPY, or a row (PostgreSQL
// manual, COPY, "Text Format").
func (r *reader) copyLine(in *bufio.Reader) error {
	if err := r.read(in); err != nil {
		return err
	}
	if !r.rows {
		r.buf = append(r.buf, r.line...)
		rest, ok := bytes.CutPrefix(r.line, []byte("COPY "))
		if !ok {
			return nil
		}
		r.rows, r.columns = true, nil
		if r.table, rest, ok = name(rest, '"'); !ok {
			return r.form()
		}
		if rest, ok = bytes.CutPrefix(rest, []byte(" (")); ok {
			r.columns, rest, ok = names(rest, '"')
			if !ok {
				return r.form()
			}
		}
		if string(bytes.TrimSpace(rest)) != "FROM stdin;" {
			return r.form()
		}
		return nil
	}
	if string(r.line) == "\\.\n" {
		r.rows = false
		r.buf = append(r.buf, r.line...)
		return nil
	}
	text, ended := bytes.CutSuffix(r.line, []byte("\n"))
	if r.set = nil; r.asked() {
		r.copyFields(text)
		r.look()
	}
	column := 0
	for field := range bytes.SplitSeq(text, []byte("\t")) {
		if column > 0 {
			r.buf = append(r.buf, '\t')
		}
		r.field(column, field)
		column++
	}
	if ended {
		r.buf = append(r.buf, '\n')
	}
	return nil
}

// copyFields reads the values of a row.
func (r *reader) copyFields(text []byte) {
	r.fields = r.fields[:0]
	for literal := range bytes.SplitSeq(text, []byte("\t")) {
		f := field{null: string(literal) == `\N`}
		if digits, isHex := bytes.CutPrefix(literal, []byte(`\\x`)); isHex {
			if v, ok := r.unhex(digits); ok {
				f.value = bytes.Clone(v)
			}
		}
		if f.value == nil {
			f.value = unescapeCopy(nil, literal)
		}
		r.fields = append(r.fields, f)
	}
}

func (r *reader) field(column int, field []byte) {
	v, isBytes, inPlace := field, false, false
	_, given := r.given(column)
	switch digits, isHex := bytes.CutPrefix(field, []byte(`\\x`)); {
	case given && !isHex:
	case string(field) == `\N`:
		r.buf = append(r.buf, field...)
		return
	case isHex:
		if v, isBytes = r.unhex(digits); !isBytes {
			v = unescapeCopy(r.scratch[:0], field)
		}
	case bytes.IndexByte(field, '\\') >= 0:
		if !r.c.Mentions(field) {
			r.buf = append(r.buf, field...)
			return
		}
		if inPlace = len(field) > large; inPlace {
			v = unescapeCopy(field[:0], field)
		} else {
			r.scratch = unescapeCopy(r.scratch[:0], field)
			v = r.scratch
		}
	}
	now, other := r.changed(column, v)
	switch {
	case !other && !inPlace:
		r.buf = append(r.buf, field...)
	case isBytes:
		r.buf = hex.AppendEncode(append(r.buf, `\\x`...), now)
	case len(now) > large:
		r.long(now, escapeCopy)
	default:
		r.buf = escapeCopy(r.buf, now)
	}
}

// escapedCopy are the bytes that the server escapes in COPY's text, and how; plainCopy is
// the way back.
var escapedCopy = [256]byte{'\b': 'b', '\f': 'f', '\n': 'n', '\r': 'r', '\t': 't', '\v': 'v', '\\': '\\'}

var plainCopy = func() (plain [256]byte) {
	for i := range plain {
		plain[i] = byte(i)
	}
	for c, e := range escapedCopy {
		if e != 0 {
			plain[e] = byte(c)
		}
	}
	return plain
}()

// escapeCopy appends a text to a buffer as it is written.
func escapeCopy(to, text []byte) []byte {
	for _, c := range text {
		if e := escapedCopy[c]; e != 0 {
			to = append(to, '\\', e)
		} else {
			to = append(to, c)
		}
	}
	return to
}

// unescapeCopy appends a text without its escapes to a buffer, which may be its own.
func unescapeCopy(to, field []byte) []byte {
	for i := 0; i < len(field); i++ {
		c := field[i]
		if c == '\\' && i+1 < len(field) {
			i++
			c = plainCopy[field[i]]
		}
		to = append(to, c)
	}
	return to
}
