// Package schema describes files of YAML in JSON Schema (draft 2020-12), for editors: from the types that
// they are read into.
package schema

import (
	"maps"
	"reflect"
	"strings"
)

// Custom is a type that says itself what its YAML is like.
type Custom interface{ JSONSchema() map[string]any }

// Of is the schema of a type, by the names that YAML has for its fields. about says what a field of a type is
// for, in a sentence, or nothing.
func Of(t reflect.Type, about func(t reflect.Type, field string) string) map[string]any {
	if c, ok := reflect.Zero(t).Interface().(Custom); ok {
		return c.JSONSchema()
	}
	switch t.Kind() {
	case reflect.Pointer:
		return Of(t.Elem(), about)
	case reflect.Slice:
		return map[string]any{"type": "array", "items": Of(t.Elem(), about)}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": Of(t.Elem(), about)}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int, reflect.Int64:
		return map[string]any{"type": "integer"}
	case reflect.Struct:
		return map[string]any{"type": "object", "additionalProperties": false, "properties": properties(t, about)}
	}
	return map[string]any{"type": "string"}
}

func properties(t reflect.Type, about func(reflect.Type, string) string) map[string]any {
	all := map[string]any{}
	for f := range t.Fields() {
		name, inline, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		if inline == "inline" {
			maps.Copy(all, properties(f.Type, about))
			continue
		}
		if name == "" || name == "-" {
			continue
		}
		one := Of(f.Type, about)
		if text := about(t, f.Name); text != "" {
			if rest, ok := strings.CutPrefix(text, f.Name+" "); ok {
				text = "`" + name + "` " + rest
			}
			one["description"] = text
		}
		all[name] = one
	}
	return all
}

// Nothing says nothing about any field.
func Nothing(reflect.Type, string) string { return "" }

// OneOrMany is a text, or a list of texts.
func OneOrMany() map[string]any {
	text := map[string]any{"type": "string"}
	return map[string]any{"anyOf": []any{text, map[string]any{"type": "array", "items": text}}}
}
