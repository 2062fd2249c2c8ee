package sqltext

import "strings"

// tracker follows a statement as far as that tells which semicolon ends it: inside
// the body of a trigger (SQLite), of a function in standard SQL or of a rule
// (PostgreSQL) there are others.
type tracker struct {
	d Dialect
	// any is set once something significant was seen; head are the first words.
	any  bool
	head []string
	// parens and blocks are how many are open.
	parens, blocks int
	// last are the last two significant tokens.
	last [2]string
}

// longestWord is more than the longest word that matters has.
const longestWord = 16

// headWords is how many words tell what a statement makes.
const headWords = 6

// see takes the next token.
func (t *tracker) see(kind Kind, text []byte) {
	if kind == Space || kind == Comment {
		return
	}
	t.any = true
	if t.d.mysql() || t.d == SQLite && len(t.head) == headWords && !t.trigger() {
		return // nothing that follows matters
	}
	word := ""
	if kind == Word || kind == Symbol {
		word = strings.ToUpper(string(text[:min(len(text), longestWord)]))
	}
	if kind == Word && len(t.head) < headWords {
		t.head = append(t.head, word)
	}
	switch word {
	case "(":
		t.parens++
	case ")":
		t.parens--
	case "BEGIN":
		if t.routine() {
			t.blocks++
		}
	case "CASE":
		if t.blocks > 0 {
			t.blocks++
		}
	case "END":
		if t.blocks > 0 {
			t.blocks--
		}
	}
	t.last = [2]string{t.last[1], word}
}

// atEnd tells whether a delimiter that stands here may end the statement.
func (t *tracker) atEnd() bool { return t.d != PostgreSQL || t.parens <= 0 && t.blocks == 0 }

// semicolon takes a semicolon, and tells whether the statement goes on after it: in
// a trigger of SQLite only the one after END ends it (sqlite3_complete()).
func (t *tracker) semicolon() (goesOn bool) {
	return t.d == SQLite && t.trigger() && !(t.last[1] == "END" && t.last[0] == ";")
}

// made is what a CREATE statement makes, past the words that may stand before.
func (t *tracker) made(before ...string) string {
	i := 0
	if i < len(t.head) && t.head[i] == "EXPLAIN" {
		i++
	}
	if i >= len(t.head) || t.head[i] != "CREATE" {
		return ""
	}
	for i++; i < len(t.head); i++ {
		word := t.head[i]
		passed := false
		for _, b := range before {
			passed = passed || b == word
		}
		if !passed {
			return word
		}
	}
	return ""
}

func (t *tracker) trigger() bool { return t.made("TEMP", "TEMPORARY") == "TRIGGER" }

func (t *tracker) routine() bool {
	if t.d != PostgreSQL {
		return false
	}
	what := t.made("OR", "REPLACE")
	return what == "FUNCTION" || what == "PROCEDURE"
}
