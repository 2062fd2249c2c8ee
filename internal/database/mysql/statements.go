package mysql

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unsafe"

	"revlet/internal/database"
	"revlet/internal/database/sqltext"
	"revlet/internal/platform/lazy"
)

// rowStatements reads a part of rows as Revlet writes it, a row a line, and
// calls visit for every statement without its semicolon. The slice is only
// valid during the call.
func rowStatements(r io.Reader, visit func(s rowStatement) error) error {
	in := bufio.NewReaderSize(r, 1<<18)
	buf := make([]byte, headRoom)
	ahead, _ := r.(interface{ Ahead() int })
	for {
		chunk, err := in.ReadSlice('\n')
		buf = append(buf, chunk...)
		if len(buf) > sqltext.Longest {
			return sqltext.ErrTooLong
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			if ahead != nil {
				buf = slices.Grow(buf, ahead.Ahead())
			}
			continue
		case errors.Is(err, io.EOF):
			if len(bytes.TrimSpace(buf[headRoom:])) > 0 {
				return fmt.Errorf("the text ends inside a statement: %w", io.ErrUnexpectedEOF)
			}
			return nil
		case err != nil:
			return err
		}
		if bytes.HasSuffix(buf, []byte(";\n")) {
			if err := visit(rowStatement(buf[:len(buf)-2])); err != nil {
				return err
			}
			buf = buf[:headRoom]
		}
	}
}

// headRoom is more than INSERT INTO with a name of 64 characters, each of up to four
// bytes, takes.
const headRoom = 512

// rowStatement is a statement behind room for another head: one that holds a large value
// is not copied to be changed.
type rowStatement []byte

// text is the statement.
func (s rowStatement) text() []byte { return s[headRoom:] }

// sql is the statement as the driver takes it, without a copy: valid as long as s is.
func (s rowStatement) sql() string { return unsafe.String(&s[headRoom], len(s)-headRoom) }

// sqlInto is the same with another head in the place of the first end bytes. It changes s.
func (s rowStatement) sqlInto(head string, end int) string {
	from := headRoom + end - len(head)
	if from < 0 {
		return head + string(s.text()[end:])
	}
	copy(s[from:], head)
	return unsafe.String(&s[from], len(s)-from)
}

// sessionStatement matches the settings that Revlet's own parts begin with.
var sessionStatement = lazy.Regexp(`^(?:SET NAMES (?:binary|utf8mb4)|SET autocommit = 0|COMMIT|` +
	`SET SESSION (?:(?:sql_mode = '[A-Z0-9_,]*'|time_zone = '[A-Za-z0-9_+:/-]*'|(?:foreign_key_checks|unique_checks|system_versioning_insert_history) = [01])(?:, )?)+)$`)

// objectSession matches what objects are made under; its first group is a character set.
var objectSession = lazy.Regexp(`^SET SESSION (?:character_set_client = ([a-z0-9]+)|collation_connection = [a-z0-9_]+)$`)

func foreign(stmt string) error {
	return fmt.Errorf("%w: %s", database.ErrForeignSQL, excerpt(stmt))
}

// withoutLiterals blanks strings, quoted names and comments.
func withoutLiterals(s string) string {
	var b strings.Builder
	for t := range sqltext.Tokens(s, sqltext.MySQL) {
		switch t.Kind {
		case sqltext.String, sqltext.Name, sqltext.Comment:
			b.WriteByte(' ')
		default:
			b.WriteString(t.Text)
		}
	}
	return b.String()
}

// checkInsert tells whether stmt inserts nothing but literals into a table,
// and where its table's name ends. It reads every byte: a part whose digest
// was made anew cannot smuggle anything past it.
func checkInsert(stmt []byte, table string) (end int, err error) {
	head := "INSERT INTO " + quote(table)
	if !bytes.HasPrefix(stmt, []byte(head+" (")) {
		return 0, foreign(string(stmt[:min(len(stmt), 80)]))
	}
	i := len(head) + 2
	i, ok := scanNames(stmt, i)
	if ok {
		ok = bytes.HasPrefix(stmt[i:], []byte(" VALUES\n"))
	}
	if ok {
		ok = scanTuples(stmt, i+len(" VALUES\n"))
	}
	if !ok {
		return 0, foreign(string(stmt[:min(len(stmt), 80)]))
	}
	return len(head), nil
}

