package sqltext

import (
	"slices"
	"strings"
)

// Reader goes through the significant tokens of a statement, for those who decide what
// a statement is by reading it from the front. White space and comments stay in Tokens,
// so that the statement can be written again.
type Reader struct {
	// Tokens are all tokens. A caller may blank some of them out.
	Tokens []Token
	// at are the places of the significant ones, pos is the next of these.
	at  []int
	pos int
}

// NewReader returns a reader that stands before the first token.
func NewReader(tokens []Token) *Reader {
	r := &Reader{Tokens: tokens}
	for i, t := range tokens {
		if t.Kind != Space && t.Kind != Comment {
			r.at = append(r.at, i)
		}
	}
	return r
}

// Peek is the next token; the zero token at the end.
func (r *Reader) Peek() Token {
	if r.End() {
		return Token{}
	}
	return r.Tokens[r.at[r.pos]]
}

// Next passes over a token and gives it.
func (r *Reader) Next() Token {
	t := r.Peek()
	r.pos++
	return t
}

// End tells whether no token is left.
func (r *Reader) End() bool { return r.pos >= len(r.at) }

// Mark is a place to come back to with Reset.
func (r *Reader) Mark() int { return r.pos }

// Reset goes back to a mark.
func (r *Reader) Reset(mark int) { r.pos = mark }

// Take passes over words or symbols if all of them stand here.
func (r *Reader) Take(words ...string) bool {
	for i, w := range words {
		if r.pos+i >= len(r.at) || !r.Tokens[r.at[r.pos+i]].Is(w) {
			return false
		}
	}
	r.pos += len(words)
	return true
}

// TakeOne passes over one of several words.
func (r *Reader) TakeOne(words ...string) bool {
	return slices.ContainsFunc(words, func(w string) bool { return r.Take(w) })
}

// Name passes over a name. A word that begins with a digit is none.
func (r *Reader) Name() (string, bool) {
	t := r.Peek()
	if t.Kind == Name || t.Kind == Word && !t.Number() {
		r.pos++
		return t.Unquoted(), true
	}
	return "", false
}

// Place tells where the next token stands in Tokens.
func (r *Reader) Place() int {
	if r.End() {
		return len(r.Tokens)
	}
	return r.at[r.pos]
}

// Blank takes the tokens from one place to another out of the statement.
func (r *Reader) Blank(from, to int) {
	for i := from; i < to; i++ {
		r.Tokens[i] = Token{Kind: Space}
	}
}

// Parens passes over what is in parentheses, and gives its significant tokens without
// the outer ones.
func (r *Reader) Parens() ([]Token, bool) {
	if !r.Take("(") {
		return nil, false
	}
	from := r.pos
	for depth := 1; !r.End(); {
		switch t := r.Next(); {
		case t.Is("("):
			depth++
		case t.Is(")"):
			if depth--; depth == 0 {
				var inner []Token
				for _, i := range r.at[from : r.pos-1] {
					inner = append(inner, r.Tokens[i])
				}
				return inner, true
			}
		}
	}
	return nil, false
}

// Number tells whether a word is a number.
func (t Token) Number() bool { return t.Kind == Word && t.Text[0] >= '0' && t.Text[0] <= '9' }

// Write puts tokens together again. Comments become a space, unless they are kept.
func Write(tokens []Token, comments bool) string {
	var b strings.Builder
	for _, t := range tokens {
		if t.Kind == Comment && !comments {
			b.WriteByte(' ')
		} else {
			b.WriteString(t.Text)
		}
	}
	return strings.TrimSpace(b.String())
}
