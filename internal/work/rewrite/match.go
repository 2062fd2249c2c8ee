package rewrite

import (
	"bytes"
	"strings"
)

// match is one place in a text and what takes it.
type match struct {
	// start is -1 when there is none.
	start, end int
	to         []byte
	// mail says that it is a mail address, which stays.
	mail bool
}

var none = match{start: -1}

// rule finds one old place.
type rule interface {
	// needle is what has to be in a text for a match.
	needle() needle
	// next finds the first match that begins at from or later.
	next(v []byte, from int) match
}

// needle is a text to look for.
type needle struct {
	text []byte
	// exact tells that small and large letters are different ones.
	exact bool
	// anchor is the place of a byte that is no letter, and rare: a host's last dot. -1 is
	// none.
	anchor int
}

// newNeedle looks for a text in ASCII's small and large letters alike.
func newNeedle(text string) needle {
	n := needle{text: []byte(strings.ToLower(text)), anchor: -1}
	for i, c := range n.text {
		if c < 'a' || c > 'z' {
			n.anchor = i
		}
	}
	return n
}

// index is where the needle is at from or later, or -1.
func (n *needle) index(v []byte, from int) int {
	if n.exact {
		if at := bytes.Index(v[min(from, len(v)):], n.text); at >= 0 {
			return from + at
		}
		return -1
	}
	for {
		if n.anchor >= 0 {
			if from+n.anchor >= len(v) {
				return -1
			}
			at := bytes.IndexByte(v[from+n.anchor:], n.text[n.anchor])
			if at < 0 {
				return -1
			}
			from += at
		}
		if from+len(n.text) > len(v) {
			return -1
		}
		if n.at(v, from) {
			return from
		}
		from++
	}
}

// at tells whether the needle is at i.
func (n *needle) at(v []byte, i int) bool {
	for k, c := range n.text {
		if lower(v[i+k]) != c {
			return false
		}
	}
	return true
}

