package rowvalues

// escapes are how a make of database writes bytes in a text that mean something there: a
// backslash, and another byte.
type escapes struct {
	// escaped has that byte, or 0; plain is the way back, and itself for others.
	escaped, plain [256]byte
}

func newEscapes(all map[byte]byte) *escapes {
	e := &escapes{}
	for i := range e.plain {
		e.plain[i] = byte(i)
	}
	for c, as := range all {
		e.escaped[c] = as
		e.plain[as] = c
	}
	return e
}

// escape appends a text to a buffer as it is written.
func (e *escapes) escape(to, text []byte) []byte {
	for _, c := range text {
		if as := e.escaped[c]; as != 0 {
			to = append(to, '\\', as)
		} else {
			to = append(to, c)
		}
	}
	return to
}

// unescape appends a text without its escapes to a buffer, which may be its own.
func (e *escapes) unescape(to, text []byte) []byte {
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c == '\\' && i+1 < len(text) {
			i++
			c = e.plain[text[i]]
		}
		to = append(to, c)
	}
	return to
}
