package phpliteral

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
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
		if t.kind != kString && t.kind != kNumber || t.to <= t.from {
			continue
		}
		changed := src[:t.from] + quoted(value) + src[t.to:]
		if is := Read(changed, o); onlyDiffers(was, is, path, value) {
			return changed, nil
		}
	}
	return "", fmt.Errorf("%s: %w", path, ErrNotPlain)
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
