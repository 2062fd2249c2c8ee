package notify

import (
	"embed"
	"fmt"
	htmltemplate "html/template"
	"strings"
	"text/template"
	"time"

	"github.com/dustin/go-humanize"

	"revlet/internal/archives/archive"
)

//go:embed mail.txt mail.html
var templates embed.FS

// render makes the plain and the HTML text of an event.
func (e Event) render() (text, html string, err error) {
	zone, err := time.LoadLocation(e.Zone)
	if err != nil {
		zone = time.UTC
	}
	functions := map[string]any{
		"when":  func(t time.Time) string { return t.In(zone).Format("Mon 2 Jan 2006 15:04 MST") },
		"age":   func(t time.Time) string { return humanize.RelTime(t, e.At, "ago", "from now") },
		"bytes": func(n int64) string { return humanize.Bytes(uint64(max(n, 0))) },
		"count": func(n int, one, many string) string {
			if n == 1 {
				return "1 " + one
			}
			return humanize.Comma(int64(n)) + " " + many
		},
		"took": func(s float64) string {
			return time.Duration(s * float64(time.Second)).Round(10 * time.Millisecond).String()
		},
		"saved": saved, "verdict": verdict, "join": strings.Join, "more": func(n, shown int) int { return n - shown },
		"trouble": func(outcome string) bool { return outcome != "done" },
	}
	var out strings.Builder
	plain, err := template.New("mail.txt").Funcs(functions).ParseFS(templates, "mail.txt")
	if err == nil {
		err = plain.Execute(&out, e)
	}
	if err != nil {
		return "", "", err
	}
	text = strings.TrimLeft(out.String(), "\n")
	out.Reset()
	rich, err := htmltemplate.New("mail.html").Funcs(functions).ParseFS(templates, "mail.html")
	if err == nil {
		err = rich.Execute(&out, e)
	}
	return text, out.String(), err
}

// saved words what an archive holds.
func saved(t archive.Totals) string {
	var parts []string
	if t.Files > 0 {
		parts = append(parts, fmt.Sprintf("%s files (%s)", humanize.Comma(t.Files), humanize.Bytes(uint64(t.FileBytes))))
	}
	if t.Tables > 0 {
		parts = append(parts, fmt.Sprintf("%d tables with %s rows (%s)", t.Tables, humanize.Comma(t.Rows), humanize.Bytes(uint64(t.DatabaseBytes))))
	}
	if len(parts) == 0 {
		return "nothing"
	}
	return strings.Join(parts, ", ")
}

// verdict words the outcome of a run of a command.
func verdict(command, outcome string) string {
	switch outcome {
	case "done":
		return "done, all of it"
	case "gaps":
		return "done, but not everything could be saved"
	case "pending":
		if command != "backup" {
			return "not finished: not every store was reached"
		}
		return "done, but not in every store yet"
	case "interrupted":
		return "stopped before it was done"
	case "damage":
		if command == "rehearse" {
			return "IT DOES NOT RESTORE"
		}
		return "DAMAGE FOUND"
	default:
		return "FAILED"
	}
}
