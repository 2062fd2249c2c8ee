package link_test

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/config"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/practice/place"
	"revlet/internal/store"
	"revlet/internal/store/link"
)

// drive is a place that is linked, and what links it.
type drive struct {
	*place.Server
	grants *place.Grants
	options
}

type options = link.Options

func start(t *testing.T, g *place.Grants) *drive {
	t.Helper()
	s, err := place.Start(place.WebDAV, place.Options{Keys: t.TempDir(), Grants: g})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	tls, err := store.TLS(s.CAFile)
	require.NoError(t, err)
	return &drive{s, g, options{Name: "cloud", Place: s.Address, Entry: config.Link{Issuer: s.Address, Client: "revlet"}, File: filepath.Join(t.TempDir(), "links", "cloud.json"),
		Disk: &disk.Disk{}, Transport: store.Transport(tls, 4, store.LongestAnswer)}}
}

// linked says yes.
func (d *drive) linked(t *testing.T) *link.Link {
	t.Helper()
	l := link.New(d.options)
	c, err := l.Ask(t.Context())
	require.NoError(t, err)
	require.True(t, d.grants.Answer(c.Code, true))
	require.NoError(t, l.Wait(t.Context(), c))
	return l
}

// status is what the place answers to a request by way of a link.
func (d *drive) status(t *testing.T, l *link.Link, address string) (int, error) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), "PROPFIND", address+"/", nil)
	require.NoError(t, err)
	resp, err := l.Transport(d.Transport).RoundTrip(r)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	return resp.StatusCode, nil
}

func TestConsent(t *testing.T) {
	t.Parallel()
	d := start(t, &place.Grants{})
	l := link.New(d.options)
	_, err := d.status(t, l, d.Address)
	assert.True(t, reason.Is(err, reason.NotLinked), "%v", err)
	assert.ErrorIs(t, err, store.ErrRefused)

	d.grants.SlowDown.Store(1)
	l = d.linked(t)
	code, err := d.status(t, l, d.Address)
	require.NoError(t, err)
	assert.Equal(t, http.StatusMultiStatus, code)
	info, err := os.Stat(d.File)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	// It is for this place, and shown to no other, whatever the configuration comes to say.
	shown := false
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { shown = shown || r.Header.Get("Authorization") != "" }))
	defer other.Close()
	moved := d.options
	moved.Place = other.URL
	_, err = d.status(t, link.New(moved), other.URL)
	assert.True(t, reason.Is(err, reason.NotLinked))
	assert.ErrorContains(t, err, "its address has changed")
	assert.False(t, shown)

	told, err := l.End(t.Context())
	require.NoError(t, err)
	assert.True(t, told)
	assert.NoFileExists(t, d.File)
	_, err = d.status(t, l, d.Address)
	assert.True(t, reason.Is(err, reason.NotLinked))
}

// What can be renewed with is good for once: programs that work side by side do not lose each other the link.
func TestRenewing(t *testing.T) {
	t.Parallel()
	d := start(t, &place.Grants{Lasts: 90 * time.Second})
	d.linked(t)
	// As if half a minute had passed: the end of the token is near.
	age := func() {
		var k map[string]any
		data, err := os.ReadFile(d.File)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(data, &k))
		k["expires"] = time.Now().Add(30 * time.Second).Format(time.RFC3339)
		data, err = json.Marshal(k)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(d.File, data, 0o600))
	}
	age()
	var together sync.WaitGroup
	for range 6 {
		together.Go(func() {
			code, err := d.status(t, link.New(d.options), d.Address)
			assert.NoError(t, err)
			assert.Equal(t, http.StatusMultiStatus, code)
		})
	}
	together.Wait()
	assert.Equal(t, 2, d.grants.Given(), "renewed once")

	// What could not be kept is not asked for.
	age()
	full := d.options
	full.Disk = &disk.Disk{Fault: func(op, name string) error {
		if op == "write" && strings.Contains(name, "cloud.json") {
			return syscall.ENOSPC
		}
		return nil
	}}
	_, err := d.status(t, link.New(full), d.Address)
	assert.ErrorIs(t, err, syscall.ENOSPC)
	assert.Equal(t, 2, d.grants.Given())

	// A server that is down says nothing of the link.
	d.grants.Down.Store(true)
	_, err = d.status(t, link.New(d.options), d.Address)
	require.Error(t, err)
	assert.NotErrorIs(t, err, store.ErrRefused)
	d.grants.Down.Store(false)
	code, err := d.status(t, link.New(d.options), d.Address)
	require.NoError(t, err)
	assert.Equal(t, http.StatusMultiStatus, code)

	// Taken back on the place's own pages: from then on that is known here, until somebody says yes again.
	assert.Empty(t, link.New(d.options).Trouble())
	d.grants.TakeBack()
	_, err = d.status(t, link.New(d.options), d.Address)
	assert.True(t, reason.Is(err, reason.NotLinked))
	assert.ErrorIs(t, err, store.ErrRefused)
	assert.ErrorContains(t, err, "has ended")
	assert.Contains(t, link.New(d.options).Trouble(), "has ended")
	d.linked(t)
	assert.Empty(t, link.New(d.options).Trouble())
}

