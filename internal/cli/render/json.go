package render

import (
	"encoding/json"
)

// PrintJSON writes v as the documented JSON.
func (a *Printer) PrintJSON(v any) error {
	e := json.NewEncoder(a.Out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// NonNil makes an empty list print as [] in JSON.
func NonNil[T any](s []T) []T {
	if s == nil {
		return []T{}
	}
	return s
}
