package link

import (
	"errors"
	"io"
	"net/http"
)

// Transport has each request carry the token, renewed when its end is near, or when the far end does not take it.
func (l *Link) Transport(next http.RoundTripper) http.RoundTripper { return bearer{l, next} }

type bearer struct {
	link *Link
	next http.RoundTripper
}

// errRenewed is about a request that could not be sent a second time as it was.
var errRenewed = errors.New("the token was renewed meanwhile; the same request may be sent once more")

// mostTokens is how many tokens one request tries: one that was given a moment ago may be refused as well, where
// others that work with the same link have used it up, or had it renewed.
const mostTokens = 4

// RoundTrip implements http.RoundTripper.
func (b bearer) RoundTrip(r *http.Request) (*http.Response, error) {
	token := ""
	for try := range mostTokens {
		var err error
		if token, err = b.link.fresh(r.Context(), token); err != nil {
			if try == 0 {
				closeBody(r)
			}
			return nil, err
		}
		one := with(r, token)
		if try > 0 && r.Body != nil && r.Body != http.NoBody {
			if r.GetBody == nil {
				return nil, errRenewed
			}
			if one.Body, err = r.GetBody(); err != nil {
				return nil, err
			}
		}
		resp, err := b.next.RoundTrip(one)
		if err != nil || resp.StatusCode != http.StatusUnauthorized {
			return resp, err
		}
		_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<16))
		_ = resp.Body.Close()
	}
	return nil, b.link.none("it does not take a token that was given a moment ago")
}

// CloseIdleConnections closes what is below.
func (b bearer) CloseIdleConnections() {
	if c, ok := b.next.(interface{ CloseIdleConnections() }); ok {
		c.CloseIdleConnections()
	}
}

// asksFirst is from which length on a body waits for the word that it is wanted (RFC 9110 §10.1.1): one that goes over
// a slow line in vain, because its token is not taken any more, costs its whole time once more.
const asksFirst = 256 << 10

func with(r *http.Request, token string) *http.Request {
	r = r.Clone(r.Context())
	r.Header.Set("Authorization", "Bearer "+token)
	if r.ContentLength >= asksFirst {
		r.Header.Set("Expect", "100-continue")
	}
	return r
}

func closeBody(r *http.Request) {
	if r.Body != nil {
		_ = r.Body.Close()
	}
}
