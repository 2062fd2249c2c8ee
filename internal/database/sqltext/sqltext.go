// Package sqltext reads SQL text in the dialects of three servers: it cuts text into
// statements as the server's own client does, and statements into tokens. It knows
// every form of quotes and comments; it knows no grammar beyond what is needed to
// find where a statement ends.
//
// Splitter.Next gives the next statement of a stream, Tokens the tokens of one. What
// it takes for one statement the server must not take for two: the rules are those
// of the servers' lexers (MySQL 8.4 and MariaDB manual "Comment Syntax" and "String
// Literals"; PostgreSQL manual 4.1 "Lexical Structure"; sqlite3_complete()).
//
// Text is bounded: a statement longer than Longest is an error. Whether a statement
// may run is for the caller to decide. A Splitter is for one goroutine.
package sqltext

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"
	"unsafe"

	"revlet/internal/platform/input"
)

// Dialect is whose SQL it is.
type Dialect uint8

// The dialects.
const (
	MySQL Dialect = iota
	PostgreSQL
	SQLite
	// MySQLLiteral is MySQL's while NO_BACKSLASH_ESCAPES holds: a backslash is a character.
	MySQLLiteral
	// MySQLAnsi is MySQL's while ANSI_QUOTES holds: double quotes enclose names.
	MySQLAnsi
	// MySQLAnsiLiteral is MySQL's while both hold.
	MySQLAnsiLiteral
)

// mysql tells whether it is MySQL's, in whatever mode.
func (d Dialect) mysql() bool { return d == MySQL || d >= MySQLLiteral }

// escapes tells whether a backslash escapes what follows it in a literal.
func (d Dialect) escapes() bool { return d == MySQL || d == MySQLAnsi }

// Kind is what a token is.
type Kind uint8

// The kinds of tokens.
const (
	// Space is white space.
	Space Kind = iota
	// Comment is one that the server passes over.
	Comment
	// Versioned is a comment that MySQL reads as SQL: /*! … */ or /*M! … */.
	Versioned
	// Word is a keyword or a name without quotes, or a number.
	Word
	// Name is a name in quotes.
	Name
	// String is a text literal, with what introduces it (E, N, x, _utf8mb4 is a Word
	// of its own).
	String
	// Symbol is any other character.
	Symbol
)

// Token is a piece of a statement.
type Token struct {
	Kind Kind
	// Text is the piece as it stands, quotes included.
	Text string
}

// Is tells whether a token is a keyword or a symbol, whatever its case.
func (t Token) Is(word string) bool {
	return (t.Kind == Word || t.Kind == Symbol) && strings.EqualFold(t.Text, word)
}

// Unquoted is the name that a Word or Name means, as far as quotes go. Case is kept.
func (t Token) Unquoted() string {
	if t.Kind != Name || len(t.Text) < 2 {
		return t.Text
	}
	inner, last := t.Text[1:len(t.Text)-1], t.Text[len(t.Text)-1:]
	if last == "]" {
		return inner
	}
	return strings.ReplaceAll(inner, last+last, last)
}

// Tokens gives the tokens of a statement; together they are the statement. One that
// is not finished at the end, such as an open string, reaches to the end.
func Tokens(stmt string, d Dialect) iter.Seq[Token] {
	return func(yield func(Token) bool) {
		text := []byte(stmt)
		for i := 0; i < len(text); {
			kind, end, _ := d.token(text, i)
			if !yield(Token{kind, stmt[i:end]}) {
				return
			}
			i = end
		}
	}
}

// Significant gives the tokens of a statement without white space and comments.
func Significant(stmt string, d Dialect) []Token {
	var all []Token
	for t := range Tokens(stmt, d) {
		if t.Kind != Space && t.Kind != Comment {
			all = append(all, t)
		}
	}
	return all
}

// Closed tells whether every string, quoted name and comment of a statement is
// closed within it.
func Closed(stmt string, d Dialect) bool {
	text := []byte(stmt)
	for i := 0; i < len(text); {
		_, end, whole := d.token(text, i)
		if !whole && !d.endsAtEnd(text, i) {
			return false
		}
		i = end
	}
	return true
}

// endsAtEnd tells whether the token at s[i], which reaches to the end of the text, is
// finished by that end: a word, a string whose quote was closed, a comment to the end
// of the line.
func (d Dialect) endsAtEnd(s []byte, i int) bool {
	from := max(0, i-2) // what stands before a string may tell how it is quoted
	kind, _, whole := d.token(append(bytes.Clone(s[from:]), '\n'), i-from)
	return kind == Space || whole
}

