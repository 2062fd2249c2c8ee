package pagematch_test

import (
	"context"
	"crypto/rand"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/work/pagematch"
)

// museum is a small site: pages by path. {host} is its own address, {nonce} a random token, {count} a
// number that grows, {quote} one of several texts.
var museum = map[string]string{
	"/":                `<html><head><title>Kestrel Point</title><link rel=stylesheet href="/style.css?ver=3"><link rel="canonical" href="{host}/"></head><body><nav><ul><li><a href="/hours">Opening hours</a></li><li><a href="/exhibits">Exhibits</a><li><a href="/log">Keepers' log</a></ul></nav><h1>Kestrel Point Lighthouse Museum</h1><p>Visitor number {count}</p><p>{quote}</p><img src="/lamp.jpg" alt=""><form action="/search"><input type=hidden name=nonce value="{nonce}"></form><script src="/app.js?n={nonce}"></script></body></html>`,
	"/hours":           `<html><title>Opening hours</title><body><a href="/">Home</a><p>Open from April to October.</p><p>Made in 0.{count} s</p></body></html>`,
	"/exhibits":        `<html><title>Exhibits</title><body><a href="/">Home</a><a href="/exhibits?page=2&amp;t={nonce}">more</a><p>The first-order lens.</p><img src="{host}/lens.png" srcset="/lens-2x.png 2x"></body></html>`,
	"/log":             `<html><title>Keepers' log</title><body><a href="{host}/hours#april">Hours</a><p>Fog all day.</p></body></html>`,
	"/old":             `->/log`,
	"/sitemap.xml":     `<?xml version="1.0"?><urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc>{host}/only-in-the-map</loc></url><url><loc>{host}/old</loc></url><url><loc>https://elsewhere.example/</loc></url></urlset>`,
	"/only-in-the-map": `<html><title>Directions</title><body><p>Take the ferry.</p></body></html>`,
	"/style.css":       "body{}", "/app.js": "1", "/lamp.jpg": "jpg", "/lens.png": "png", "/lens-2x.png": "png",
}

var quotes = []string{"A light is a promise.", "Fog is honest weather.", "The sea keeps no diary.", "Oil the clockwork first.", "Trim the wick at dusk."}

// serve plays one machine.
func serve(t *testing.T, pages map[string]string) *httptest.Server {
	t.Helper()
	var count atomic.Int64
	count.Store(int64(len(t.Name())) * 1000)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, ok := pages[r.URL.Path]
		if to, redirect := strings.CutPrefix(text, "->"); redirect {
			http.Redirect(w, r, to, http.StatusMovedPermanently)
			return
		}
		switch {
		case strings.HasSuffix(r.URL.Path, ".css"):
			w.Header().Set("Content-Type", "text/css")
		case strings.Contains(r.URL.Path, "."):
			w.Header().Set("Content-Type", "application/octet-stream")
		default:
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
		}
		if status, failing := strings.CutPrefix(text, "!"); failing {
			var n int
			fmt.Sscan(status, &n)
			w.WriteHeader(n)
			return
		}
		if !ok {
			w.WriteHeader(http.StatusNotFound)
			fmt.Fprint(w, "<html><title>Not found</title></html>")
			return
		}
		n := count.Add(1)
		fmt.Fprint(w, strings.NewReplacer("{host}", "http://"+r.Host, "{nonce}", rand.Text()[:12]+"7", "{count}", fmt.Sprint(n), "{quote}", quotes[int(n)%len(quotes)]).Replace(text))
	}))
	t.Cleanup(s.Close)
	return s
}

func side(t *testing.T, s *httptest.Server) pagematch.Side {
	t.Helper()
	u, err := url.Parse(s.URL)
	require.NoError(t, err)
	return pagematch.Side{Base: u}
}

func match(t *testing.T, old, now map[string]string) *pagematch.Report {
	t.Helper()
	r, err := pagematch.Match(t.Context(), pagematch.Order{Old: side(t, serve(t, old)), New: side(t, serve(t, now)), Pages: 50, Special: []string{"no-such-page"}})
	require.NoError(t, err)
	return r
}