func lower(c byte) byte {
	if c >= 'A' && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

// wrapping is how slashes and colons are written: plain, behind backslashes as in JSON, or
// URL-encoded, once or more often.
type wrapping struct{ slash, colon string }

var plain = wrapping{"/", ":"}

// slashBefore tells how the slash is written that ends at i, and where it begins.
func slashBefore(v []byte, i int) (w wrapping, start int, ok bool) {
	if i > 0 && v[i-1] == '/' {
		start = i - 1
		for start > 0 && v[start-1] == '\\' {
			start--
		}
		return wrapping{string(v[start:i]), ":"}, start, true
	}
	if i >= 3 && lower(v[i-1]) == 'f' && v[i-2] == '2' {
		start = i - 2
		for start >= 2 && v[start-2] == '2' && v[start-1] == '5' {
			start -= 2
		}
		if start > 0 && v[start-1] == '%' {
			slash := string(v[start-1 : i])
			colon := slash[:len(slash)-2] + "3" + string(slash[len(slash)-1]-'F'+'A')
			return wrapping{slash, colon}, start - 1, true
		}
	}
	return w, i, false
}

// slashAfter tells how the slash is written that begins at i.
func slashAfter(v []byte, i int) (w wrapping, ok bool) {
	end := i
	for end < len(v) && v[end] == '\\' {
		end++
	}
	if end < len(v) && v[end] == '/' {
		return wrapping{string(v[i : end+1]), ":"}, true
	}
	if i < len(v) && v[i] == '%' {
		end = i + 1
		for bytes.HasPrefix(v[end:], []byte("25")) {
			end += 2
		}
		if end+2 <= len(v) && v[end] == '2' && lower(v[end+1]) == 'f' {
			w, _, ok = slashBefore(v, end+2)
			return w, ok
		}
	}
	return w, false
}

// before is the character that stands before i as a reader would see it: what is
// URL-encoded decoded, and white space for an escape such as \n.
func before(v []byte, i int) byte {
	if i == 0 {
		return 0
	}
	if i >= 3 {
		at := i - 2
		for at >= 3 && v[at-2] == '2' && v[at-1] == '5' {
			at -= 2
		}
		if v[at-1] == '%' {
			if c, ok := hexByte(v[i-2], v[i-1]); ok {
				return c
			}
		}
	}
	c := v[i-1]
	if i >= 2 && v[i-2] == '\\' && strings.IndexByte("nrtbf", c) >= 0 {
		return ' '
	}
	if i >= 6 && v[i-6] == '\\' && v[i-5] == 'u' { // \u0022 and the like
		if high, ok := hexByte(v[i-4], v[i-3]); ok && high == 0 {
			if low, ok := hexByte(v[i-2], c); ok {
				return low
			}
		}
	}
	return c
}

// after is the character that stands at i, what is URL-encoded decoded, and where the next
// one begins.
func after(v []byte, i int) (c byte, next int) {
	if i >= len(v) {
		return 0, i
	}
	if v[i] == '%' {
		at := i + 1
		for bytes.HasPrefix(v[at:], []byte("25")) {
			at += 2
		}
		if at+2 <= len(v) {
			if c, ok := hexByte(v[at], v[at+1]); ok {
				return c, at + 2
			}
		}
	}
	return v[i], i + 1
}

func hexByte(a, b byte) (byte, bool) {
	digit := func(c byte) (byte, bool) {
		switch c = lower(c); {
		case c >= '0' && c <= '9':
			return c - '0', true
		case c >= 'a' && c <= 'f':
			return c - 'a' + 10, true
		}
		return 0, false
	}
	x, ok1 := digit(a)
	y, ok2 := digit(b)
	return x<<4 | y, ok1 && ok2
}

func alnum(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// goesOn tells whether a name that ends at i goes on: a dot does if it does not end a
// sentence, and marks do.
func goesOn(v []byte, i int, marks string) bool {
	c, next := after(v, i)
	if c == '.' {
		c, _ = after(v, next)
		return alnum(c) || c == '-' || c == '_'
	}
	return alnum(c) || c != 0 && strings.IndexByte(marks, c) >= 0
}

// pathMarks are what a path element may hold beside letters, digits and dots.
const pathMarks = "-_~+=@$"

// elementGoesOn tells whether a path element that ends at i goes on. In a path that is not
// URL-encoded as a whole, an encoded space belongs to an element.
func elementGoesOn(v []byte, i int, w wrapping) bool {
	if c, next := after(v, i); next > i+1 && c == ' ' && !strings.HasPrefix(w.slash, "%") {
		return true
	}
	return goesOn(v, i, pathMarks)
}

// path reads elements at i, each behind a slash of one kind, and tells where they end. An
// empty w is taken from the first slash.
func path(v []byte, i int, w *wrapping, all []string) (end int, ok bool) {
	for _, e := range all {
		if w.slash == "" {
			found, ok := slashAfter(v, i)
			if !ok {
				return i, false
			}
			*w = found
		}
		if !bytes.HasPrefix(v[i:], []byte(w.slash)) || !bytes.HasPrefix(v[i+len(w.slash):], []byte(e)) {
			return i, false
		}
		i += len(w.slash) + len(e)
	}
	return i, len(all) == 0 || !elementGoesOn(v, i, *w)
}

// address finds a site's address.
type address struct {
	// bare is the host's name without www.
	bare, port string
	path       []string
	to         place
	mail       bool
	find       needle
}

func (a *address) needle() needle { return a.find }

func (a *address) next(v []byte, from int) match {
	n := &a.find
	for at := n.index(v, from); at >= 0; at = n.index(v, at+1) {
		if m := a.at(v, at); m.start >= from {
			return m
		}
	}
	return none
}

// at tells whether an address's host stands at i, with or without the www. before it.
func (a *address) at(v []byte, i int) match {
	host := i
	if i >= 4 && strings.EqualFold(string(v[i-4:i]), "www.") {
		host = i - 4
	}
	end := i + len(a.bare)
	w, start, ok := a.head(v, host)
	scheme := ok && start < host && w.slash != "" && lower(v[start]) == 'h' && start+4 < host
	mail := false
	if !ok {
		switch c := before(v, host); {
		case c == '@':
			mail = true
		case alnum(c), c == '.', c == '-', c == '_', c == '/', c == '\\':
			return none
		}
		w, start = wrapping{}, host
	} else if !scheme {
		start = host
	}
	colon := w.colon
	if colon == "" {
		colon = ":"
	}
	if a.port != "" {
		if !bytes.HasPrefix(v[end:], []byte(colon+a.port)) {
			return none
		}
		end += len(colon) + len(a.port)
		if c, _ := after(v, end); c >= '0' && c <= '9' {
			return none
		}
	} else if c, next := after(v, end); c == ':' {
		if c, _ := after(v, next); c >= '0' && c <= '9' {
			return none // the same machine's other port
		}
	}
	if goesOn(v, end, pathMarks) {
		return none
	}
	if mail {
		return match{start: start, end: end, to: []byte(a.to.host), mail: !a.mail}
	}
	if end, ok = path(v, end, &w, a.path); !ok {
		return none
	}
	return match{start: start, end: end, to: a.written(v, end, w, scheme)}
}

// head reads what stands before a host: slashes, and a scheme before these. ok is false
// where there are no two slashes.
func (a *address) head(v []byte, host int) (w wrapping, start int, ok bool) {
	w, first, ok := slashBefore(v, host)
	if !ok {
		return w, host, false
	}
	again, second, ok := slashBefore(v, first)
	if !ok || again.slash != w.slash {
		return w, host, false
	}
	if bytes.HasSuffix(v[:second], []byte(w.colon)) {
		colon := second - len(w.colon)
		for _, scheme := range []string{"https", "http"} {
			if begin := colon - len(scheme); begin >= 0 && strings.EqualFold(string(v[begin:colon]), scheme) && !alnum(before(v, begin)) {
				return w, begin, true
			}
		}
	}
	return w, second, true
}

// written is the new address in the old one's wrapping.
func (a *address) written(v []byte, end int, w wrapping, scheme bool) []byte {
	if w.slash == "" {
		w = plain
		if found, ok := slashAfter(v, end); ok {
			w = found
		}
	}
	var b []byte
	if scheme {
		b = append(b, a.to.scheme+w.colon+w.slash+w.slash...)
	}
	b = append(b, a.to.host...)
	if a.to.port != "" {
		b = append(b, w.colon+a.to.port...)
	}
	return appendPath(b, w, a.to.path)
}

func appendPath(b []byte, w wrapping, all []string) []byte {
	for _, e := range all {
		b = append(append(b, w.slash...), e...)
	}
	return b
}

// folder finds an absolute path.
type folder struct {
	old, new []string
	// anchor is the place of the element that is looked for.
	anchor int
	find   needle
}

func (f *folder) needle() needle { return f.find }

func (f *folder) next(v []byte, from int) match {
	n := &f.find
	for at := n.index(v, from); at >= 0; at = n.index(v, at+1) {
		if m := f.at(v, at); m.start >= from {
			return m
		}
	}
	return none
}

// at tells whether the folder stands in v so that its anchor is at i.
func (f *folder) at(v []byte, i int) match {
	w, start, ok := slashBefore(v, i)
	if !ok {
		return none
	}
	for k := f.anchor - 1; k >= 0; k-- {
		e := f.old[k]
		if !bytes.HasSuffix(v[:start], []byte(w.slash+e)) {
			return none
		}
		start -= len(e) + len(w.slash)
	}
	end, ok := path(v, start, &w, f.old)
	if !ok {
		return none
	}
	switch c := before(v, start); {
	case c == '/':
		if !bytes.HasSuffix(v[:start], []byte(w.colon+w.slash+w.slash)) { // file:///srv/…
			return none
		}
	case alnum(c), strings.IndexByte(".-_~", c) >= 0 && c != 0:
		return none
	}
	to := appendPath(nil, w, f.new)
	if len(f.new) == 0 {
		if _, ok := slashAfter(v, end); !ok {
			to = []byte(w.slash)
		}
	}
	return match{start: start, end: end, to: to}
}
