package webdav

import (
	"bytes"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"

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
