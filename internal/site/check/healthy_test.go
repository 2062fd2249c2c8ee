package check

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"revlet/internal/config"
)

func TestAPageBesideWhatItWas(t *testing.T) {
	at := time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)
	full := Healthy{Bytes: 50_000, Title: "Kestrel Point", At: at}
	for name, c := range map[string]struct {
		now           Result
		was           Healthy
		trouble, note string
	}{
		"as it was":           {Result{Bytes: 48_000, Title: "Kestrel Point"}, full, "", ""},
		"half of it":          {Result{Bytes: 25_000, Title: "Kestrel Point"}, full, "", ""},
		"a fraction":          {Result{Bytes: 9_999, Title: "Kestrel Point"}, full, "has shrunk to 10 kB", "has shrunk"},
		"nothing to speak of": {Result{Bytes: 0, Title: ""}, full, "has shrunk to 0 B", "has shrunk"},
		"another title":       {Result{Bytes: 50_000, Title: "Welcome to nginx!"}, full, "", `"Welcome to nginx!"`},
		"always short":        {Result{Bytes: 20, Title: "t"}, Healthy{Bytes: 2_000, Title: "t", At: at}, "", ""},
		"never seen":          {Result{Bytes: 20, Title: "t"}, Healthy{}, "", ""},
		"broken by itself":    {Result{Bytes: 20, Trouble: "it answers 500"}, full, "it answers 500", ""},
	} {
		strict, lax := c.now.Beside(c.was, true), c.now.Beside(c.was, false)
		if c.trouble == "" {
			assert.True(t, strict.OK(), name)
		} else {
			assert.Contains(t, strict.Trouble, c.trouble, name)
		}
		assert.Equal(t, c.now.Trouble, lax.Trouble, name)
		for _, r := range []Result{strict, lax} {
			if c.note == "" {
				assert.Empty(t, r.Note, name)
			} else {
				assert.Contains(t, r.Note, c.note, name)
			}
		}
	}
}

func TestAnAnswerHasItsLengthAndTitle(t *testing.T) {
	text := "<html><head><TITLE lang=en>\n Opening &amp; closing\n hours </TITLE></head><body>" + strings.Repeat("x", 100) + "</body></html>"
	r := serving(t, config.Check{Path: "/"}, page("text/html", text))
	assert.EqualValues(t, len(text), r.Bytes)
	assert.Equal(t, "Opening & closing hours", r.Title)
	r = serving(t, config.Check{Path: "/"}, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(500) })
	assert.Empty(t, r.Title)
}
