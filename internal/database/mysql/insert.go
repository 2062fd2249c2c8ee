package mysql

import (
	"strings"

	"revlet/internal/platform/lazy"
)

var numeral = lazy.Regexp(`^(?:0x[0-9a-fA-F]+|0b[01]+|(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)$`)

// insertion is an INSERT or REPLACE statement that gives nothing but literals.
type insertion struct {
	// database is what stands before the table's name, if anything.
	database, table string
	// head and rest are what stands before and behind the name.
	head, rest string
}

// into is the statement with another table's name, of the database that is used.
func (in *insertion) into(table string) string { return in.head + quote(table) + in.rest }

// readInsert reads one. It returns nil for another statement, and false for one that
// holds anything else than literals, or a comment: such statements are long, so that
// they are read a byte at a time and only once.
func readInsert(stmt string) (*insertion, bool) {
	s := &insertReader{s: stmt}
	verb := s.word()
	if verb != "INSERT" && verb != "REPLACE" {
		return nil, false
	}
	in := &insertion{}
	head := verb + " "
	for {
		switch w := s.word(); w {
		case "IGNORE":
			head += w + " "
			continue
		case "LOW_PRIORITY", "HIGH_PRIORITY", "DELAYED":
			continue
		case "INTO":
			head += w + " "
		default:
			return in, false
		}
		break
	}
	name, ok := s.name()
	if ok && s.symbol('.') {
		in.database = name
		name, ok = s.name()
	}
	if !ok {
		return in, false
	}
	rest := s.i
	if s.symbol('(') {
		for ok = true; ok; {
			_, ok = s.name()
			if !s.symbol(',') {
				break
			}
		}
		if !ok || !s.symbol(')') {
			return in, false
		}
	}
	if w := s.word(); w != "VALUES" && w != "VALUE" {
		return in, false
	}
	in.head, in.table, in.rest = head, name, " "+strings.TrimSpace(stmt[rest:])
	return in, s.tuples()
}

type insertReader struct {
	s string
	i int
}

func (r *insertReader) space() {
	for r.i < len(r.s) && (r.s[r.i] == ' ' || r.s[r.i] >= '\t' && r.s[r.i] <= '\r') {
		r.i++
	}
}

func (r *insertReader) symbol(c byte) bool {
	r.space()
	if r.i < len(r.s) && r.s[r.i] == c {
		r.i++
		return true
	}
	return false
}

func isNameByte(c byte) bool {
	return c == '_' || c == '$' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// plain is what stands here of letters, digits and the like.
func (r *insertReader) plain() string {
	r.space()
	from := r.i
	for r.i < len(r.s) && isNameByte(r.s[r.i]) {
		r.i++
	}
	return r.s[from:r.i]
}

func (r *insertReader) word() string { return strings.ToUpper(r.plain()) }

func (r *insertReader) name() (string, bool) {
	if !r.symbol('`') {
		w := r.plain()
		return w, w != "" && !isDigit(w[0])
	}
	var b strings.Builder
	for r.i < len(r.s) {
		at := strings.IndexByte(r.s[r.i:], '`')
		if at < 0 {
			break
		}
		b.WriteString(r.s[r.i : r.i+at])
		r.i += at + 1
		if r.i >= len(r.s) || r.s[r.i] != '`' {
			return b.String(), true
		}
		b.WriteByte('`')
		r.i++
	}
	return "", false
}

// tuples reads (literal, …), … to the end.
func (r *insertReader) tuples() bool {
	for {
		if !r.symbol('(') {
			return false
		}
		for {
			if !r.literal() {
				return false
			}
			if r.symbol(')') {
				break
			}
			if !r.symbol(',') {
				return false
			}
		}
		if !r.symbol(',') {
			r.space()
			return r.i == len(r.s)
		}
	}
}

// literal reads a number, a string, NULL and the like.
func (r *insertReader) literal() bool {
	if r.symbol('-') || r.symbol('+') {
		return r.number()
	}
	r.space()
	if r.i >= len(r.s) {
		return false
	}
	switch c := r.s[r.i]; {
	case c == '\'' || c == '"':
		return r.text(c)
	case isDigit(c) || c == '.':
		return r.number()
	}
	switch w := r.word(); {
	case w == "NULL", w == "TRUE", w == "FALSE", w == "DEFAULT":
		return true
	case w == "X", w == "B", w == "N":
		return r.i < len(r.s) && r.s[r.i] == '\'' && r.text('\'')
	case strings.HasPrefix(w, "_") && safeCharset(w[1:]):
		return r.symbol('\'') && r.rest('\'') || r.hex()
	}
	return false
}

// hex reads what may follow _binary beside a string.
func (r *insertReader) hex() bool {
	w := r.plain()
	return strings.HasPrefix(w, "0x") && len(w) > 2 && strings.Trim(w[2:], "0123456789abcdefABCDEF") == ""
}

// longestNumeral is more bytes than a number with a point or an exponent has.
const longestNumeral = 500

// number reads 12, -1.5, .5, 1e+30, 0x0a and 0b01.
func (r *insertReader) number() bool {
	w := r.plain()
	for r.i < len(r.s) && len(w) < longestNumeral {
		last := byte(0)
		if w != "" {
			last = w[len(w)-1] | 0x20
		}
		c := r.s[r.i]
		exponent := last == 'e' && !strings.HasPrefix(w, "0x")
		if c != '.' && !(exponent && (c == '-' || c == '+')) {
			break
		}
		r.i++
		from := r.i
		for r.i < len(r.s) && isNameByte(r.s[r.i]) {
			r.i++
		}
		w += string(c) + r.s[from:r.i]
	}
	return numeral().MatchString(w)
}

func (r *insertReader) text(quote byte) bool {
	r.i++
	return r.rest(quote)
}

// rest reads a string whose opening quote is behind.
func (r *insertReader) rest(quote byte) bool {
	for ; r.i < len(r.s); r.i++ {
		switch r.s[r.i] {
		case '\\':
			r.i++
		case quote:
			r.i++
			if r.i >= len(r.s) || r.s[r.i] != quote {
				return true
			}
		}
	}
	return false
}
