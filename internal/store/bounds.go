package store

import (
	"errors"
	"io"
	"net/http"
	"sync/atomic"
)

const (
	// LongestAnswer is how many bytes a far end may answer to one question that is not for
	// the content of an object: a listing of 30,000 names in WebDAV's XML, or more in the
	// other protocols.
	LongestAnswer = 16 << 20
	// LongestPage is the same for a far end that lists in pages of at most 1,000 names.
	LongestPage = 4 << 20
	// mostNames is how many objects one listing may name: about 200 bytes each are kept.
	mostNames = 500_000
	// deepest is how many folders may lie in each other below the one that is listed. The
	// format needs two.
	deepest = 8
)

// ErrEndless says that a far end answers more than any honest one has to say. It is not
// tried again: what is kept of an answer is kept in memory.
var ErrEndless = errors.New("the answer has no end")

func endless(where string) error {
	return Refuse("%s: %w, or is far longer than any that a store of archives has to give", where, ErrEndless)
}

// A Meter bounds what is read of a connection while an answer is awaited that is gathered
// in memory. The zero value bounds nothing. It is safe for concurrent use, but has one
// bound at a time.
type Meter struct {
	on   atomic.Bool
	left atomic.Int64
}

// Bound lets n more bytes be read; lift ends that.
func (m *Meter) Bound(n int64) (lift func()) {
	m.left.Store(n)
	m.on.Store(true)
	return func() { m.on.Store(false) }
}

// Return gives n bytes of the bound back, which is most at most: what was read of an
// answer that has come to its end.
func (m *Meter) Return(n, most int64) {
	if left := m.left.Add(n); left > most {
		m.left.Add(most - left)
	}
}

// Exceeded tells whether more was read than the bound allows.
func (m *Meter) Exceeded() bool { return m.on.Load() && m.left.Load() < 0 }

// Reader returns r, metered: past the bound, it gives an error that wraps ErrEndless.
func (m *Meter) Reader(r io.Reader) io.Reader { return meteredReader{r, m} }

// Took takes n bytes off the bound.
func (m *Meter) Took(n int) error {
	if m.on.Load() && m.left.Add(-int64(n)) < 0 {
		return endless("the far end")
	}
	return nil
}

type meteredReader struct {
	io.Reader
	m *Meter
}

func (r meteredReader) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	if over := r.m.Took(n); over != nil {
		return 0, over
	}
	return n, err
}

// Names counts what a listing gathers. It is not safe for concurrent use.
type Names struct{ n int }

// Another counts one more name, and refuses those that are too many; where names the
// listing in the error.
func (c *Names) Another(where string) error {
	if c.n++; c.n > mostNames {
		return endless(where)
	}
	return nil
}

// boundedTransport bounds the bodies of answers that a client library takes into memory
// whole: all but the content of an object, which a plain GET asks for.
type boundedTransport struct {
	http.RoundTripper
	longest int64
}

// RoundTrip implements http.RoundTripper.
func (t boundedTransport) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := t.RoundTripper.RoundTrip(r)
	if err != nil || r.Method == http.MethodGet && r.URL.RawQuery == "" && resp.StatusCode < 300 {
		return resp, err
	}
	resp.Body = &boundedBody{ReadCloser: resp.Body}
	resp.Body.(*boundedBody).m.Bound(t.longest)
	return resp, nil
}

// CloseIdleConnections lets http.Client and the stores end what is not in use.
func (t boundedTransport) CloseIdleConnections() {
	if c, ok := t.RoundTripper.(interface{ CloseIdleConnections() }); ok {
		c.CloseIdleConnections()
	}
}

type boundedBody struct {
	io.ReadCloser
	m Meter
}

func (b *boundedBody) Read(p []byte) (int, error) { return b.m.Reader(b.ReadCloser).Read(p) }
