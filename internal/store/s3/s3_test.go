package s3

import (
	"bytes"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/store"
)

const (
	listingHead = `<?xml version="1.0"?><ListBucketResult xmlns="http://s3.amazonaws.com/doc/2006-03-01/"><Name>museum</Name><MaxKeys>1000</MaxKeys>`
	fileEntry   = `<Contents><Key>deep/kestrelpoint/archives/a.json</Key><LastModified>2026-01-01T03:20:00.000Z</LastModified><ETag>"x"</ETag><Size>5</Size></Contents>`
	nextPage    = `<IsTruncated>true</IsTruncated><NextContinuationToken>more</NextContinuationToken></ListBucketResult>`
)

func opened(t testing.TB, endpoint string, transport http.RoundTripper) *Store {
	s, err := New(Options{Endpoint: endpoint, Bucket: "museum", Prefix: "deep", Region: "eu-1", AccessKey: "keeper", Secret: "words", Transport: transport, Where: "far"})
	require.NoError(t, err)
	return s
}

// A listing without end was kept in memory as far as it went.
func TestAnAnswerWithoutEndIsRefused(t *testing.T) {
	for name, answer := range map[string]struct {
		status     int
		head, more string
	}{
		"entries":  {200, listingHead, fileEntry},
		"one name": {200, listingHead + "<Contents><Key>", "x"},
		"pages":    {200, listingHead + strings.Repeat("<Contents><Key>x</Key></Contents>", 20_000) + nextPage, ""},
		"an error": {404, "<Error><Code>", "x"},
	} {
		t.Run(name, func(t *testing.T) {
			far := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.WriteHeader(answer.status)
				_, err := io.WriteString(w, answer.head)
				for more := strings.Repeat(answer.more, 1000); err == nil && more != ""; {
					_, err = io.WriteString(w, more)
				}
			}))
			defer far.Close()
			s := opened(t, strings.TrimPrefix(far.URL, "http://"), store.Transport(nil, 1, store.LongestPage))
			all, err := s.List(t.Context(), "kestrelpoint")
			if answer.status != 200 {
				assert.Empty(t, all)
				return // the library reads no more of an error than it shows
			}
			require.ErrorIs(t, err, store.ErrEndless)
		})
	}
}

// answers is a server that gives one answer to everything.
type answers struct{ body []byte }

// RoundTrip implements http.RoundTripper.
func (a *answers) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.URL.Query().Has("continuation-token") {
		return nil, io.ErrUnexpectedEOF
	}
	return &http.Response{StatusCode: http.StatusOK, Request: r, Header: http.Header{}, Body: io.NopCloser(bytes.NewReader(a.body))}, nil
}

// Whatever a server lists: names below the folder that was asked for.
func FuzzListing(f *testing.F) {
	f.Add([]byte(listingHead + fileEntry + "</ListBucketResult>"))
	f.Add([]byte(listingHead + strings.Replace(fileEntry, "kestrelpoint", "elsewhere", 1) + "</ListBucketResult>"))
	f.Add([]byte(listingHead + strings.Replace(fileEntry, "deep/kestrelpoint", "deep/../kestrelpoint/../..", 1) + "</ListBucketResult>"))
	far := &answers{}
	s := opened(f, "far.example", far)
	f.Fuzz(func(t *testing.T, answer []byte) {
		far.body = answer
		all, _ := s.List(t.Context(), "kestrelpoint")
		for _, o := range all {
			if _, below := strings.CutPrefix(o.Name, "kestrelpoint/"); !below || !fs.ValidPath(strings.ToValidUTF8(o.Name, "?")) {
				t.Fatal(o.Name)
			}
		}
	})
}
