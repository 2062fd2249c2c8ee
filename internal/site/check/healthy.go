package check

import (
	"fmt"
	"html"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
)

// Healthy is what a page was like when its site was last known to work. A page that
// answers, and is a fraction of what it was, has lost its content.
type Healthy struct {
	Bytes int64     `json:"bytes"`
	Title string    `json:"title"`
	At    time.Time `json:"at"`
}

const (
	// leastBytes is how long a page must have been for its length to tell something,
	// shrunkTo the share of it that is too little.
	leastBytes = 2 << 10
	shrunkTo   = 5
)

// Shrunken tells whether a page is a fraction of what it was.
func (r Result) Shrunken(was Healthy) bool {
	return was.Bytes >= leastBytes && r.Bytes*shrunkTo < was.Bytes
}

// Beside holds an answer that is all right by itself against what the page was like.
// One that has shrunk is trouble, or only worth a word if strict is not set: after an
// older state was put back, say. Another title is never more than that.
func (r Result) Beside(was Healthy, strict bool) Result {
	if !r.OK() || was.At.IsZero() {
		return r
	}
	when := was.At.Local().Format("2 Jan 2006")
	if r.Shrunken(was) {
		text := fmt.Sprintf("the page has shrunk to %s; on %s it had %s", humanize.Bytes(uint64(r.Bytes)), when, humanize.Bytes(uint64(was.Bytes)))
		if strict {
			r.Trouble = text
		}
		r.Note = text
	}
	if r.Title != was.Title && r.Note == "" {
		r.Note = fmt.Sprintf("its title is %q; on %s it was %q", r.Title, when, was.Title)
	}
	return r
}

var titleTag = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?is)<title[^>]*>(.{0,500}?)</title`)
})

// TitleOf is the title of a page in HTML.
func TitleOf(body []byte) string {
	m := titleTag().FindSubmatch(body)
	if m == nil {
		return ""
	}
	return strings.Join(strings.Fields(html.UnescapeString(string(m[1]))), " ")
}
