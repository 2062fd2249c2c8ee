package render

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/site"
	"revlet/internal/work/compare"
	"revlet/internal/work/restore"
)

func TestWhatAnArchiveNeverHeldIsListed(t *testing.T) {
	all := []restore.Uncovered{
		{Label: site.RootLabel, Path: "videos", Why: "left out by the rule videos", Files: 1, Bytes: 2048, Scripts: []string{"videos/a.php", "videos/b.php", "videos/c.php", "videos/d.php"}},
		{Label: site.RootLabel, Path: "shop", Why: "it belongs to site shop", Site: "shop", Files: 3},
		{Label: "private", Path: "webroot/x", Why: "it could not be saved", Files: 1},
	}
	p := &Printer{}
	kept := p.Plain(func(p *Printer) { p.ShowUncovered(all, false, "stays", "goes") })
	assert.Equal(t, `
The archive never held this; it stays:
  videos  1 file, 2.0 kB  left out by the rule videos
    a script: videos/a.php
    a script: videos/b.php
    a script: videos/c.php
    … and more scripts
  shop  3 files, 0 B  it belongs to site shop
  private/webroot/x  1 file, 0 B  it could not be saved
`, kept)

	clean := p.Plain(func(p *Printer) { p.ShowUncovered(all, true, "stays", "goes") })
	stays, goes, both := strings.Cut(clean, "it goes:")
	assert.True(t, both)
	assert.Contains(t, stays, "shop", "another site is left alone even so")
	assert.NotContains(t, stays, "videos")
	assert.Contains(t, goes, "videos")
	assert.Contains(t, goes, "private/webroot/x")
	assert.Empty(t, p.Plain(func(p *Printer) { p.ShowUncovered(nil, true, "stays", "goes") }))
}

// Paths, and rules in a record that a store may have forged, reach a terminal.
func TestWhatIsListedCannotSteerATerminal(t *testing.T) {
	evil := "\x1b]0;owned\x07\x1b[2J"
	var all []restore.Uncovered
	for i := range 20 {
		all = append(all, restore.Uncovered{Label: site.RootLabel, Path: fmt.Sprintf("%d%s", i, evil), Why: "rule " + evil + "\nRestored everything", Scripts: []string{evil + "\n.php"}})
	}
	text := (&Printer{}).Plain(func(p *Printer) { p.ShowUncovered(all, false, "stays", "goes") })
	for _, r := range text {
		assert.False(t, r < ' ' && r != '\n' || r == 0x7f, "%q reaches the terminal", r)
	}
	assert.NotContains(t, text, "\nRestored everything")
	assert.Contains(t, text, "… and 8 more; --json lists all")
}

func TestNobodyIsToldThatNothingElseIsThereWhenSomethingStayed(t *testing.T) {
	h := &catalog.Held{Record: &archive.Record{Site: "kestrelpoint", Name: "kestrelpoint-20261123-032000"}}
	gone := []compare.File{{Path: "webroot/added.html", How: compare.Added}}
	say := func(apart bool) string {
		return (&Printer{}).Plain(func(p *Printer) { p.ShowStrangers(h, &site.Site{}, gone, apart) })
	}
	assert.Contains(t, say(false), "\nThe webroot holds nothing that the archive does not: 1 file that was added since is set aside.")
	assert.Contains(t, say(true), "\nApart from that, the webroot holds nothing")
	assert.NotContains(t, say(true), "only you can do the rest", "a page is no break-in")

	gone = append(gone, compare.File{Path: "webroot/uploads/x.php", How: compare.Added, Suspect: "a script among uploads"})
	text := say(false)
	assert.Contains(t, text, "uploads/x.php")
	assert.Contains(t, text, "If somebody got in, only you can do the rest:")
	assert.Less(t, strings.Index(text, "aside export"), strings.Index(text, "Change every password"), "evidence comes first")
}
