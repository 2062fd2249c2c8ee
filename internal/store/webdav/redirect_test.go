package webdav

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The password went to whatever server the store sent us on to.
func TestThePasswordGoesToNoOtherServer(t *testing.T) {
	for _, code := range []int{301, 302, 303, 307, 308} {
		for _, way := range []string{"Basic realm=x", `Digest realm="x", nonce="y", qop="auth", algorithm=MD5`} {
			var asked atomic.Int32
			other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				asked.Add(1)
				w.Header().Set("WWW-Authenticate", way)
				w.WriteHeader(http.StatusUnauthorized)
			}))
			mine := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Header.Get("Authorization") == "" {
					w.Header().Set("WWW-Authenticate", way)
					w.WriteHeader(http.StatusUnauthorized)
					return
				}
				http.Redirect(w, r, other.URL+r.URL.Path, code)
			}))
			s := New(Options{URL: mine.URL + "/revlet", User: "keeper", Password: "words", Transport: http.DefaultTransport, Where: "far"})
			for name, do := range map[string]func() error{
				"list": func() error { _, err := s.List(t.Context(), "kestrelpoint/archives"); return err },
				"stat": func() error { _, err := s.Stat(t.Context(), "kestrelpoint/x"); return err },
				"open": func() error {
					r, err := s.Open(t.Context(), "kestrelpoint/x", 0)
					if err == nil {
						_, err = io.Copy(io.Discard, r)
						_ = r.Close()
					}
					return err
				},
				"remove": func() error { return s.Remove(t.Context(), "kestrelpoint/x") },
			} {
				err := do()
				require.Error(t, err, "%d %s", code, name)
				assert.NotContains(t, err.Error(), "words")
			}
			assert.Zero(t, asked.Load(), "%d %s", code, way)
			mine.Close()
			other.Close()
		}
	}
}

func TestARedirectOnTheSameServerIsFollowed(t *testing.T) {
	mine := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/old") {
			http.Redirect(w, r, "/new", http.StatusTemporaryRedirect)
			return
		}
		_, _ = io.WriteString(w, "text")
	}))
	defer mine.Close()
	s := New(Options{URL: mine.URL, Transport: http.DefaultTransport, Where: "far"})
	r, err := s.Open(t.Context(), "old", 0)
	require.NoError(t, err)
	defer r.Close()
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, "text", string(text))
}
