package e2e

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is not meant for everybody is not written where a web server gives it to everybody.
func TestNothingIsWrittenIntoAWebroot(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	w.run("restore", "kestrelpoint", "--yes")
	before := snapshot(t, w.path("htdocs"), "data", "cache")
	for _, line := range [][]string{
		{"export", "kestrelpoint", "htdocs/copy.zip"},
		{"export", "kestrelpoint", "./htdocs/uploads/../copy.tar", "--split", "500kB"},
		{"extract", "kestrelpoint", "--table", "pages", "--to", "htdocs/uploads/new"},
		{"aside", "export", "kestrelpoint", "htdocs/evidence.tar.zst"},
		{"report", "--to", "htdocs/report.html"},
		{"report", "--text", "--to", w.path("htdocs/report.txt")},
		{"keys", "new", "htdocs/key"},
		{"move", "kestrelpoint", "--to", "practice", "--root", w.path("practice"), "--address", "http://127.0.0.1:9/", "--stores", "here", "--changes", "htdocs/changes.jsonl", "--yes"},
	} {
		r := w.fails(1, []string{"it would lie in a folder of site kestrelpoint, where anyone could download it", "next: choose a place outside of it"}, line...)
		assert.NotContains(t, r.out, "Written", "%v", line)
	}
	assert.Equal(t, before, snapshot(t, w.path("htdocs"), "data", "cache"))
	for _, line := range [][]string{{"export", "kestrelpoint", "copy.zip"}, {"extract", "kestrelpoint", "--table", "pages", "--to", "out"}, {"aside", "export", "kestrelpoint", "evidence.tar.zst"}, {"report", "--to", "report.html"}, {"keys", "new", "key"}} {
		w.run(line...)
	}
	w.write("htdocs/revlet.yaml", w.read("revlet.yaml"))
	assert.Contains(t, w.try("--config", "htdocs/revlet.yaml", "status").err, "lies in a folder of site kestrelpoint, where anyone could download it")
}
