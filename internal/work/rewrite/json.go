package rewrite

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// isJSON tells whether a value is an object, an array or a string of JSON (RFC 8259).
func isJSON(v []byte) bool {
	trimmed := bytes.TrimLeft(v, " \t\r\n")
	return len(trimmed) > 1 && strings.IndexByte(`{["`, trimmed[0]) >= 0 && json.Valid(v)
}

// json changes the strings of a JSON text, and leaves all else as it is written.
func (j *job) json(v []byte, depth int) []byte {
	before := *j
	out, keys := j.strings(v, depth, true)
	if keys && repeats(out) && !repeats(v) {
		*j = before
		j.left.Keys++
		out, _ = j.strings(v, depth, false)
	}
	return out
}

// strings changes the strings of a valid JSON text; keys tells that keys are among those
// that have changed.
func (j *job) strings(v []byte, depth int, withKeys bool) (out []byte, keys bool) {
	from := 0
	for i := 0; i < len(v); i++ {
		if v[i] != '"' {
			continue
		}
		end := i + 1
		for v[end] != '"' {
			if v[end] == '\\' {
				end++
			}
			end++
		}
		literal := v[i : end+1]
		isKey := bytes.HasPrefix(bytes.TrimLeft(v[end+1:min(len(v), end+64)], " \t\r\n"), []byte(":"))
		if (withKeys || !isKey) && j.Mentions(literal) {
			if now := j.literal(literal, depth); now != nil {
				out = append(append(out, v[from:i]...), now...)
				from = end + 1
				keys = keys || isKey
			}
		}
		i = end
	}
	if out == nil {
		return v, false
	}
	return append(out, v[from:]...), keys
}

// literal changes one string with its quotes; nil when it stays. One that was written in a
// way that cannot be kept up is changed as it is written.
func (j *job) literal(literal []byte, depth int) []byte {
	var text string
	if json.Unmarshal(literal, &text) != nil {
		return nil
	}
	style := styleOf(literal)
	count := j.n
	if !bytes.Equal(style.write(text), literal) {
		now := j.text(literal)
		if j.n == count {
			return nil
		}
		return now
	}
	now := j.value([]byte(text), depth+1)
	if j.n == count {
		return nil
	}
	return style.write(string(now))
}

// style is how a program writes strings of JSON.
type style struct {
	// slash has slashes escaped, unicode all that is not ASCII, and hex are characters of
	// ASCII that are written by their number.
	slash, unicode bool
	hex            [128]bool
	// upperHex and upperUnicode write the numbers of each with large letters: PHP writes
	// \u003C and \u00e4.
	upperHex, upperUnicode bool
}

func styleOf(literal []byte) (s style) {
	for i := 0; i+1 < len(literal); i++ {
		if literal[i] != '\\' {
			continue
		}
		i++
		switch {
		case literal[i] == '/':
			s.slash = true
		case literal[i] == 'u' && i+4 < len(literal):
			digits := literal[i+1 : i+5]
			upper := bytes.ContainsAny(digits, "ABCDEF")
			if c, ok := hexByte(digits[2], digits[3]); ok && digits[0] == '0' && digits[1] == '0' && c < 128 {
				s.hex[c] = true
				s.upperHex = s.upperHex || upper
			} else {
				s.unicode = true
				s.upperUnicode = s.upperUnicode || upper
			}
			i += 4
		}
	}
	return s
}

// short are the escapes of one letter.
var short = map[rune]byte{'"': '"', '\\': '\\', '\b': 'b', '\f': 'f', '\n': 'n', '\r': 'r', '\t': 't'}

func (s style) write(text string) []byte {
	b := []byte{'"'}
	number := func(n rune) {
		format := `\u%04x`
		if n < 128 && s.upperHex || n >= 128 && s.upperUnicode {
			format = `\u%04X`
		}
		b = fmt.Appendf(b, format, n)
	}
	for _, r := range text {
		letter, isShort := short[r]
		switch {
		case r < 128 && s.hex[r]:
			number(r)
		case isShort:
			b = append(b, '\\', letter)
		case r == '/' && s.slash:
			b = append(b, '\\', '/')
		case r < ' ':
			number(r)
		case r >= 128 && s.unicode:
			if high, low := utf16.EncodeRune(r); high != utf8.RuneError {
				number(high)
				number(low)
			} else {
				number(r)
			}
		default:
			b = utf8.AppendRune(b, r)
		}
	}
	return append(b, '"')
}

// repeats tells whether an object of a valid JSON text has a key twice.
func repeats(v []byte) bool {
	d := json.NewDecoder(bytes.NewReader(v))
	type level struct {
		keys map[string]bool // nil in an array
		key  bool            // the next string is one
	}
	var open []level
	for {
		token, err := d.Token()
		if err != nil {
			return false
		}
		top := len(open) - 1
		switch t := token.(type) {
		case json.Delim:
			switch t {
			case '{':
				open = append(open, level{map[string]bool{}, true})
				continue
			case '[':
				open = append(open, level{})
				continue
			}
			open = open[:top]
			top--
		case string:
			if top >= 0 && open[top].key {
				if open[top].keys[t] {
					return true
				}
				open[top].keys[t] = true
				open[top].key = false
				continue
			}
		}
		if top >= 0 && open[top].keys != nil {
			open[top].key = true
		}
	}
}
