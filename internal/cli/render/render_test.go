package render

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"revlet/internal/jobs"
	"revlet/internal/work/verify"
)

func TestForeignTextCannotSpeakToTheTerminal(t *testing.T) {
	for in, want := range map[string]string{"plain": "plain", "tab\t": `"tab\t"`, "\x1b[31mred": `"\x1b[31mred"`, "ümläut": "ümläut", "new\nline": `"new\nline"`} {
		assert.Equal(t, want, Printable(in))
	}
	assert.Equal(t, "a\n�[31mb�", PrintableText("a\n\x1b[31mb\u202e"))
}

func TestVerdictsInWords(t *testing.T) {
	var out bytes.Buffer
	a := &Printer{Out: &out, Now: time.Now}
	a.ShowReports(&jobs.Proof{Reports: []*verify.Report{
		{Archive: "kp-1", Store: "here"},
		{Archive: "kp-1", Store: "far", Damage: []verify.Damage{{Object: "abc", Why: "missing", Held: []string{"index.html"}, HeldTotal: 3}}},
		{Archive: "kp-1", Store: "away", NotReached: []verify.Missed{{Object: "abc", Why: "503 \x1b[31m"}, {}, {}, {}, {}}},
	}})
	said := out.String()
	for _, want := range []string{"sound", "DAMAGED", "NOT REACHED", "nothing is known of 5 objects", "and 2 more", "held index.html", "stores heal"} {
		assert.Contains(t, said, want)
	}
	assert.NotContains(t, said, "\x1b")
	out.Reset()
	a.ShowReports(&jobs.Proof{Reports: []*verify.Report{{Archive: "kp-1", Store: "away", NotReached: []verify.Missed{{}}}}})
	assert.NotContains(t, out.String(), "heal", "an outage needs no healing")
	assert.NotContains(t, strings.ToLower(out.String()), "damage")
}

func TestSizesAndTimesAsPeopleSayThem(t *testing.T) {
	assert.Equal(t, "0 B", Size(-5))
	assert.Equal(t, "1.5 MB", Size(1_500_000))
	assert.Equal(t, "1 file", Count(1, "file", "files"))
	assert.Equal(t, "12,345 files", Count(12345, "file", "files"))
	for d, want := range map[time.Duration]string{12 * time.Millisecond: "12 ms", 1500 * time.Millisecond: "1.50 s", 42 * time.Second: "42 s", 90 * time.Second: "1m30s"} {
		assert.Equal(t, want, Took(d))
	}
	assert.Equal(t, "a, b … and 2 more", Abbreviate([]string{"a", "b", "c", "d"}, 2))
}
