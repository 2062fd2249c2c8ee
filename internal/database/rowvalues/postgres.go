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
			f.value = inCopy.unescape(nil, literal)
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
			v = inCopy.unescape(r.scratch[:0], field)
		}
	case bytes.IndexByte(field, '\\') >= 0:
		if !r.c.Mentions(field) {
			r.buf = append(r.buf, field...)
			return
		}
		if inPlace = len(field) > large; inPlace {
			v = inCopy.unescape(field[:0], field)
		} else {
			r.scratch = inCopy.unescape(r.scratch[:0], field)
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
		r.long(now, inCopy)
	default:
		r.buf = inCopy.escape(r.buf, now)
	}
}

// inCopy are the bytes that the server escapes in COPY's text, and how.
var inCopy = newEscapes(map[byte]byte{'\b': 'b', '\f': 'f', '\n': 'n', '\r': 'r', '\t': 't', '\v': 'v', '\\': '\\'})