func TestAnEndThatIsToldByThePlace(t *testing.T) {
	t.Parallel()
	d := start(t, &place.Grants{Once: true})
	l := d.linked(t)
	d.grants.TakeBack()
	_, err := d.status(t, l, d.Address)
	assert.True(t, reason.Is(err, reason.NotLinked))
	assert.ErrorContains(t, err, "for a while only")
}

// refusing lets nothing through with the first tokens that it sees.
type refusing struct {
	next http.RoundTripper
	left int
	seen map[string]bool
}

func (f *refusing) RoundTrip(r *http.Request) (*http.Response, error) {
	token := r.Header.Get("Authorization")
	if refused, known := f.seen[token]; !known {
		f.seen[token], f.left = f.left > 0, f.left-1
	} else if refused {
		return nil, errors.New("the same token once more")
	}
	if f.seen[token] {
		return &http.Response{StatusCode: http.StatusUnauthorized, Body: http.NoBody, Request: r}, nil
	}
	return f.next.RoundTrip(r)
}

// Others that use the same link may use up a token that was renewed for us.
func TestTokensThatAreRefused(t *testing.T) {
	t.Parallel()
	for refused, works := range map[int]bool{0: true, 1: true, 3: true, 4: false} {
		d := start(t, &place.Grants{})
		l := d.linked(t)
		seen := map[string]bool{}
		d.Transport = &refusing{next: d.Transport, left: refused, seen: seen}
		code, err := d.status(t, l, d.Address)
		if works {
			require.NoError(t, err, refused)
			assert.Equal(t, http.StatusMultiStatus, code)
			assert.Len(t, seen, refused+1)
			continue
		}
		assert.True(t, reason.Is(err, reason.NotLinked), "%v", err)
		assert.Len(t, seen, 4)
	}
}

func TestNo(t *testing.T) {
	t.Parallel()
	d := start(t, &place.Grants{})
	l := link.New(d.options)
	c, err := l.Ask(t.Context())
	require.NoError(t, err)
	require.True(t, d.grants.Answer(c.Code, false))
	assert.ErrorContains(t, l.Wait(t.Context(), c), "said no")
	c, err = l.Ask(t.Context())
	require.NoError(t, err)
	c.Until = time.Now().Add(time.Second)
	assert.ErrorContains(t, l.Wait(t.Context(), c), "nobody has said yes")
	assert.NoFileExists(t, d.File)
}

// Whoever answers for tokens may be anybody: nothing is sent in the clear, to another server, or shown that is no page.
func TestIssuersThatAreWrong(t *testing.T) {
	t.Parallel()
	answers := map[string]string{}
	base := ""
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/moved" {
			http.Redirect(w, r, "http://elsewhere.example/", http.StatusTemporaryRedirect)
			return
		}
		_, _ = w.Write([]byte(strings.ReplaceAll(answers[r.URL.Path], "BASE", base)))
	}))
	defer s.Close()
	base = s.URL
	const meta = "/.well-known/oauth-authorization-server"
	for name, c := range map[string]struct{ metadata, device, want string }{
		"another's":        {`{"issuer": "https://other.example", "device_authorization_endpoint": "BASE/d", "token_endpoint": "BASE/t"}`, "", "and not by itself"},
		"in the clear":     {`{"issuer": "BASE", "device_authorization_endpoint": "http://cloud.example/d", "token_endpoint": "BASE/t"}`, "", "is to be https"},
		"no endpoint":      {`{"issuer": "BASE", "token_endpoint": "BASE/t"}`, "", "is no address"},
		"no JSON":          {`<html>`, "", "cannot be read"},
		"sends us on":      {`{"issuer": "BASE", "device_authorization_endpoint": "BASE/moved", "token_endpoint": "BASE/t"}`, "", "not followed"},
		"a page of script": {`{"issuer": "BASE", "device_authorization_endpoint": "BASE/d", "token_endpoint": "BASE/t"}`, `{"device_code": "x", "user_code": "y", "verification_uri": "javascript:alert(1)"}`, "cannot be shown"},
		"no code":          {`{"issuer": "BASE", "device_authorization_endpoint": "BASE/d", "token_endpoint": "BASE/t"}`, `{"device_code": "x", "verification_uri": "BASE/p"}`, "cannot be shown"},
	} {
		answers[meta], answers["/d"] = c.metadata, c.device
		l := link.New(options{Name: "cloud", Place: s.URL, Entry: config.Link{Issuer: s.URL, Client: "revlet"}, File: filepath.Join(t.TempDir(), "cloud.json"), Disk: &disk.Disk{}, Transport: http.DefaultTransport})
		_, err := l.Ask(t.Context())
		assert.ErrorContains(t, err, c.want, name)
	}
}
