package webdav

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/store"
)

const (
	listingHead = `<?xml version="1.0"?><D:multistatus xmlns:D="DAV:">`
	selfEntry   = `<D:response><D:href>/revlet/kestrelpoint/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>`
	folderEntry = `<D:response><D:href>/revlet/kestrelpoint/more/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>`
	fileEntry   = `<D:response><D:href>/revlet/kestrelpoint/a.json</D:href><D:propstat><D:prop><D:getcontentlength>5</D:getcontentlength><D:getlastmodified>Thu, 01 Jan 2026 03:20:00 GMT</D:getlastmodified></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>`
)

// A listing without end was kept in memory as far as it went.
func TestAnAnswerWithoutEndIsRefused(t *testing.T) {
	for name, answer := range map[string]struct{ head, more string }{
		"entries":      {listingHead, fileEntry},
		"one name":     {listingHead + "<D:response><D:href>", "x"},
		"an attribute": {listingHead + `<D:response a="`, "x"},
		"elements":     {listingHead, "<D:response>"},
	} {
		t.Run(name, func(t *testing.T) {
			far := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.WriteHeader(http.StatusMultiStatus)
				_, err := io.WriteString(w, answer.head)
				for more := strings.Repeat(answer.more, 1000); err == nil && more != ""; {
					_, err = io.WriteString(w, more)
				}
			}))
			defer far.Close()
			s := New(Options{URL: far.URL + "/revlet", Transport: store.Transport(nil, 1, store.LongestAnswer), Where: "far"})
			_, err := s.List(t.Context(), "kestrelpoint")
			require.ErrorIs(t, err, store.ErrEndless)
			assert.ErrorIs(t, err, store.ErrRefused, "and is not asked again")
		})
	}
}

// A listing that broke off was taken for one that had ended, and what could not be read
// of it was passed over: archives that are there were gone.
func TestAListingIsWholeOrAnError(t *testing.T) {
	whole := listingHead + selfEntry + fileEntry + folderEntry + "</D:multistatus>"
	far := &answers{}
	s := New(Options{URL: "http://far.example/revlet", Transport: far, Where: "far"})
	list := func(answer string) ([]store.Entry, error) {
		far.body = []byte(answer)
		return s.readDir(t.Context(), "kestrelpoint")
	}
	for name, answer := range map[string]string{
		"itself first":            whole,
		"itself last":             listingHead + fileEntry + folderEntry + selfEntry + "</D:multistatus>",
		"another prefix":          strings.ReplaceAll(whole, "<D:href>/revlet", "<D:href>"),
		"whole addresses":         strings.ReplaceAll(whole, "<D:href>", "<D:href>http://far.example"),
		"more of it":              strings.Replace(whole, selfEntry, "<D:responsedescription>all</D:responsedescription>"+selfEntry, 1),
		"other name space prefix": strings.NewReplacer("<D:", "<x:", "</D:", "</x:", "xmlns:D", "xmlns:x").Replace(whole),
	} {
		entries, err := list(answer)
		require.NoError(t, err, name)
		require.Len(t, entries, 2, name)
		assert.Equal(t, "a.json", entries[0].Name, name)
		assert.Equal(t, int64(5), entries[0].Bytes, name)
		assert.True(t, entries[1].Folder, name)
	}
	for n := range len(whole) {
		_, err := list(whole[:n])
		require.Error(t, err, "cut after %d bytes", n)
		_, err = s.Stat(t.Context(), "kestrelpoint/a.json")
		require.NotErrorIs(t, err, store.ErrNotFound, "cut after %d bytes, unknown is not absent", n)
	}
	for name, answer := range map[string]string{
		"a page":                "<html><body>Please log in</body></html>",
		"nothing":               "",
		"text":                  "503 try later",
		"no entry":              listingHead + "</D:multistatus>",
		"without itself":        listingHead + fileEntry + folderEntry + "</D:multistatus>",
		"only a child":          listingHead + folderEntry + "</D:multistatus>",
		"forbidden":             strings.Replace(whole, "200 OK</D:status></D:propstat></D:response></D:multistatus>", "403 Forbidden</D:status></D:propstat></D:response></D:multistatus>", 1),
		"a file without length": strings.Replace(whole, "<D:getcontentlength>5</D:getcontentlength>", "", 1),
		"of another folder":     strings.Replace(whole, "kestrelpoint/a.json", "elsewhere/a.json", 1),
		"deeper":                strings.Replace(whole, "kestrelpoint/a.json", "kestrelpoint/b/a.json", 1),
		"no name":               strings.Replace(whole, "/revlet/kestrelpoint/a.json", "%zz", 1),
		"a file":                strings.Replace(listingHead+fileEntry+"</D:multistatus>", "/a.json", "", 1),
	} {
		_, err := list(answer)
		assert.Error(t, err, name)
		assert.NotErrorIs(t, err, store.ErrNotFound, name)
	}
}

// answers is a server that gives one answer to everything.
type answers struct{ body []byte }

// RoundTrip implements http.RoundTripper.
func (a *answers) RoundTrip(r *http.Request) (*http.Response, error) {
	return &http.Response{StatusCode: http.StatusMultiStatus, Request: r, Header: http.Header{}, Body: io.NopCloser(bytes.NewReader(a.body))}, nil
}

// Whatever a server lists: names below the folder that was asked for.
func FuzzListing(f *testing.F) {
	f.Add([]byte(listingHead + fileEntry + "</D:multistatus>"))
	f.Add([]byte(listingHead + strings.Replace(fileEntry, "a.json", "%2e%2e/%2e%2e/x", 1) + "</D:multistatus>"))
	far := &answers{}
	s := New(Options{URL: "http://far.example/revlet", Transport: far, Where: "far"})
	f.Fuzz(func(t *testing.T, answer []byte) {
		far.body = answer
		all, _ := s.readDir(t.Context(), "kestrelpoint")
		for _, o := range all {
			if strings.Contains(o.Name, "/") || o.Bytes < 0 {
				t.Fatal(o.Name)
			}
		}
	})
}
