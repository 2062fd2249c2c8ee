package phpliteral

import (
	"maps"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
)

// Unknown stands for a value that only running the file would tell.
type Unknown struct{}

// Array is a PHP array; list items have their index as key.
type Array map[string]any

// File holds what a settings file says. Values are string, int64, float64,
// bool, nil, Array or Unknown.
type File struct {
	Constants map[string]any
	// Variables are plain variables and class properties, without the dollar.
	Variables map[string]any
	// Includes are the files that it takes in by include and require, as strings, or
	// Unknown where only running the file would tell.
	Includes []any
}

// Options adapt the reading to where the file lies.
type Options struct {
	// Dir is the value of __DIR__.
	Dir string
	// Getenv answers getenv() and $_ENV; nil means os.LookupEnv.
	Getenv func(string) (string, bool)
}

// Read reads the literals in src. It accepts any input.
func Read(src string, o Options) *File {
	if o.Getenv == nil {
		o.Getenv = os.LookupEnv
	}
	r := &reader{toks: tokens(src), o: o, conditional: map[string]bool{}, f: &File{Constants: map[string]any{}, Variables: map[string]any{}}}
	r.alternative = alternativeEnd(r.toks)
	for r.peek().kind != kEnd {
		r.statement()
	}
	return r.f
}

// Lookup finds a value: NAME for a constant, $name for a variable, and
// $name.key.key inside an array. The result is false when it is not set.
func (f *File) Lookup(path string) (any, bool) {
	name, isVar := strings.CutPrefix(path, "$")
	if !isVar {
		v, ok := f.Constants[name]
		return v, ok
	}
	keys := strings.Split(name, ".")
	v, ok := f.Variables[keys[0]]
	for _, k := range keys[1:] {
		a, isArray := v.(Array)
		if !ok || !isArray {
			return nil, false
		}
		v, ok = a[k]
	}
	return v, ok
}

// Text is Lookup for a value that can be written as a string.
func (f *File) Text(path string) (string, bool) {
	v, ok := f.Lookup(path)
	if !ok {
		return "", false
	}
	return text(v)
}

// Unknown tells whether a value is set, in whole or in a part of what leads to it, and only
// running the file would tell what it is. What is not set is not unknown.
func (f *File) Unknown(path string) bool {
	name, isVar := strings.CutPrefix(path, "$")
	v, ok := f.Constants[path], true
	if isVar {
		keys := strings.Split(name, ".")
		v, ok = f.Variables[keys[0]]
		for _, k := range keys[1:] {
			a, isArray := v.(Array)
			if !isArray {
				break
			}
			v, ok = a[k]
		}
	}
	_, unknown := v.(Unknown)
	return ok && unknown
}

// Keys returns the keys of an array in order, none for anything else.
func (f *File) Keys(path string) []string {
	v, _ := f.Lookup(path)
	a, _ := v.(Array)
	return slices.Sorted(maps.Keys(a))
}

func text(v any) (string, bool) {
	switch v := v.(type) {
	case string:
		return v, true
	case int64:
		return strconv.FormatInt(v, 10), true
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64), true
	case bool:
		if v {
			return "1", true
		}
		return "", true
	case nil:
		return "", true
	default:
		return "", false
	}
}

// deepest bounds nesting, so that a hostile file cannot exhaust the stack.
const deepest = 200

type reader struct {
	toks  []token
	pos   int
	depth int
	// blocks are how many braces are open; bodies tells of each whether it is not the body of
	// a class, and loose how many are not; before alternative, there may be blocks without
	// braces; conditional are the constants whose definition depends on a condition.
	blocks      int
	bodies      []bool
	loose       int
	alternative int
	conditional map[string]bool
	o           Options
	f           *File
}

func (r *reader) peek() token { return r.toks[r.pos] }

func (r *reader) take() token {
	t := r.toks[r.pos]
	if t.kind != kEnd {
		r.pos++
	}
	return t
}

func (r *reader) is(p string) bool {
	t := r.peek()
	return t.kind == kPunct && t.text == p
}

func (r *reader) accept(p string) bool {
	if r.is(p) {
		r.pos++
		return true
	}
	return false
}

