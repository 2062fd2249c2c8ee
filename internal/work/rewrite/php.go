package rewrite

import (
	"bytes"
	"strconv"
)

// PHP's own form of values (manual, "Object Serialization"; the grammar is that of
// unserialize() in ext/standard/var_unserializer.re).

// php takes a serialised value apart, and writes it again.
type php struct {
	*job
	in    []byte
	i     int
	out   []byte
	depth int
	// frozen has keys of arrays stay as they are: collided says that two of one array
	// would be the same otherwise.
	frozen, collided bool
}

// spare is by how much a value may grow before it is copied once more.
const spare = 1 << 10

// serialised changes a value that begins like one that PHP has serialised. One that does
// not end like one stays as it is.
func (j *job) serialised(v []byte, depth int) []byte {
	before := *j
	p := &php{job: j, in: v, depth: depth, out: make([]byte, 0, len(v)+spare)}
	ok := p.value()
	if p.collided {
		*j = before
		j.left.Keys++
		p = &php{job: j, in: v, depth: depth, frozen: true}
		ok = p.value()
	}
	if ok && len(bytes.TrimLeft(v[p.i:], " \r\n\t\x00")) == 0 {
		if j.n == before.n {
			return v
		}
		return append(p.out, v[p.i:]...)
	}
	*j = before
	j.left.Malformed++
	return v
}

// value reads one value.
func (p *php) value() bool {
	if p.depth++; p.depth > deepest || p.i+1 >= len(p.in) {
		return false
	}
	defer func() { p.depth-- }()
	from := p.i
	kind := p.in[p.i]
	if kind == 'N' {
		p.i++
		return p.take(";") && p.copy(from)
	}
	p.i++
	if !p.take(":") {
		return false
	}
	switch kind {
	case 'b', 'i', 'r', 'R', 'd':
		return p.scalar(kind) && p.copy(from)
	case 's':
		text, ok := p.quoted()
		return ok && p.take(";") && p.string(from, text)
	case 'S', 'E':
		return p.opaque(kind) && p.copy(from)
	case 'a':
		return p.pairs(from, false)
	case 'O':
		_, ok := p.quoted()
		return ok && p.take(":") && p.pairs(from, true)
	case 'C':
		return p.custom() && p.copy(from)
	}
	return false
}

// string writes a text that was read since from, for the new place; one that does not change
// as it is.
func (p *php) string(from int, text []byte) bool {
	count := p.n
	if text = p.job.value(text, p.depth); p.n == count {
		return p.copy(from)
	}
	p.write(text)
	return true
}

// write writes a text with its length.
func (p *php) write(text []byte) {
	p.out = append(p.out, "s:"...)
	p.out = strconv.AppendInt(p.out, int64(len(text)), 10)
	p.out = append(append(append(p.out, `:"`...), text...), `";`...)
}

// copy writes what was read since from as it is.
func (p *php) copy(from int) bool {
	p.out = append(p.out, p.in[from:p.i]...)
	return true
}

func (p *php) take(text string) bool {
	if !bytes.HasPrefix(p.in[p.i:], []byte(text)) {
		return false
	}
	p.i += len(text)
	return true
}

// number reads digits.
func (p *php) number() (n int, ok bool) {
	from := p.i
	if p.i < len(p.in) && p.in[p.i] == '+' {
		p.i++
		from++
	}
	for p.i < len(p.in) && p.in[p.i] >= '0' && p.in[p.i] <= '9' && p.i-from < 12 {
		n = n*10 + int(p.in[p.i]-'0')
		p.i++
	}
	return n, p.i > from
}

func (p *php) scalar(kind byte) bool {
	from := p.i
	marks := "-+"
	if kind == 'd' {
		marks = "-+.eEINFA"
	}
	for p.i < len(p.in) && (p.in[p.i] >= '0' && p.in[p.i] <= '9' || bytes.IndexByte([]byte(marks), p.in[p.i]) >= 0) {
		p.i++
	}
	return p.i > from && p.take(";")
}

// quoted reads length:"text".
func (p *php) quoted() ([]byte, bool) {
	n, ok := p.number()
	if !ok || !p.take(`:"`) || n > len(p.in)-p.i-1 {
		return nil, false
	}
	text := p.in[p.i : p.i+n]
	p.i += n
	return text, p.take(`"`)
}

// opaque reads an enumeration's case, or a string with escapes, whose length is that of
// what they stand for.
func (p *php) opaque(kind byte) bool {
	if kind == 'E' {
		_, ok := p.quoted()
		return ok && p.take(";")
	}
	n, ok := p.number()
	if !ok || !p.take(`:"`) {
		return false
	}
	from := p.i
	for ; n > 0 && p.i < len(p.in); n-- {
		if p.in[p.i] == '\\' {
			p.i += 2
		}
		p.i++
	}
	if n > 0 || p.i > len(p.in) {
		return false
	}
	if p.Mentions(p.in[from:p.i]) {
		p.left.Custom++
	}
	return p.take(`";`)
}

// custom reads an object that has serialised itself.
func (p *php) custom() bool {
	_, ok := p.quoted()
	if !ok || !p.take(":") {
		return false
	}
	n, ok := p.number()
	if !ok || !p.take(":{") || n > len(p.in)-p.i-1 {
		return false
	}
	if p.Mentions(p.in[p.i : p.i+n]) {
		p.left.Custom++
	}
	p.i += n
	return p.take("}")
}

// pairs reads count:{key value …}, and writes it behind what was read since from. Keys of
// objects are names of properties; those of arrays change like other texts.
func (p *php) pairs(from int, names bool) bool {
	n, ok := p.number()
	if !ok || !p.take(":{") {
		return false
	}
	p.copy(from)
	var keys map[string]bool
	if !names && !p.frozen {
		keys = map[string]bool{}
	}
	for range n {
		if !p.key(keys) || !p.value() {
			return false
		}
	}
	from = p.i
	return p.take("}") && p.copy(from)
}

// key reads a key, and remembers it unless it is to stay as it is.
func (p *php) key(keys map[string]bool) bool {
	from := p.i
	if p.take("i:") {
		return p.scalar('i') && p.copy(from)
	}
	if !p.take("s:") {
		return false
	}
	key, ok := p.quoted()
	if !ok || !p.take(";") {
		return false
	}
	if keys == nil {
		return p.copy(from)
	}
	now := string(p.job.value(key, p.depth))
	if now == string(key) {
		p.copy(from)
	} else {
		p.write([]byte(now))
	}
	p.collided = p.collided || keys[now]
	keys[now] = true
	return !p.collided
}
