package report

import (
	"bytes"
	"encoding/json"
	"image"
	pictures "image/png"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/watch/history"
)

var made = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

func pageOf(days int, detail string) Page {
	s := Site{Name: "kestrelpoint", Address: "https://kestrelpoint.example/", Alarms: []Alarm{}, Pending: []string{}, Runs: []Run{}, Duties: []Duty{}}
	for d := range days {
		taken := made.AddDate(0, 0, -d)
		s.Archives = append(s.Archives, Archive{Name: "kestrelpoint-" + taken.Format("20060102-150405"), Taken: taken, Scope: "full", Seconds: 3, Files: 100, StoredBytes: int64(1e6 + d), NewBytes: 1000, Stores: []string{"here"}, Kept: map[string][]string{"here": {"newest 4"}}, Note: detail})
	}
	if days > 0 {
		s.Newest, s.NewestFull = &s.Archives[0], &s.Archives[0]
	}
	free := int64(5e9)
	s.Stores = []Store{{Name: "here", Where: "/srv/" + detail, Archives: days, Free: &free, Rules: []string{"newest 4"}}}
	if detail != "" {
		s.Alarms = append(s.Alarms, Alarm{Kind: "planted", Since: made, Detail: detail, Why: detail, Do: detail})
	}
	return Page{Made: made, Host: "vps", Program: "revlet test", Sites: []Site{s}, Unsent: []string{}}.In(time.UTC)
}

func TestHealth(t *testing.T) {
	p := pageOf(3, "")
	s := &p.Sites[0]
	assert.Equal(t, "good", s.Health())
	s.Pending = []string{"harbour"}
	assert.Equal(t, "look", s.Health())
	s.Pending = nil
	s.Alarms = []Alarm{{Kind: "damage"}}
	assert.Equal(t, "look", s.Health())
	s.Alarms[0].Accepted = &made
	assert.Equal(t, "good", s.Health(), "an alarm that somebody has accepted")
	assert.Empty(t, s.Open())
	s.Newest = nil
	assert.Equal(t, "none", s.Health())
	s.Archives[1].Stores = nil
	assert.Len(t, s.Existing(), 2, "one is gone from everywhere")
}

func TestThePageNeedsNothingFromElsewhereAndRunsNothing(t *testing.T) {
	hostile := `</title><script>alert(1)</script><img src=x onerror=alert(2)> "quoted" {{.}}`
	for _, days := range []int{0, 1, 2, 45, 400} {
		var out bytes.Buffer
		require.NoError(t, pageOf(days, hostile).HTML(&out), "%d days", days)
		text := out.String()
		assert.NotContains(t, text, "<script>alert")
		assert.NotContains(t, text, "<img src=x")
		for _, elsewhere := range []string{"src=\"http", "href=\"http:", "@import", "url(http"} {
			assert.NotContains(t, text, elsewhere)
		}
		assert.Contains(t, text, "kestrelpoint")
		assert.Equal(t, strings.Count(text, "<svg"), strings.Count(text, "</svg>"))
	}
}

func TestMetricsAreWellFormed(t *testing.T) {
	p := pageOf(5, "new\nline \"quote\" back\\slash")
	p.Sites[0].Pending = []string{"harbour"}
	var out bytes.Buffer
	require.NoError(t, p.Metrics(&out))
	text := out.String()
	assert.True(t, strings.HasSuffix(text, "# EOF\n"), "OpenMetrics ends with that")
	declared := map[string]bool{}
	for line := range strings.Lines(text) {
		line = strings.TrimSuffix(line, "\n")
		if name, ok := strings.CutPrefix(line, "# TYPE "); ok {
			name, _, _ = strings.Cut(name, " ")
			assert.False(t, declared[name], "%s is declared once", name)
			declared[name] = true
			continue
		}
		if strings.HasPrefix(line, "#") {
			continue
		}
		name := line[:strings.IndexAny(line, "{ ")]
		assert.True(t, declared[name], "%s was declared: %s", name, line)
		assert.Regexp(t, `^[a-z_]+(?:\{[a-z_]+="(?:[^"\\\n]|\\.)*"(?:,[a-z_]+="(?:[^"\\\n]|\\.)*")*\})? -?[0-9.e+-]+$`, line)
	}
	assert.Equal(t, `a\"b\\c\nd`, escapeLabel("a\"b\\c\nd"))
}

func TestTheJSONHasNoNulls(t *testing.T) {
	data, err := json.Marshal(RunOf(history.Run{ID: 1, Site: "kp", Started: made, Finished: made.Add(1500 * time.Millisecond)}))
	require.NoError(t, err)
	assert.Contains(t, string(data), `"stores":[]`)
	assert.Contains(t, string(data), `"seconds":1.5`)
}

// A client's own page has its title, colour and picture, and says nothing of the machine or of others.
func TestAClientsOwnPage(t *testing.T) {
	var png bytes.Buffer
	require.NoError(t, pictures.Encode(&png, image.NewRGBA(image.Rect(0, 0, 4, 4))))
	logo, err := ReadLogo(&png)
	require.NoError(t, err)
	p := pageOf(3, "")
	p.Brand = &Brand{Title: "Kestrel <Point> Museum", Colour: "#1f6aa5", Logo: logo}
	var out bytes.Buffer
	require.NoError(t, p.HTML(&out))
	text := out.String()
	assert.Contains(t, text, "<h1>Kestrel &lt;Point&gt; Museum</h1>")
	assert.Contains(t, text, `style="border-color: #1f6aa5"`)
	assert.Contains(t, text, `src="data:image/png;base64,`)
	assert.NotContains(t, text, "vps")
	for name, data := range map[string]string{"an SVG, which can run things": "<svg xmlns='http://www.w3.org/2000/svg' onload='x'/>", "a page": "<html>", "nothing": "", "too long": "\x89PNG\r\n\x1a\n" + strings.Repeat("x", LongestLogo)} {
		_, err := ReadLogo(strings.NewReader(data))
		assert.Error(t, err, name)
	}
}
