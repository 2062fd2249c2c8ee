package render

import (
	"encoding/json"

	"revlet/internal/platform/reason"
)

// PrintJSON writes v as the documented JSON.
func (a *Printer) PrintJSON(v any) error {
	a.printed = true
	e := json.NewEncoder(a.Out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// PrintErrorJSON writes what went wrong, unless JSON was written already.
func (a *Printer) PrintErrorJSON(err error, code int) error {
	if a.printed {
		return nil
	}
	reasons := []reason.Reason{}
	for _, r := range reason.All(err) {
		why, _ := r.Why()
		reasons = append(reasons, why)
	}
	return a.PrintJSON(map[string]any{"error": map[string]any{"message": PrintableLines(reason.Text(err)), "next": NonNil(Next(err)), "reasons": reasons, "exit_code": code}})
}

// NonNil makes an empty list print as [] in JSON.
func NonNil[T any](s []T) []T {
	if s == nil {
		return []T{}
	}
	return s
}
