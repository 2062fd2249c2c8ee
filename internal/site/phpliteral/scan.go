// Package phpliteral reads the values in a PHP settings file as literals. It
// never runs anything: what it cannot work out from literals, constants and
// variables set earlier in the same file becomes Unknown.
//
// The syntax follows the PHP language reference: strings in single and double
// quotes, heredoc and nowdoc, numbers, arrays, concatenation, define(), const,
// assignments and class properties with a default.
package phpliteral

import (
	"strings"
)

type kind int

const (
	kEnd    kind = iota
	kWord        // identifiers and keywords, namespaced names included
	kVar         // $name, without the dollar
	kString      // a string whose value is known
	kOpaque      // a string with something in it that only running would tell
	kNumber
	kPunct
)

type token struct {
	kind kind
	text string
	// holes are the variables that a double-quoted string or heredoc puts in.
	pieces []piece
	// from and to are where it stands in the source.
	from, to int
}

// piece is a share of an interpolated string: literal text, or a variable.
type piece struct{ text, variable string }

type scanner struct {
	src string
	pos int
	// from is where the last token begins.
	from int
}

const wordStart = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ_\\"

func isWordStart(c byte) bool { return strings.IndexByte(wordStart, c) >= 0 || c >= 0x80 }
func isDigit(c byte) bool     { return c >= '0' && c <= '9' }
func isWord(c byte) bool      { return isWordStart(c) || isDigit(c) }

// tokens splits a whole file. Text outside <?php … ?> is passed over.
func tokens(src string) []token {
	s := &scanner{src: src}
	s.skipHTML()
	var out []token
	for {
		t := s.next()
		if t.kind == kEnd {
			return append(out, t)
		}
		t.to = s.pos
		t.from = s.from
		out = append(out, t)
	}
}

func (s *scanner) skipHTML() {
	if i := strings.Index(s.src[s.pos:], "<?php"); i >= 0 {
		s.pos += i + len("<?php")
		return
	}
	if i := strings.Index(s.src[s.pos:], "<?="); i >= 0 {
		s.pos += i + len("<?=")
		return
	}
	s.pos = len(s.src)
}

func (s *scanner) rest() string { return s.src[s.pos:] }

func (s *scanner) next() token {
	for s.pos < len(s.src) {
		c, rest := s.src[s.pos], s.rest()
		s.from = s.pos
		switch {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			s.pos++
		case strings.HasPrefix(rest, "?>"):
			s.pos += 2
			s.skipHTML()
			return token{kind: kPunct, text: ";"}
		case strings.HasPrefix(rest, "#["):
			s.pos += 2
			return token{kind: kPunct, text: "["}
		case c == '#' || strings.HasPrefix(rest, "//"):
			s.skipLine()
		case strings.HasPrefix(rest, "/*"):
			if i := strings.Index(rest[2:], "*/"); i >= 0 {
				s.pos += i + 4
			} else {
				s.pos = len(s.src)
			}
		case c == '\'':
			return s.single()
		case c == '"':
			return s.double()
		case strings.HasPrefix(rest, "<<<"):
			if t, ok := s.heredoc(); ok {
				return t
			}
			s.pos += 3
			return token{kind: kPunct, text: "<<<"}
		case c == '$' && len(rest) > 1 && isWordStart(rest[1]):
			s.pos++
			return token{kind: kVar, text: s.word()}
		case isWordStart(c):
			return token{kind: kWord, text: s.word()}
		case isDigit(c):
			return token{kind: kNumber, text: s.number()}
		default:
			return s.punct()
		}
	}
	return token{kind: kEnd}
}

func (s *scanner) skipLine() {
	for s.pos < len(s.src) && s.src[s.pos] != '\n' && !strings.HasPrefix(s.rest(), "?>") {
		s.pos++
	}
}

func (s *scanner) word() string {
	start := s.pos
	for s.pos < len(s.src) && isWord(s.src[s.pos]) {
		s.pos++
	}
	return s.src[start:s.pos]
}

func (s *scanner) number() string {
	start := s.pos
	for s.pos < len(s.src) && (isWord(s.src[s.pos]) || s.src[s.pos] == '.') {
		s.pos++
	}
	return s.src[start:s.pos]
}

func (s *scanner) punct() token {
	for _, p := range []string{"??=", "=>", "==", "??", "?:", "->", "::", ".=", "!=", "<=", ">=", "&&", "||"} {
		if strings.HasPrefix(s.rest(), p) {
			s.pos += len(p)
			return token{kind: kPunct, text: p}
		}
	}
	s.pos++
	return token{kind: kPunct, text: s.src[s.pos-1 : s.pos]}
}

// single reads '…': only \' and \\ are escapes.
func (s *scanner) single() token {
	var b strings.Builder
	for s.pos++; s.pos < len(s.src); s.pos++ {
		c := s.src[s.pos]
		if c == '\'' {
			s.pos++
			return token{kind: kString, text: b.String()}
		}
		if c == '\\' && s.pos+1 < len(s.src) && (s.src[s.pos+1] == '\'' || s.src[s.pos+1] == '\\') {
			s.pos++
			c = s.src[s.pos]
		}
		b.WriteByte(c)
	}
	return token{kind: kOpaque}
}