// token tells what begins at s[i] and where it ends. whole is false when more text
// could change the answer.
func (d Dialect) token(s []byte, i int) (kind Kind, end int, whole bool) {
	c := s[i]
	switch {
	case isSpace(c):
		end = while(s, i, isSpace)
		return Space, end, end < len(s)
	case c == '\'':
		return d.text(s, i)
	case c == '"':
		if d == MySQL || d == MySQLLiteral {
			end, whole = quoted(s, i, d.escapes())
			return String, end, whole
		}
		end, whole = quoted(s, i, false)
		return Name, end, whole
	case c == '`' && d != PostgreSQL:
		end, whole = quoted(s, i, false)
		return Name, end, whole
	case c == '[' && d == SQLite:
		end, whole = until(s, i+1, "]")
		return Name, end, whole
	case c == '$' && d == PostgreSQL:
		return dollar(s, i)
	case c == '#' && d.mysql():
		end, whole = lineEnd(s, i)
		return Comment, end, whole
	case c == '-' || c == '/':
		return d.comment(s, i)
	case isWord(c):
		end = while(s, i, isWordOrDollar)
		return Word, end, end < len(s)
	}
	return Symbol, i + 1, true
}

// text is a literal in single quotes.
func (d Dialect) text(s []byte, i int) (Kind, int, bool) {
	escapes := d.escapes()
	if d == PostgreSQL && i > 0 && (s[i-1] == 'E' || s[i-1] == 'e') && (i == 1 || !isWordOrDollar(s[i-2])) {
		escapes = true
	}
	end, whole := quoted(s, i, escapes)
	return String, end, whole
}

// comment is one, or a symbol that might have begun one.
func (d Dialect) comment(s []byte, i int) (Kind, int, bool) {
	if i+1 >= len(s) {
		return Symbol, i + 1, false
	}
	switch {
	case s[i] == '-' && s[i+1] == '-':
		if d.mysql() {
			// Two dashes begin a comment only before white space or a control character.
			if i+2 >= len(s) {
				return Comment, i + 2, false
			}
			if !isSpace(s[i+2]) && s[i+2] >= ' ' {
				return Symbol, i + 1, true
			}
		}
		end, whole := lineEnd(s, i)
		return Comment, end, whole
	case s[i] == '/' && s[i+1] == '*':
		if d == PostgreSQL {
			end, whole := nested(s, i)
			return Comment, end, whole
		}
		end, whole := until(s, i+2, "*/")
		kind := Comment
		if d.mysql() && opensVersion(s[i:]) {
			kind = Versioned
			end, whole = d.versioned(s, i)
		}
		return kind, end, whole
	}
	return Symbol, i + 1, true
}

// versioned finds the end of a comment that the server reads as SQL: an end mark
// inside a string or a name of it does not count, and comments may lie in it.
func (d Dialect) versioned(s []byte, i int) (int, bool) {
	for depth := 0; i < len(s); {
		switch {
		case opensVersion(s[i:]):
			depth++
			i += 3
			continue
		case bytes.HasPrefix(s[i:], []byte("*/")):
			i += 2
			if depth--; depth == 0 {
				return i, true
			}
			continue
		}
		_, end, whole := d.token(s, i)
		if !whole && end == len(s) {
			return end, false
		}
		i = end
	}
	return len(s), false
}

// opensVersion tells whether a comment begins that the server reads as SQL.
func opensVersion(s []byte) bool {
	return bytes.HasPrefix(s, []byte("/*!")) || bytes.HasPrefix(s, []byte("/*M!"))
}

// dollar is a text in dollar quotes, or the symbol alone.
func dollar(s []byte, i int) (Kind, int, bool) {
	end := while(s, i+1, isWord)
	if end >= len(s) {
		return Symbol, i + 1, false
	}
	if s[end] != '$' || end > i+1 && s[i+1] >= '0' && s[i+1] <= '9' {
		return Symbol, i + 1, true
	}
	tag := string(s[i : end+1])
	end, whole := until(s, end+1, tag)
	return String, end, whole
}

// quoted finds the end of a text whose quote stands at s[i]; doubled quotes belong
// to it, and with escapes what follows a backslash.
func quoted(s []byte, i int, escapes bool) (end int, whole bool) {
	q := s[i]
	for i++; i < len(s); i++ {
		switch {
		case s[i] == '\\' && escapes:
			i++
		case s[i] == q:
			if i+1 >= len(s) {
				return len(s), false // a second one may follow
			}
			if s[i+1] != q {
				return i + 1, true
			}
			i++
		}
	}
	return len(s), false
}