// statement reads one assignment or definition, or steps over one token of
// anything else. Blocks are not followed as such: what stands inside an
// `if (!defined(…)) {…}` counts like any other line.
func (r *reader) statement() {
	t := r.peek()
	switch {
	case t.kind == kVar:
		r.assignment()
	case t.kind == kWord && strings.EqualFold(strings.TrimPrefix(t.text, "\\"), "define"):
		r.pos++
		r.define()
	case t.kind == kWord && strings.EqualFold(t.text, "const"):
		r.pos++
		r.constant()
	case t.kind == kWord && slices.Contains([]string{"include", "include_once", "require", "require_once"}, strings.ToLower(t.text)):
		r.pos++
		v := r.expression()
		if _, known := v.(string); !known {
			v = Unknown{}
		}
		r.f.Includes = append(r.f.Includes, v)
	default:
		switch {
		case r.is("{"):
			r.blocks++
			r.bodies = append(r.bodies, !r.classBody())
			if r.bodies[len(r.bodies)-1] {
				r.loose++
			}
		case r.is("}"):
			r.blocks--
			if n := len(r.bodies); n > 0 {
				if r.bodies[n-1] {
					r.loose--
				}
				r.bodies = r.bodies[:n-1]
			}
		}
		r.pos++
	}
}

func (r *reader) define() {
	conditional := r.underCondition(r.pos - 1)
	if !r.accept("(") {
		return
	}
	name, ok := r.expression().(string)
	if !ok || !r.accept(",") {
		return
	}
	r.setConstant(name, r.expression(), conditional)
}

func (r *reader) constant() {
	name := r.take()
	if name.kind != kWord {
		return
	}
	if r.peek().kind == kWord { // const TYPE NAME = …
		name = r.take()
	}
	if r.accept("=") {
		r.setConstant(name.text, r.expression(), false)
	}
}

// setConstant keeps the first definition, as PHP does. If that one depends on a
// condition, and another says otherwise, only running the file would tell.
func (r *reader) setConstant(name string, v any, conditional bool) {
	v = stored(v)
	old, set := r.f.Constants[name]
	switch {
	case !set:
		r.f.Constants[name] = v
		r.conditional[name] = conditional
	case r.conditional[name] && !reflect.DeepEqual(old, v):
		r.f.Constants[name] = Unknown{}
	}
}

// underCondition tells whether the statement at a token is one that may not run.
func (r *reader) underCondition(at int) bool {
	if r.blocks > 0 || at < r.alternative || at == 0 {
		return r.blocks > 0 || at < r.alternative
	}
	before := r.toks[at-1]
	return !(before.kind == kPunct && strings.Contains(";}", before.text)) && !strings.HasPrefix(before.text, "<?")
}

// classBody tells whether the brace at the current token begins the body of a class.
func (r *reader) classBody() bool {
	for i := r.pos - 1; i >= 0; i-- {
		t := r.toks[i]
		if t.kind == kPunct && strings.Contains(";{}", t.text) {
			return false
		}
		if t.kind == kWord && strings.EqualFold(t.text, "class") {
			return true
		}
	}
	return false
}

// mayNotRun tells whether the assignment at a token is one that may not run, or that is not
// about a variable of the file. One that runs stands outside of blocks, and begins a
// statement; or it gives a property of a class its default.
func (r *reader) mayNotRun(at int) bool {
	if r.loose > 0 || at < r.alternative {
		return true
	}
	if at == 0 || len(r.bodies) > 0 {
		return false
	}
	t := r.toks[at-1]
	return t.kind != kPunct || !strings.Contains(";{}", t.text)
}

// alternativeEnd is the place of the last word that ends a block which braces do not mark
// (PHP manual, "Alternative syntax for control structures"). What stands before it may be
// in such a block.
func alternativeEnd(toks []token) (at int) {
	for i, t := range toks {
		if t.kind == kWord && slices.Contains([]string{"endif", "endfor", "endforeach", "endwhile", "endswitch"}, strings.ToLower(t.text)) {
			at = i
		}
	}
	return at
}

// decided is what a variable may be after an assignment: if that may not run, and something
// else was assigned before, only running the file would tell.
func decided(was any, set bool, v any, mayNotRun bool) any {
	if mayNotRun && set && !reflect.DeepEqual(was, v) {
		return Unknown{}
	}
	return v
}

