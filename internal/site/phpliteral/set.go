package phpliteral

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
)

// ErrNotPlain is wrapped when a setting does not stand in the file as one literal.
var ErrNotPlain = errors.New("it is not written as one plain value")

// Set gives a setting another value: it replaces the one literal on which the
// setting, and nothing else, depends. Whatever else is in the file stays as it is.
func Set(src, path, value string, o Options) (string, error) {
	was := Read(src, o)
	if now, ok := was.Text(path); ok && now == value {
		return src, nil
	}
	for _, t := range tokens(src) {
		word := t.kind == kWord && isWordValue(t.text)
		if t.kind != kString && t.kind != kNumber && !word || t.to <= t.from {
			continue
		}
		changed := src[:t.from] + quoted(value) + src[t.to:]
		if is := Read(changed, o); onlyDiffers(was, is, path, value) {
			return changed, nil
		}
	}
	return "", fmt.Errorf("%s: %w", path, ErrNotPlain)
}

// SetAlong is Set for a variable or constant of which others may be put together: these
// change with it. It takes the one place where the value is assigned as a literal.
func SetAlong(src, path, value string, o Options) (string, error) {
	if now, ok := Read(src, o).Text(path); ok && now == value {
		return src, nil
	}
	at, n := token{}, 0
	toks := tokens(src)
	for i := range toks {
		if t, ok := assigned(toks[i:], path); ok {
			at, n = t, n+1
		}
	}
	if n == 1 && at.to > at.from {
		changed := src[:at.from] + quoted(value) + src[at.to:]
		if now, ok := Read(changed, o).Text(path); ok && now == value {
			return changed, nil
		}
	}
	return Set(src, path, value, o)
}

// assigned is the literal that is given to a variable, or to a constant by define, at the
// beginning of some tokens.
func assigned(toks []token, path string) (literal token, ok bool) {
	is := func(i int, k kind, text string) bool {
		return i < len(toks) && toks[i].kind == k && toks[i].text == text
	}
	at, end := 2, ";"
	name, variable := strings.CutPrefix(path, "$")
	switch {
	case variable && is(0, kVar, name) && is(1, kPunct, "="):
	case !variable && len(toks) > 0 && toks[0].kind == kWord && strings.EqualFold(toks[0].text, "define") && is(1, kPunct, "(") && is(2, kString, path) && is(3, kPunct, ","):
		at, end = 4, ")"
	default:
		return token{}, false
	}
	if !is(at+1, kPunct, end) {
		return token{}, false
	}
	t := toks[at]
	return t, t.kind == kString || t.kind == kNumber || t.kind == kWord && isWordValue(t.text)
}

// isWordValue tells whether a word is a value by itself.
func isWordValue(text string) bool {
	return slices.Contains([]string{"true", "false", "null"}, strings.ToLower(text))
}

// Insert adds a statement at the beginning of a file: after the mark that begins PHP, and
// after a declare(…), which has to come first (PHP manual, declare). It is ErrNotPlain if
// the file begins in another way, or has a namespace.
func Insert(src, statement string) (string, error) {
	toks := tokens(src)
	before, _, ok := strings.Cut(src, "<?php")
	if !ok || strings.Contains(before, "<?") {
		return "", fmt.Errorf("the file does not begin with <?php: %w", ErrNotPlain)
	}
	at := len(before) + len("<?php")
	for i, t := range toks {
		word := strings.ToLower(t.text)
		if t.kind == kWord && word == "namespace" {
			return "", fmt.Errorf("the file has a namespace: %w", ErrNotPlain)
		}
		if i == 0 && t.kind == kWord && word == "declare" {
			const end = 6 // declare ( strict_types = 1 ) ;
			if len(toks) <= end || toks[1].text != "(" || toks[5].text != ")" || src[toks[end].from] != ';' {
				return "", fmt.Errorf("the file begins with a block: %w", ErrNotPlain)
			}
			at = toks[end].to
		}
	}
	return src[:at] + "\n" + statement + "\n" + strings.TrimPrefix(src[at:], "\n"), nil
}

// quoted writes a text as a literal in single quotes.
func quoted(text string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(text) + "'"
}

// onlyDiffers tells whether a setting has a value, and everything else that it
// does not belong to is as it was.
func onlyDiffers(was, is *File, path, value string) bool {
	if now, ok := is.Text(path); !ok || now != value {
		return false
	}
	name, isVar := strings.CutPrefix(path, "$")
	name, _, _ = strings.Cut(name, ".")
	same := func(a, b map[string]any, but string) bool {
		a, b = maps.Clone(a), maps.Clone(b)
		delete(a, but)
		delete(b, but)
		return reflect.DeepEqual(a, b)
	}
	if isVar {
		return same(was.Variables, is.Variables, name) && same(was.Constants, is.Constants, "")
	}
	return same(was.Constants, is.Constants, name) && same(was.Variables, is.Variables, "")
}
