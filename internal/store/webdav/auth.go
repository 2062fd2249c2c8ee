package webdav

import (
	"io"
	"net/http"
	"strings"
	"sync/atomic"

	"github.com/icholy/digest"
)

// authorizer answers a server's first question for a password with whichever
// way it asks for, digest before basic, and then goes on that way. Nothing of
// the password is sent before it is asked for.
type authorizer struct {
	user, password string
	next           http.RoundTripper
	digest         digest.Transport
	way            atomic.Int32
}

const (
	unasked = iota
	basic
	digested
)

func newAuthorizer(user, password string, next http.RoundTripper) *authorizer {
	return &authorizer{user: user, password: password, next: next,
		digest: digest.Transport{Username: user, Password: password, Transport: next}}
}

// RoundTrip implements http.RoundTripper.
func (a *authorizer) RoundTrip(r *http.Request) (*http.Response, error) {
	switch a.way.Load() {
	case basic:
		r = r.Clone(r.Context())
		r.SetBasicAuth(a.user, a.password)
		return a.next.RoundTrip(r)
	case digested:
		return a.digest.RoundTrip(r)
	}
	resp, err := a.next.RoundTrip(r)
	if err != nil || resp.StatusCode != http.StatusUnauthorized || a.user == "" {
		return resp, err
	}
	again := r.Clone(r.Context())
	if r.Body != nil && r.Body != http.NoBody {
		if r.GetBody == nil {
			return resp, nil
		}
		if again.Body, err = r.GetBody(); err != nil {
			return resp, nil
		}
	}
	a.way.Store(basic)
	for _, asked := range resp.Header.Values("WWW-Authenticate") {
		if strings.HasPrefix(strings.ToLower(asked), "digest ") {
			a.way.Store(digested)
		}
	}
	_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<16))
	_ = resp.Body.Close()
	return a.RoundTrip(again)
}