func (r *reader) assignment() {
	mayNotRun := r.mayNotRun(r.pos)
	name := r.take().text
	var keys []any
	for r.accept("[") {
		if r.accept("]") {
			keys = append(keys, nil)
			continue
		}
		keys = append(keys, r.expression())
		if !r.accept("]") {
			return
		}
	}
	if len(keys) > deepest {
		return
	}
	appending, defaulting := r.is(".="), r.is("??=")
	if !r.accept("=") && !r.accept(".=") && !r.accept("??=") {
		return
	}
	v := stored(r.expression())
	if len(keys) == 0 {
		old, set := r.f.Variables[name]
		switch {
		case appending:
			v = concat(old, v)
		case defaulting && set && old != nil:
			return
		}
		r.f.Variables[name] = decided(old, set, v, mayNotRun)
		return
	}
	if !appending {
		was, set := inside(r.f.Variables[name], keys)
		r.f.Variables[name] = put(r.f.Variables[name], keys, decided(was, set, v, mayNotRun))
	}
}

// inside is a value deep inside an array.
func inside(in any, keys []any) (any, bool) {
	for _, key := range keys {
		a, ok := in.(Array)
		k, named := text(key)
		if !ok || key == nil || !named {
			return nil, false
		}
		if in, ok = a[k]; !ok {
			return nil, false
		}
	}
	return in, true
}

// put sets a value deep inside an array, making arrays on the way.
func put(in any, keys []any, v any) any {
	if len(keys) == 0 {
		return v
	}
	a, ok := in.(Array)
	if !ok {
		a = Array{}
	}
	k := strconv.Itoa(len(a))
	if keys[0] != nil {
		if k, ok = text(keys[0]); !ok {
			return in
		}
	}
	a[k] = put(a[k], keys[1:], v)
	return a
}

// expression reads terms joined by `.`, `??` and `?:`, and stops before
// anything else; a value followed by an operator it does not know is Unknown.
func (r *reader) expression() any {
	r.depth++
	defer func() { r.depth-- }()
	if r.depth > deepest {
		r.pos = len(r.toks) - 1
		return Unknown{}
	}
	v := r.term()
	for {
		switch {
		case r.accept("."):
			v = concat(v, r.term())
		case r.accept("??"):
			fallback := r.expression()
			if missing, ok := v.(unset); v == nil || ok && missing.null {
				v = fallback
			}
		case r.accept("?:"), r.shortTernary():
			fallback := r.expression()
			if falsy(v) {
				v = fallback
			}
		case r.endsExpression():
			return v
		default:
			r.skipExpression()
			return Unknown{}
		}
	}
}

// shortTernary takes `? :` written with a space.
func (r *reader) shortTernary() bool {
	if r.is("?") && r.toks[min(r.pos+1, len(r.toks)-1)].text == ":" {
		r.pos += 2
		return true
	}
	return false
}

func (r *reader) endsExpression() bool {
	t := r.peek()
	return t.kind == kEnd || t.kind == kPunct && strings.Contains(";,)]}=>", t.text)
}

// skipExpression steps to the end of an expression that is not understood.
func (r *reader) skipExpression() {
	open := 0
	for {
		t := r.peek()
		if t.kind == kEnd || open == 0 && r.endsExpression() {
			return
		}
		if t.kind == kPunct {
			switch t.text {
			case "(", "[", "{":
				open++
			case ")", "]", "}":
				open--
			}
		}
		r.pos++
	}
}

// longestText is more bytes than a setting has that is put together from pieces.
const longestText = 64 << 10

func concat(a, b any) any {
	x, ok1 := text(a)
	y, ok2 := text(b)
	if !ok1 || !ok2 || len(x)+len(y) > longestText {
		return Unknown{}
	}
	return x + y
}

// unset stands, inside an expression, for a variable of the environment that is not set
// here: what falls back on something else does, as in PHP, but the web server may have it.
// null tells that PHP itself would find null, not false.
type unset struct{ null bool }