// nested finds the end of a comment that may hold others.
func nested(s []byte, i int) (end int, whole bool) {
	depth := 0
	for ; i+1 < len(s); i++ {
		switch {
		case s[i] == '/' && s[i+1] == '*':
			depth++
			i++
		case s[i] == '*' && s[i+1] == '/':
			i++
			if depth--; depth == 0 {
				return i + 1, true
			}
		}
	}
	return len(s), false
}

func until(s []byte, i int, mark string) (end int, whole bool) {
	if i > len(s) {
		return len(s), false
	}
	if at := bytes.Index(s[i:], []byte(mark)); at >= 0 {
		return i + at + len(mark), true
	}
	return len(s), false
}

func lineEnd(s []byte, i int) (end int, whole bool) { return until(s, i, "\n") }

func while(s []byte, i int, belongs func(byte) bool) int {
	for i < len(s) && belongs(s[i]) {
		i++
	}
	return i
}

func isSpace(c byte) bool { return c == ' ' || c >= '\t' && c <= '\r' }

func isWord(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

func isWordOrDollar(c byte) bool { return isWord(c) || c == '$' }

// Longest bounds memory against text made to exhaust it: MySQL's own limit on a
// statement is 1 GiB.
const Longest = 1 << 30

// ErrTooLong is wrapped when a statement is longer than Longest.
var ErrTooLong = errors.New("a statement longer than 1 GiB")

// least is how much is read at a time, at first, and most later.
const (
	least = 64 << 10
	most  = 16 << 20
)

// Splitter cuts SQL text into statements.
type Splitter struct {
	in io.Reader
	d  Dialect
	// buf[pos:] is what was read and is not given yet; eof tells that there is no
	// more to read, failed why.
	buf    []byte
	pos    int
	eof    bool
	failed error
	// delimiter ends a statement; the client's DELIMITER command changes it.
	delimiter string
}

// NewSplitter returns a splitter of what in gives.
func NewSplitter(in io.Reader, d Dialect) *Splitter {
	return &Splitter{in: in, d: d, delimiter: ";"}
}

// Under tells that what follows is of another dialect: a statement has changed the mode.
func (s *Splitter) Under(d Dialect) { s.d = d }

// Next returns the next statement without its delimiter and without white space and
// comments before it, or io.EOF when there is none. Text that ends inside quotes or
// a comment, or before a delimiter in a dialect whose text Revlet's parts end with
// one, gives an error that wraps io.ErrUnexpectedEOF; MySQL's last statement needs no
// delimiter, as with its client.
func (s *Splitter) Next() (string, error) {
	if err := s.passBlank(); err != nil {
		return "", err
	}
	tracker := tracker{d: s.d}
	for i := s.pos; ; {
		if i >= len(s.buf) {
			dropped := s.pos
			if err := s.more(); errors.Is(err, io.EOF) {
				return s.last(tracker)
			} else if err != nil {
				return "", err
			}
			i -= dropped
			continue
		}
		if tracker.atEnd() && bytes.HasPrefix(s.buf[i:], []byte(s.delimiter)) {
			if stmt, ok := s.cut(i, &tracker); ok {
				return stmt, nil
			}
		}
		kind, end, whole := s.d.token(s.buf, i)
		if len(s.delimiter) > 1 || len(s.buf)-i < len(s.delimiter) {
			end, whole = s.beforeDelimiter(kind, i, end, whole)
		}
		if !whole && !s.eof {
			dropped := s.pos
			if err := s.more(); err != nil && !errors.Is(err, io.EOF) {
				return "", err
			}
			i -= dropped
			continue
		}
		if !whole && !s.d.endsAtEnd(s.buf, i) {
			return "", fmt.Errorf("the text ends inside quotes or a comment: %w", io.ErrUnexpectedEOF)
		}
		tracker.see(kind, s.buf[i:end])
		i = end
	}
}

// beforeDelimiter shortens a word or a symbol in which a long delimiter begins, and
// wants more text where one might.
func (s *Splitter) beforeDelimiter(kind Kind, i, end int, whole bool) (int, bool) {
	if kind == Word || kind == Symbol {
		if at := bytes.Index(s.buf[i:end], []byte(s.delimiter)); at > 0 {
			return i + at, true
		}
		if end+len(s.delimiter) > len(s.buf) {
			whole = whole && s.eof
		}
	}
	return end, whole
}

// cut ends a statement before the delimiter at i.
func (s *Splitter) cut(i int, t *tracker) (string, bool) {
	if s.delimiter == ";" && t.semicolon() {
		return "", false
	}
	stmt := bytes.TrimSpace(s.buf[s.pos:i])
	s.pos = i + len(s.delimiter)
	if len(stmt) < large {
		return string(stmt), true
	}
	s.buf, s.pos = bytes.Clone(s.buf[s.pos:]), 0
	return unsafe.String(&stmt[0], len(stmt)), true // nobody writes to it any more
}

// large is the length of a statement from which on it is given as it lies in the buffer,
// and not copied.
const large = 4 << 20

// last is what stands after the last delimiter.
func (s *Splitter) last(t tracker) (string, error) {
	stmt := string(bytes.TrimSpace(s.buf[s.pos:]))
	s.pos = len(s.buf)
	switch {
	case stmt == "" || !t.any:
		return "", io.EOF
	case s.d.mysql():
		return stmt, nil
	}
	return "", fmt.Errorf("the text ends inside a statement: %w", io.ErrUnexpectedEOF)
}

// passBlank passes over white space, comments, empty statements and commands to the
// client.
func (s *Splitter) passBlank() error {
	for {
		if s.pos >= len(s.buf) {
			if err := s.more(); errors.Is(err, io.EOF) {
				return io.EOF
			} else if err != nil {
				return err
			}
			continue
		}
		kind, end, whole := s.d.token(s.buf, s.pos)
		isCommand, enough := s.command()
		switch {
		case (!whole || !enough) && !s.eof:
			if err := s.more(); err != nil && !errors.Is(err, io.EOF) {
				return err
			}
		case isCommand:
		case kind == Comment && !whole && !s.d.endsAtEnd(s.buf, s.pos):
			return fmt.Errorf("the text ends inside a comment: %w", io.ErrUnexpectedEOF)
		case kind == Space || kind == Comment:
			s.pos = end
		case bytes.HasPrefix(s.buf[s.pos:], []byte(s.delimiter)):
			s.pos += len(s.delimiter)
		default:
			return nil
		}
	}
}

// delimiterWord begins the command of MySQL's client that changes the delimiter.
const delimiterWord = "DELIMITER"

// command passes over a line that is for the client: DELIMITER of MySQL's, one that
// begins with a backslash of PostgreSQL's. enough is false when more text is needed to
// tell.
func (s *Splitter) command() (is, enough bool) {
	text := s.buf[s.pos:]
	switch {
	case s.d.mysql():
		if len(text) <= len(delimiterWord) {
			return false, !strings.EqualFold(string(text), delimiterWord[:len(text)])
		}
		if !strings.EqualFold(string(text[:len(delimiterWord)]), delimiterWord) || !isSpace(text[len(delimiterWord)]) {
			return false, true
		}
	case s.d == PostgreSQL:
		if text[0] != '\\' {
			return false, true
		}
	default:
		return false, true
	}
	end, whole := lineEnd(s.buf, s.pos)
	if !whole && !s.eof {
		return false, false
	}
	line := string(s.buf[s.pos:end])
	s.pos = end
	if s.d.mysql() {
		if fields := strings.Fields(line[len(delimiterWord):]); len(fields) > 0 {
			s.delimiter = fields[0]
		}
	}
	return true, true
}

// more reads on; what was given already is dropped. It returns io.EOF when there is
// nothing more.
func (s *Splitter) more() error {
	if s.failed != nil {
		return s.failed
	}
	if s.eof {
		return io.EOF
	}
	if len(s.buf)-s.pos > Longest {
		return ErrTooLong
	}
	s.buf = append(s.buf[:0], s.buf[s.pos:]...)
	s.pos = 0
	// Doubling, so that long tokens are not read again and again, as far as memory allows.
	want := max(least, min(len(s.buf), most))
	at := len(s.buf)
	s.buf = slices.Grow(s.buf, want)[:at+want]
	n, err := input.Fill(s.in, s.buf[at:])
	s.buf = s.buf[:at+n]
	if err != nil {
		s.failed = err
		return err
	}
	if s.eof = n < want; s.eof && n == 0 {
		return io.EOF
	}
	return nil
}

// Line returns the next line as it stands, or a piece of it when it is long; the
// slice is valid until the next call. It reads data that follows a statement, such as
// the rows of PostgreSQL's COPY.
func (s *Splitter) Line() ([]byte, error) {
	for {
		if end, whole := lineEnd(s.buf, s.pos); whole || end-s.pos >= least || s.eof && end > s.pos {
			line := s.buf[s.pos:end]
			s.pos = end
			return line, nil
		}
		if err := s.more(); err != nil {
			return nil, err
		}
	}
}

// All cuts a whole text into statements.
func All(in io.Reader, d Dialect) ([]string, error) {
	var all []string
	s := NewSplitter(in, d)
	for {
		stmt, err := s.Next()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		all = append(all, stmt)
	}
}
