package e2e

import (
	"encoding/json"
	"html"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// axe is the checker of accessibility that scripts/setup.sh fetches.
const axe = "revlet-tests/axe-core-4.14.1/axe.min.js"

// axeCore is the checker's script.
func axeCore(t *testing.T) string {
	t.Helper()
	cache, err := os.UserCacheDir()
	require.NoError(t, err)
	script, err := os.ReadFile(filepath.Join(cache, axe))
	if err != nil {
		t.Skip("axe-core is not here; scripts/setup.sh fetches it where there is npm")
	}
	return string(script)
}

// browse opens a page in a real browser of a width, with a script in it, and returns what the script leaves in
// the page's body.
func (w *world) browse(page, width, script string, options ...string) string {
	w.t.Helper()
	chromium, err := exec.LookPath("chromium")
	if err != nil {
		w.t.Skip("chromium is not installed; scripts/setup.sh screenshots installs it")
	}
	w.write("browsed.html", strings.Replace(page, "</body>", "<script>"+script+"</script></body>", 1))
	args := append([]string{"--headless", "--no-sandbox", "--disable-gpu", "--user-data-dir=" + w.path("profile"), "--virtual-time-budget=20000", "--window-size=" + width}, options...)
	out, err := exec.Command(chromium, append(args, "--dump-dom", "file://"+w.path("browsed.html"))...).Output()
	require.NoError(w.t, err)
	_, rest, ok := strings.Cut(string(out), `<pre id="found">`)
	require.True(w.t, ok, "the script has not come to its end")
	found, _, _ := strings.Cut(rest, "</pre>")
	return html.UnescapeString(found)
}

// The report is a page that everybody can read: on a screen, on a telephone, in the dark, and by ear.
func TestReportIsForEverybody(t *testing.T) {
	t.Parallel()
	checker := axeCore(t)
	w, _ := museum(t)
	for range 3 {
		w.run("backup")
	}
	w.run("backup", "--scope", "database")
	w.run("report", "--to", "report.html")
	w.edit("revlet.yaml", "recipe: lampblack", "recipe: lampblack\n    report: {title: Kestrel Point Museum, colour: \"#7a1f3d\"}")
	w.run("report", "--each", "pages")
	assert.Contains(t, w.read("pages/kestrelpoint.html"), "<h1>Kestrel Point Museum</h1>")
	w.fails(2, []string{"--each writes pages"}, "report", "--each", "pages", "--json")
	w.edit("revlet.yaml", "#7a1f3d", "red; background: url(x)")
	w.fails(2, []string{"it is such as"}, "report", "--each", "pages")
	page := w.read("report.html")
	for name, options := range map[string][]string{"1280,800": nil, "400,800": nil, "1280,801": {"--blink-settings=preferredColorScheme=0"}} {
		found := w.browse(page, name, checker+`;axe.run().then(r => {
			const pre = document.createElement('pre'); pre.id = 'found';
			pre.textContent = JSON.stringify({violations: r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.html + ' ' + n.failureSummary).join(' | ')), passes: r.passes.length,
				dark: matchMedia('(prefers-color-scheme: dark)').matches, width: document.documentElement.scrollWidth, inner: innerWidth});
			document.body.replaceChildren(pre) })`, options...)
		var r struct {
			Violations           []string
			Passes, Width, Inner int
			Dark                 bool
		}
		require.NoError(t, json.Unmarshal([]byte(found), &r), found)
		assert.Empty(t, r.Violations, name)
		assert.Greater(t, r.Passes, 15)
		assert.Equal(t, options != nil, r.Dark)
		assert.LessOrEqual(t, r.Width, r.Inner, "nothing is wider than the page at %s", name)
	}
}
