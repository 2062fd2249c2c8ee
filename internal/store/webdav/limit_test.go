package webdav

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/store"
)

// A web server that takes no large upload says so before it has read it, and closes the
// connection. That is no full disk, and no line that breaks.
func TestAnUploadThatIsTooLargeAtOnce(t *testing.T) {
	mine := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.Method {
		case http.MethodPut:
			w.Header().Set("Connection", "close")
			w.WriteHeader(http.StatusRequestEntityTooLarge)
		case "MKCOL":
			w.WriteHeader(http.StatusCreated)
		default:
			w.WriteHeader(http.StatusNotFound)
		}
	}))
	defer mine.Close()
	s := New(Options{URL: mine.URL + "/revlet", User: "keeper", Password: "words", Transport: http.DefaultTransport, Where: "far"})
	object := make([]byte, 16<<20)
	for range 3 {
		err := s.Put(t.Context(), "kestrelpoint/parts/ab/abcd.tar", bytes.NewReader(object), int64(len(object)))
		assert.ErrorContains(t, err, "more than far takes at once (413)")
		assert.NotErrorIs(t, err, store.ErrFull)
	}
}

// A server may hold a file locked for a long while after an upload of it was broken off (RFC 4918, 423).
func TestAnUploadWhoseNameIsLocked(t *testing.T) {
	var mu sync.Mutex
	files, locked := map[string][]byte{}, ""
	mine := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		switch r.Method {
		case http.MethodPut:
			data, _ := io.ReadAll(r.Body)
			if locked == "" {
				locked = r.URL.Path
			}
			if r.URL.Path == locked {
				w.WriteHeader(http.StatusLocked)
				return
			}
			files[r.URL.Path] = data
			w.WriteHeader(http.StatusCreated)
		case "MOVE":
			to, _ := url.Parse(r.Header.Get("Destination"))
			files[to.Path] = files[r.URL.Path]
			w.WriteHeader(http.StatusCreated)
		case "PROPFIND":
			w.WriteHeader(http.StatusMultiStatus)
			fmt.Fprintf(w, `<d:multistatus xmlns:d="DAV:"><d:response><d:href>%s</d:href><d:propstat><d:status>HTTP/1.1 200 OK</d:status><d:prop><d:getcontentlength>%d</d:getcontentlength></d:prop></d:propstat></d:response></d:multistatus>`, r.URL.Path, len(files[r.URL.Path]))
		default:
			w.WriteHeader(http.StatusCreated)
		}
	}))
	defer mine.Close()
	s := New(Options{URL: mine.URL + "/revlet", User: "keeper", Password: "words", Transport: http.DefaultTransport, Where: "far"})
	for _, content := range []string{"the lamp", "the lens"} {
		require.NoError(t, s.Put(t.Context(), "kestrelpoint/parts/ab/abcd.tar", strings.NewReader(content), int64(len(content))))
		assert.Equal(t, content, string(files["/revlet/kestrelpoint/parts/ab/abcd.tar"]))
	}
}