// scanNames passes over `a`, `b`) and returns the place behind the parenthesis.
func scanNames(s []byte, i int) (int, bool) {
	for i < len(s) && s[i] == '`' {
		for i++; i < len(s); i++ {
			if s[i] != '`' {
				continue
			}
			if i+1 < len(s) && s[i+1] == '`' {
				i++
				continue
			}
			break
		}
		i++
		if i < len(s) && s[i] == ')' {
			return i + 1, true
		}
		if !bytes.HasPrefix(s[min(i, len(s)):], []byte(", ")) {
			return i, false
		}
		i += 2
	}
	return i, false
}

// scanTuples checks (literal,…),\n(literal,…) to the end.
func scanTuples(s []byte, i int) bool {
	for {
		if i >= len(s) || s[i] != '(' {
			return false
		}
		i++
		for {
			var ok bool
			if i, ok = scanLiteral(s, i); !ok || i >= len(s) {
				return false
			}
			i++
			if s[i-1] == ')' {
				break
			}
			if s[i-1] != ',' {
				return false
			}
		}
		if i == len(s) {
			return true
		}
		if !bytes.HasPrefix(s[i:], []byte(",\n")) {
			return false
		}
		i += 2
	}
}

// scanLiteral passes over one number, 0x…, NULL, '…' or _utf8mb4'…'.
func scanLiteral(s []byte, i int) (int, bool) {
	if bytes.HasPrefix(s[i:], []byte("_utf8mb4'")) {
		i += len("_utf8mb4")
	}
	switch {
	case i >= len(s):
		return i, false
	case s[i] == '\'':
		return scanText(s, i+1)
	case bytes.HasPrefix(s[i:], []byte("NULL")):
		return i + len("NULL"), true
	case bytes.HasPrefix(s[i:], []byte("0x")):
		return scanWhile(s, i+2, func(c byte) bool { return isDigit(c) || c >= 'a' && c <= 'f' })
	default:
		return scanNumber(s, i)
	}
}

// scanText passes over a string whose opening quote is behind.
func scanText(s []byte, i int) (int, bool) {
	for ; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '\'':
			return i + 1, true
		}
	}
	return i, false
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// scanWhile passes over one byte or more that belong.
func scanWhile(s []byte, i int, belongs func(byte) bool) (int, bool) {
	from := i
	for i < len(s) && belongs(s[i]) {
		i++
	}
	return i, i > from
}

// scanNumber passes over -12.5e+30 and the like.
func scanNumber(s []byte, i int) (int, bool) {
	at := func(c byte) bool { return i < len(s) && s[i] == c }
	if at('-') {
		i++
	}
	i, ok := scanWhile(s, i, isDigit)
	if ok && at('.') {
		i, ok = scanWhile(s, i+1, isDigit)
	}
	if ok && at('e') {
		i++
		if at('+') || at('-') {
			i++
		}
		i, ok = scanWhile(s, i, isDigit)
	}
	return i, ok
}

// Statements cuts the SQL text of a part into statements, each in the SQL mode that those
// before it have set.
func Statements(r io.Reader) (all []string, err error) {
	s := sqltext.NewSplitter(r, sqltext.MySQL)
	for {
		stmt, err := s.Next()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		if mode, ok := modeSet(stmt); ok {
			s.Under(serverVersion{}.under(mode).dialect)
		}
		all = append(all, stmt)
	}
}

// modeStatement matches where a part sets the SQL mode; its group is the mode.
var modeStatement = lazy.Regexp(`\bsql_mode = '([A-Z0-9_,]*)'`)

// modeSet is the SQL mode that a statement of a part sets, if it does.
func modeSet(stmt string) (mode string, ok bool) {
	m := modeStatement().FindStringSubmatch(stmt)
	if m == nil || !sessionStatement().MatchString(stmt) {
		return "", false
	}
	return m[1], true
}