// found are the differences as text.
func found(r *pagematch.Report) (all []string) {
	for _, p := range r.Pages {
		for _, d := range p.Differences {
			all = append(all, fmt.Sprintf("/%s: %s: %s -> %s", p.Path, d.Kind, strings.Join(d.Old, "|"), strings.Join(d.New, "|")))
		}
	}
	slices.Sort(all)
	return all
}

// Two equal hosts with nonces, counters and a saying of the day do not differ.
func TestEqualHosts(t *testing.T) {
	for range 5 {
		r := match(t, museum, museum)
		assert.Empty(t, found(r))
		var paths []string
		for _, p := range r.Pages {
			paths = append(paths, p.Path)
		}
		for _, path := range []string{"", "no-such-page", "only-in-the-map", "old", "hours", "exhibits", "log"} {
			assert.Contains(t, paths, path)
		}
		assert.NotContains(t, paths, "search", "forms are not sent")
		assert.Equal(t, len(r.Pages), r.Same)
		assert.Equal(t, 5, r.Files, "three pictures, a style and a script")
	}
}

// What differs is found, and nothing else.
func TestDifferences(t *testing.T) {
	for name, c := range map[string]struct {
		path, from, into string
		want             []string
	}{
		"a missing picture":      {"/lamp.jpg", museum["/lamp.jpg"], "!404", []string{"/: files missing: {site}/lamp.jpg -> lamp.jpg: 404"}},
		"a page for a picture":   {"/lens.png", "", "->/", nil},
		"a warning":              {"/hours", "<p>Open", "<b>Warning</b>: Undefined array key \"x\" in <b>/srv/www/hours.php</b> on line <b>7</b><p>Open", []string{"/hours: errors shown:  -> Warning: Undefined array key \"x\" in /srv/www/hours.php on line 7"}},
		"a lost menu":            {"/", "<nav><ul><li><a href=\"/hours\">Opening hours</a></li><li><a href=\"/exhibits\">Exhibits</a><li><a href=\"/log\">Keepers' log</a></ul></nav>", "", []string{"/: links lost: {site}/exhibits|{site}/hours|{site}/log -> ", "/: text missing: Exhibits|Keepers' log|Opening hours -> "}},
		"another title":          {"/log", "Keepers' log</title>", "Untitled</title>", []string{"/log: title: Keepers' log -> Untitled"}},
		"another text":           {"/log", "Fog all day.", "Sun all day.", []string{"/log: text missing: Fog all day. -> ", "/log: text added:  -> Sun all day."}},
		"an error":               {"/log", museum["/log"], "!500", []string{"/log: status: 200 -> 500"}},
		"a page that is gone":    {"/only-in-the-map", museum["/only-in-the-map"], "!404", []string{"/only-in-the-map: status: 200 -> 404"}},
		"another redirect":       {"/old", "/log", "/hours", []string{"/old: redirect: {site}/log -> {site}/hours"}},
		"a redirect in a circle": {"/old", "/log", "/old", []string{"/old: redirects in a circle: {site}/log -> {site}/old"}},
		"kept from searches":     {"/log", "<body>", "<meta name=robots content='noindex, nofollow'><body>", []string{"/log: hidden from search engines:  -> noindex"}},
		"another canonical":      {"/", "{host}/\"", "https://copy.example/\"", []string{"/: canonical address: {site}/ -> https://copy.example/"}},
		"a style no longer":      {"/", "<link rel=stylesheet href=\"/style.css?ver=3\">", "", []string{"/: files lost: {site}/style.css?ver=3 -> "}},
		"a counter gone":         {"/", "<p>Visitor number {count}</p>", "<p>Visitor number {count}</p>", nil},
		"only a comment":         {"/log", "<body>", "<!-- made by another host --><body>", nil},
	} {
		now := maps.Clone(museum)
		require.Contains(t, now[c.path], c.from, name)
		now[c.path] = strings.Replace(now[c.path], c.from, c.into, 1)
		if c.from == "" {
			now[c.path] = c.into
		}
		got := found(match(t, museum, now))
		if name == "a page for a picture" {
			require.NotEmpty(t, got, name)
			assert.Contains(t, got[0], "/exhibits: files missing", name)
			continue
		}
		assert.ElementsMatch(t, c.want, got, name)
	}
}