// double reads "…" with its escapes and simple variables.
func (s *scanner) double() token {
	start := s.pos + 1
	for i := start; i < len(s.src); i++ {
		switch s.src[i] {
		case '\\':
			i++
		case '"':
			s.pos = i + 1
			return interpolated(s.src[start:i], '"')
		}
	}
	s.pos = len(s.src)
	return token{kind: kOpaque}
}

// heredoc reads <<<NAME … NAME and <<<'NAME' … NAME, taking the closing
// marker's indentation off every line.
func (s *scanner) heredoc() (token, bool) {
	head, body, ok := strings.Cut(s.rest()[3:], "\n")
	if !ok {
		return token{}, false
	}
	name := strings.TrimSpace(head)
	raw := strings.HasPrefix(name, "'")
	name = strings.Trim(name, `'"`)
	if name == "" || strings.ContainsFunc(name, func(r rune) bool { return r < 0x80 && !isWord(byte(r)) }) {
		return token{}, false
	}
	var lines []string
	at := len(s.src) - len(body)
	for line := range strings.SplitAfterSeq(body, "\n") {
		trimmed := strings.TrimLeft(line, " \t")
		if after, found := strings.CutPrefix(trimmed, name); found && (after == "" || !isWord(after[0])) {
			indent := line[:len(line)-len(trimmed)]
			for i := range lines {
				lines[i] = strings.TrimPrefix(lines[i], indent)
			}
			text := strings.TrimSuffix(strings.TrimSuffix(strings.Join(lines, ""), "\n"), "\r")
			s.pos = at + len(indent) + len(name)
			if raw {
				return token{kind: kString, text: text}, true
			}
			return interpolated(text, 0), true
		}
		lines = append(lines, line)
		at += len(line)
	}
	return token{}, false
}

var escapes = map[byte]string{'n': "\n", 't': "\t", 'r': "\r", 'v': "\v", 'e': "\x1b", 'f': "\f", '\\': "\\", '$': "$"}

// interpolated resolves escapes and splits out $name and {$name}.
func interpolated(text string, quote byte) token {
	var pieces []piece
	var b strings.Builder
	flush := func() {
		if b.Len() > 0 {
			pieces = append(pieces, piece{text: b.String()})
			b.Reset()
		}
	}
	for i := 0; i < len(text); i++ {
		c := text[i]
		braced := c == '{' && i+2 < len(text) && text[i+1] == '$' && isWordStart(text[i+2])
		switch {
		case c == '\\' && i+1 < len(text):
			i += unescape(&b, text[i+1:], quote)
		case braced, c == '$' && i+1 < len(text) && isWordStart(text[i+1]):
			if braced {
				i++
			}
			end := i + 1
			for end < len(text) && isWord(text[end]) {
				end++
			}
			name := text[i+1 : end]
			after := text[end:]
			if braced && !strings.HasPrefix(after, "}") || !braced && (strings.HasPrefix(after, "[") || strings.HasPrefix(after, "->")) {
				return token{kind: kOpaque}
			}
			flush()
			pieces = append(pieces, piece{variable: name})
			i = end - 1
			if braced {
				i++
			}
		case c == '$' && strings.HasPrefix(text[i:], "${"):
			return token{kind: kOpaque}
		default:
			b.WriteByte(c)
		}
	}
	flush()
	if len(pieces) == 0 {
		return token{kind: kString}
	}
	if len(pieces) == 1 && pieces[0].variable == "" {
		return token{kind: kString, text: pieces[0].text}
	}
	return token{kind: kString, pieces: pieces}
}

// unescape writes the escape that text starts with (the backslash is already
// read) and returns how many bytes of text it took.
func unescape(b *strings.Builder, text string, quote byte) int {
	c := text[0]
	if quote != 0 && c == quote {
		b.WriteByte(c)
		return 1
	}
	if s, ok := escapes[c]; ok {
		b.WriteString(s)
		return 1
	}
	switch {
	case c >= '0' && c <= '7':
		return radix(b, text, 0, 3, 8)
	case c == 'x':
		if n := radix(b, text, 1, 2, 16); n > 1 {
			return n
		}
	case strings.HasPrefix(text, "u{"):
		if end := strings.IndexByte(text, '}'); end > 2 {
			if r, ok := parseDigits(text[2:end], 16); ok && r <= 0x10ffff {
				b.WriteRune(rune(r))
				return end + 1
			}
		}
	}
	b.WriteByte('\\')
	b.WriteByte(c)
	return 1
}

func radix(b *strings.Builder, text string, from, most, base int) int {
	end := from
	for end < len(text) && end < from+most {
		if _, ok := parseDigits(text[end:end+1], base); !ok {
			break
		}
		end++
	}
	if end == from {
		return from
	}
	v, _ := parseDigits(text[from:end], base)
	b.WriteByte(byte(v))
	return end
}

func parseDigits(s string, base int) (int, bool) {
	v := 0
	for i := 0; i < len(s); i++ {
		d := strings.IndexByte("0123456789abcdef", s[i]|0x20)
		if isDigit(s[i]) {
			d = int(s[i] - '0')
		}
		if d < 0 || d >= base || v > 1<<24 {
			return 0, false
		}
		v = v*base + d
	}
	return v, len(s) > 0
}
