package compare

import (
	"encoding/hex"
	"strconv"
	"strings"
)

// columnsOf reads the columns' names from the statement that begins rows: INSERT
// INTO name (…) VALUES, or COPY name (…) FROM stdin.
func columnsOf(head string) []string {
	from := strings.IndexAny(head, "`\"")
	if from < 0 {
		return nil
	}
	_, rest, _ := quotedName(head[from:])
	rest, ok := strings.CutPrefix(rest, " (")
	var all []string
	for ok {
		var name string
		if name, rest, ok = quotedName(rest); ok {
			all = append(all, name)
			rest = strings.TrimPrefix(rest, ", ")
		}
	}
	return all
}

// quotedName cuts the name off that a text begins with: one in quotes, or a plain word such
// as rowid, which stands for the number of a row in SQLite.
func quotedName(s string) (name, rest string, ok bool) {
	if s == "" || s[0] != '`' && s[0] != '"' {
		end := strings.IndexAny(s, ",)")
		return s[:max(0, end)], s[max(0, end):], end > 0
	}
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		if s[i] != s[0] {
			b.WriteByte(s[i])
			continue
		}
		if i+1 < len(s) && s[i+1] == s[0] {
			b.WriteByte(s[i])
			i++
			continue
		}
		return b.String(), s[i+1:], true
	}
	return "", s, false
}

// Values are a row's values as text, in the order of its columns. NULL is empty.
func Values(row, engine string) []string {
	all := fields(row, engine)
	for i, f := range all {
		if engine == "postgres" {
			all[i] = uncopied(f)
		} else {
			all[i] = plain(f, engine == "mysql")
		}
	}
	return all
}

// fields are a row's values as they stand in the SQL text.
func fields(row, engine string) []string {
	if engine == "postgres" {
		return strings.Split(row, "\t")
	}
	all := literals(strings.TrimSuffix(strings.TrimPrefix(row, "("), ")"), engine == "mysql")
	for i, literal := range all {
		all[i] = strings.TrimSpace(literal)
	}
	return all
}

// literals cuts a list of literals at the commas outside quotes and parentheses.
func literals(list string, escapes bool) []string {
	var all []string
	from, depth, quoted := 0, 0, false
	for i := 0; i < len(list); i++ {
		switch c := list[i]; {
		case quoted && escapes && c == '\\':
			i++
		case c == '\'':
			quoted = !quoted
		case quoted:
		case c == '(':
			depth++
		case c == ')':
			depth--
		case c == ',' && depth == 0:
			all = append(all, list[from:i])
			from = i + 1
		}
	}
	return append(all, list[from:])
}

// plain is the text of one literal, as Revlet writes them.
func plain(literal string, escapes bool) string {
	if inner, ok := strings.CutPrefix(literal, "CAST("); ok {
		literal, _, _ = strings.Cut(inner, " AS ")
	}
	switch {
	case literal == "NULL":
		return ""
	case strings.HasPrefix(literal, "0x"), strings.HasPrefix(literal, "x'"):
		if raw, err := hex.DecodeString(strings.Trim(literal[2:], "'")); err == nil {
			return string(raw)
		}
		return literal
	}
	open := strings.IndexByte(literal, '\'')
	if open < 0 || !strings.HasSuffix(literal, "'") || len(literal) < open+2 {
		return literal
	}
	text := literal[open+1 : len(literal)-1]
	if !escapes {
		return strings.ReplaceAll(text, "''", "'")
	}
	return unescaped(strings.ReplaceAll(text, "''", "'"), map[byte]byte{'0': 0, 'n': '\n', 'r': '\r', 't': '\t', 'Z': 26})
}

// uncopied is the text of a value in COPY's text format.
func uncopied(s string) string {
	if s == `\N` {
		return ""
	}
	return unescaped(s, map[byte]byte{'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t', 'v': '\v'})
}

// unescaped resolves backslashes: a letter with a meaning, or the byte itself.
func unescaped(s string, meaning map[byte]byte) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			b.WriteByte(s[i])
			continue
		}
		i++
		if c, ok := meaning[s[i]]; ok {
			b.WriteByte(c)
		} else {
			b.WriteByte(s[i])
		}
	}
	return b.String()
}

// Row is a row with its columns' names.
type Row map[string]string

// rowOf gives a row's values names. A row that was cut short has fewer.
func rowOf(columns []string, row, engine string) Row {
	r := Row{}
	for i, v := range Values(row, engine) {
		name := strconv.Itoa(i)
		if i < len(columns) {
			name = columns[i]
		}
		r[name] = v
	}
	return r
}