// Pictures over http on a page over https are not shown by browsers.
func TestPicturesOverHTTP(t *testing.T) {
	page := func(pictures string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			if r.URL.Path == "/" {
				fmt.Fprintf(w, "<title>x</title><img src='%s//%s/lamp.jpg'>", pictures, r.Host)
			}
		}
	}
	old, now := httptest.NewTLSServer(page("https:")), httptest.NewTLSServer(page("http:"))
	defer old.Close()
	defer now.Close()
	r, err := pagematch.Match(t.Context(), pagematch.Order{Old: side(t, old), New: side(t, now), Pages: 5})
	require.NoError(t, err)
	require.NotEmpty(t, r.Pages)
	assert.Equal(t, pagematch.Plainly, r.Pages[0].Differences[len(r.Pages[0].Differences)-1].Kind)
}

// What does not answer is neither the same nor different.
func TestNotReached(t *testing.T) {
	old, gone := serve(t, museum), serve(t, museum)
	dead := side(t, gone)
	gone.Close()
	r, err := pagematch.Match(t.Context(), pagematch.Order{Old: side(t, old), New: dead, Pages: 3})
	require.NoError(t, err)
	assert.Equal(t, 3, r.Unknown)
	assert.Zero(t, r.Same+r.Differ)
	_, err = pagematch.Match(t.Context(), pagematch.Order{Old: dead, New: side(t, old), Pages: 3})
	require.ErrorIs(t, err, pagematch.ErrOldSilent)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = pagematch.Match(ctx, pagematch.Order{Old: side(t, old), New: side(t, old), Pages: 3})
	require.Error(t, err)
}

// Another site in its place is told as such, and a wall is counted.
func TestAnotherSite(t *testing.T) {
	parked := map[string]string{"/": "<html><title>Welcome to the host</title><body><p>Nothing here yet.</p></body></html>"}
	assert.True(t, match(t, museum, parked).OtherSite)
	assert.False(t, match(t, museum, museum).OtherSite)
	walled := maps.Clone(museum)
	walled["/log"] = "!401"
	assert.Equal(t, 1, match(t, walled, walled).Walled)
}

// A site without end is asked for so many pages and no more.
func TestASiteWithoutEnd(t *testing.T) {
	var asked atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, "<title>Calendar</title>")
		for i := range 3000 {
			fmt.Fprintf(w, "<a href='/calendar?day=%d&from=%s'>day</a><a href='%s/x%d'>deeper</a>", i, url.QueryEscape(r.URL.Path), strings.TrimSuffix(r.URL.Path, "/"), i)
		}
	}))
	defer s.Close()
	r, err := pagematch.Match(t.Context(), pagematch.Order{Old: side(t, s), New: side(t, s), Pages: 20})
	require.NoError(t, err)
	assert.Len(t, r.Pages, 20)
	assert.Positive(t, r.Left)
	assert.Less(t, asked.Load(), int64(80))
	calendars := 0
	for _, p := range r.Pages {
		if strings.HasPrefix(p.Path, "calendar?") {
			calendars++
		}
	}
	assert.LessOrEqual(t, calendars, 3)
}

// Whatever a page says, reading it ends, and two readings are the same.
func FuzzPage(f *testing.F) {
	for _, text := range museum {
		f.Add([]byte(text))
	}
	f.Add([]byte("<base href='javascript:1'><a href='//[::1'>x<script><a href=/y>"))
	f.Fuzz(func(t *testing.T, body []byte) {
		assert.Empty(t, pagematch.SamePage(body))
	})
}