// stored is a value as it is kept: what depends on the web server's environment is not known.
func stored(v any) any {
	if _, ok := v.(unset); ok {
		return Unknown{}
	}
	return v
}

func falsy(v any) bool {
	switch v := v.(type) {
	case nil, unset:
		return true
	case bool:
		return !v
	case string:
		return v == "" || v == "0"
	case int64:
		return v == 0
	default:
		return false
	}
}

func (r *reader) term() any {
	t := r.peek()
	switch {
	case t.kind == kString:
		r.pos++
		return r.fill(t)
	case t.kind == kNumber:
		r.pos++
		return number(t.text)
	case t.kind == kVar:
		return r.variable()
	case t.kind == kWord:
		return r.word()
	case r.accept("["):
		return r.array("]")
	case r.accept("("):
		v := r.expression()
		if !r.accept(")") {
			return Unknown{}
		}
		return v
	case r.accept("-"):
		if n, ok := r.term().(int64); ok {
			return -n
		}
	case r.accept("@"):
		return r.term()
	}
	if !r.endsExpression() {
		r.pos++
	}
	return Unknown{}
}

func (r *reader) fill(t token) any {
	if t.pieces == nil {
		return t.text
	}
	var v any = ""
	for _, p := range t.pieces {
		if p.variable == "" {
			v = concat(v, p.text)
			continue
		}
		set, ok := r.f.Variables[p.variable]
		if !ok {
			return Unknown{}
		}
		v = concat(v, set)
	}
	return v
}

func number(s string) any {
	s = strings.ReplaceAll(s, "_", "")
	if n, err := strconv.ParseInt(s, 0, 64); err == nil {
		return n
	}
	if f, err := strconv.ParseFloat(s, 64); err == nil {
		return f
	}
	return Unknown{}
}

func (r *reader) variable() any {
	name := r.take().text
	v, ok := r.f.Variables[name]
	env := name == "_ENV" || name == "_SERVER"
	for r.accept("[") {
		key := r.expression()
		if !r.accept("]") {
			return Unknown{}
		}
		k, known := text(key)
		if env && known {
			if v, ok := r.o.Getenv(k); ok {
				return v
			}
			return unset{null: true}
		}
		a, isArray := v.(Array)
		if !known || !isArray {
			return Unknown{}
		}
		v, ok = a[k]
	}
	if !ok {
		return Unknown{}
	}
	return v
}

func (r *reader) word() any {
	name := strings.TrimPrefix(r.take().text, "\\")
	switch strings.ToLower(name) {
	case "true":
		return true
	case "false":
		return false
	case "null":
		return nil
	case "__dir__":
		return r.o.Dir
	case "array":
		if r.accept("(") {
			return r.array(")")
		}
		return Unknown{}
	}
	if r.accept("(") {
		return r.call(strings.ToLower(name))
	}
	if v, ok := r.f.Constants[name]; ok {
		return v
	}
	return Unknown{}
}

// call works out the few functions that settings files use for plain values.
func (r *reader) call(name string) any {
	if name == "dirname" && r.peek().kind == kWord && strings.EqualFold(r.peek().text, "__FILE__") {
		r.pos++
		r.accept(")")
		return r.o.Dir
	}
	args, ok := r.array(")").(Array)
	if !ok || !strings.HasPrefix(name, "getenv") && name != "env" {
		return Unknown{}
	}
	key, _ := text(args["0"])
	if v, set := r.o.Getenv(key); set {
		return v
	}
	if fallback, given := args["1"]; given && name != "getenv" {
		return fallback
	}
	return unset{}
}

func (r *reader) array(closing string) any {
	a := Array{}
	next := int64(0)
	for {
		if r.accept(closing) {
			return a
		}
		if r.peek().kind == kEnd {
			return Unknown{}
		}
		v := r.expression()
		if r.accept("=>") {
			key, ok := text(v)
			item := r.expression()
			if ok {
				a[key] = stored(item)
				if n, err := strconv.ParseInt(key, 10, 64); err == nil && n >= next {
					next = n + 1
				}
			}
		} else {
			a[strconv.FormatInt(next, 10)] = stored(v)
			next++
		}
		if !r.accept(",") && !r.is(closing) {
			return Unknown{}
		}
	}
}
