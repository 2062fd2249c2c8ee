package check

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/config"
)

// serving answers every request alike and returns what a plain check makes of it.
func serving(t *testing.T, c config.Check, answer http.HandlerFunc) Result {
	t.Helper()
	s := httptest.NewServer(answer)
	defer s.Close()
	return Run(t.Context(), s.URL, c, nil)
}

func page(kind, text string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		if kind != "" {
			w.Header().Set("Content-Type", kind)
		}
		fmt.Fprint(w, text)
	}
}

func TestAPageThatCannotBeFine(t *testing.T) {
	whole := "<html><body>Opening hours</body></html>"
	for name, c := range map[string]struct {
		kind, text, trouble string
	}{
		"a whole page":            {"text/html", whole, ""},
		"upper case":              {"text/html", strings.ToUpper(whole), ""},
		"a fragment":              {"text/html", "<p>Opening hours", ""},
		"plain text":              {"text/plain", "ok", ""},
		"JSON":                    {"application/json", "{}", ""},
		"blank":                   {"text/html", "", "is blank"},
		"white space only":        {"text/html", " \n\t ", "is blank"},
		"blank text":              {"text/plain", "", "is blank"},
		"no end":                  {"text/html", "<html><body>Opening ho", "has no end"},
		"PHP dies":                {"text/html", "<br />\n<b>Fatal error</b>:  Uncaught Error: Call to undefined function x() in /srv/a.php:3\nStack trace:\n#0 {main}\n  thrown in <b>/srv/a.php</b> on line <b>3</b><br />", "an error of PHP's"},
		"PHP cannot read it":      {"text/html", "PHP Parse error:  syntax error, unexpected end of file in /srv/a.php on line 9", "an error of PHP's"},
		"it is written about":     {"text/html", "<html><h1>Fatal error: what it means</h1></html>", ""},
		"an error in other text":  {"text/plain", "Fatal error: x in y on line 3", ""},
		"a page that is too long": {"text/html", "<html>" + strings.Repeat("x", longest), ""},
	} {
		r := serving(t, config.Check{Path: "/"}, page(c.kind, c.text))
		if c.trouble == "" {
			assert.True(t, r.OK(), "%s: %s", name, r.Trouble)
		} else {
			assert.Contains(t, r.Trouble, c.trouble, name)
		}
	}
}

func TestAnErrorPageThatIsWantedMayBeBlank(t *testing.T) {
	r := serving(t, config.Check{Path: "/", Status: 404}, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(404) })
	assert.True(t, r.OK(), r.Trouble)
}

func TestRedirectsStayWithTheSite(t *testing.T) {
	other := httptest.NewServer(page("", "the old site is fine"))
	defer other.Close()
	elsewhere := strings.Replace(other.URL, "127.0.0.1", "localhost", 1)
	mux := http.NewServeMux()
	mux.HandleFunc("/away", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, elsewhere+"/", http.StatusFound) })
	mux.HandleFunc("/round", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/round", http.StatusFound) })
	mux.HandleFunc("/front", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/home", http.StatusMovedPermanently)
	})
	mux.HandleFunc("/home", page("", "Opening hours"))
	s := httptest.NewServer(mux)
	defer s.Close()
	assert.True(t, Run(t.Context(), s.URL, config.Check{Path: "/front"}, nil).OK())
	assert.Contains(t, Run(t.Context(), s.URL, config.Check{Path: "/away"}, nil).Trouble, "another host")
	assert.Contains(t, Run(t.Context(), s.URL, config.Check{Path: "/round"}, nil).Trouble, "again and again")
	assert.True(t, Run(t.Context(), s.URL, config.Check{Path: "/away", Redirect: elsewhere + "/"}, nil).OK(), "one that is wanted is not followed")
	wrong := Run(t.Context(), s.URL, config.Check{Path: "/front", Redirect: "/elsewhere"}, nil)
	assert.Contains(t, wrong.Trouble, "not to /elsewhere")
}

func TestTheSameSiteUnderWWW(t *testing.T) {
	for to, stays := range map[string]bool{"http://www.kp.example/": true, "https://KP.example/": true, "https://kp.example:8443/": true, "http://kp.example:8080/": false, "http://evil.example/": false, "http://kp.example.evil.example/": false} {
		first, err := http.NewRequest(http.MethodGet, "http://kp.example/", nil)
		require.NoError(t, err)
		next, err := http.NewRequest(http.MethodGet, to, nil)
		require.NoError(t, err)
		assert.Equal(t, stays, stayThere(next, []*http.Request{first}) == nil, to)
	}
}

func TestAnAnswerHasItsTime(t *testing.T) {
	r := serving(t, config.Check{Path: "/", Limit: 50 * time.Millisecond}, func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-time.After(5 * time.Second):
		}
	})
	assert.Contains(t, r.Trouble, "within 50ms")
	assert.Less(t, r.Took, 4*time.Second)
	r = Run(t.Context(), "http://127.0.0.1:1", config.Check{}, nil)
	assert.Contains(t, r.Trouble, "refused")
	assert.NotContains(t, r.Trouble, "Get \"", "the address is said once")
}

func TestTheWorstAnswerCounts(t *testing.T) {
	assert.Nil(t, Worst(nil))
	good, bad := Result{URL: "a"}, Result{URL: "b", Trouble: "x"}
	assert.Equal(t, "b", Worst([]Result{good, bad}).URL)
	assert.Equal(t, "a", Worst([]Result{good, good}).URL)
	all := All(t.Context(), "http://127.0.0.1:1", []config.Check{{Path: "/a"}, {Path: "b"}}, nil)
	assert.Len(t, all, 2)
}
