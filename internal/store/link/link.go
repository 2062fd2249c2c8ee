// Package link gets consent to use a place on the web, keeps the token that was given for it, and renews it.
//
// Consent is got by the device authorization grant (RFC 8628) of OAuth 2.0 (RFC 6749): somebody says yes on a
// page of the place's, on any device, and no password is ever seen here. What is kept is one file; it is good
// for one place alone, and shown to no other. Requests carry it as a bearer token (RFC 6750). The endpoints may
// be looked up in the issuer's metadata (RFC 8414); ending a link revokes it (RFC 7009).
//
// Begin with New; Ask and Wait make a link, Transport uses it.
package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/oauth2"

	"revlet/internal/config"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/store"
)

// Options say which place, and who answers for it.
type Options struct {
	// Name is the store's, for messages.
	Name string
	// Place is the address of the place that is linked.
	Place string
	// Entry is what the configuration says.
	Entry config.Link
	// File is where the token is kept.
	File string
	Disk *disk.Disk
	// Transport carries requests to whoever gives tokens.
	Transport http.RoundTripper
}

// Link is consent to use a place.
type Link struct {
	o  Options
	mu sync.Mutex
}

// New describes a link; nothing is asked or read yet.
func New(o Options) *Link { return &Link{o: o} }

// kept is the file.
type kept struct {
	Place   string    `json:"place"`
	Token   string    `json:"token_endpoint"`
	Revoke  string    `json:"revocation_endpoint,omitempty"`
	Access  string    `json:"access_token"`
	Refresh string    `json:"refresh_token,omitempty"`
	Expires time.Time `json:"expires,omitzero"`
	Linked  time.Time `json:"linked"`
	// Ended is what was said when it could not be renewed any more; empty while it is good.
	Ended string `json:"ended,omitempty"`
}

// endpoints are whom to ask.
type endpoints struct {
	Issuer string `json:"issuer"`
	Device string `json:"device_authorization_endpoint"`
	Token  string `json:"token_endpoint"`
	Revoke string `json:"revocation_endpoint"`
}

// patience bounds one request to whoever gives tokens; longestConsent how long somebody may take to say yes.
const (
	patience       = 30 * time.Second
	longestConsent = 30 * time.Minute
	longestAnswer  = 1 << 20
)

func (l *Link) client() *http.Client {
	return &http.Client{Transport: l.o.Transport, Timeout: patience, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		return store.Refuse("whoever gives tokens for %s sends us on to %s, which is not followed", l.o.Name, r.URL.Host)
	}}
}

// whom finds out whom to ask: the configuration says, or the issuer's metadata.
func (l *Link) whom(ctx context.Context) (e endpoints, err error) {
	entry := l.o.Entry
	if entry.Issuer == "" {
		return endpoints{Device: entry.Device, Token: entry.Token, Revoke: entry.Revoke}, nil
	}
	at, err := url.Parse(entry.Issuer)
	if err != nil {
		return e, err
	}
	at.Path = "/.well-known/oauth-authorization-server" + strings.TrimSuffix(at.Path, "/")
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return e, err
	}
	resp, err := l.client().Do(r)
	if err != nil {
		return e, store.HTTPError(at.Host, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return e, store.Refuse("%s says nothing of how it gives tokens: it answers %d to %s", at.Host, resp.StatusCode, at.Path)
	}
	if err := json.NewDecoder(io.LimitReader(resp.Body, longestAnswer)).Decode(&e); err != nil {
		return e, store.Refuse("what %s says of how it gives tokens cannot be read: %w", at.Host, err)
	}
	if strings.TrimSuffix(e.Issuer, "/") != strings.TrimSuffix(entry.Issuer, "/") {
		return e, store.Refuse("%s says that its tokens are given by %q, and not by itself", at.Host, e.Issuer)
	}
	for what, address := range map[string]string{"device_authorization_endpoint": e.Device, "token_endpoint": e.Token} {
		if err := config.SafeAddress(address); err != nil {
			return e, store.Refuse("what %s says of how it gives tokens: %s: %w", at.Host, what, err)
		}
	}
	if e.Revoke != "" && config.SafeAddress(e.Revoke) != nil {
		e.Revoke = ""
	}
	return e, nil
}

// grant is how tokens are asked for.
func (l *Link) grant(e endpoints) (*oauth2.Config, error) {
	secret, err := l.o.Entry.Secret()
	if err != nil {
		return nil, err
	}
	c := &oauth2.Config{ClientID: l.o.Entry.Client, ClientSecret: secret, Scopes: strings.Fields(l.o.Entry.Scope),
		Endpoint: oauth2.Endpoint{DeviceAuthURL: e.Device, TokenURL: e.Token, AuthStyle: oauth2.AuthStyleInParams}}
	if secret != "" {
		c.Endpoint.AuthStyle = oauth2.AuthStyleInHeader
	}
	return c, nil
}

func (l *Link) context(ctx context.Context) context.Context {
	return context.WithValue(ctx, oauth2.HTTPClient, l.client())
}

// Consent is a question that somebody is to answer on a page.
type Consent struct {
	// Page is its address, Code what is to be typed there. Whole is the address that has the code in it, or empty.
	Page, Code, Whole string
	// Until is when the question ends.
	Until time.Time

	whom   endpoints
	grant  *oauth2.Config
	answer *oauth2.DeviceAuthResponse
}

// Ask puts the question.
func (l *Link) Ask(ctx context.Context) (*Consent, error) {
	c := &Consent{}
	var err error
	if c.whom, err = l.whom(ctx); err != nil {
		return nil, err
	}
	if c.grant, err = l.grant(c.whom); err != nil {
		return nil, err
	}
	if c.answer, err = c.grant.DeviceAuth(l.context(ctx)); err != nil {
		return nil, l.explain(err)
	}
	if err := config.SafeAddress(c.answer.VerificationURI); err != nil || c.answer.UserCode == "" || c.answer.DeviceCode == "" {
		return nil, store.Refuse("the question that %s puts cannot be shown to anybody: it has no page, or no code (%v)", host(c.whom.Device), err)
	}
	c.Page, c.Code, c.Until = c.answer.VerificationURI, c.answer.UserCode, time.Now().Add(longestConsent)
	if config.SafeAddress(c.answer.VerificationURIComplete) == nil {
		c.Whole = c.answer.VerificationURIComplete
	}
	if ends := c.answer.Expiry; !ends.IsZero() && ends.Before(c.Until) {
		c.Until = ends
	}
	return c, nil
}

// Wait waits until somebody has said yes, and keeps the token.
func (l *Link) Wait(ctx context.Context, c *Consent) error {
	waiting, cancel := context.WithDeadline(l.context(ctx), c.Until)
	defer cancel()
	token, err := c.grant.DeviceAccessToken(waiting, c.answer)
	if err != nil && ctx.Err() == nil && errors.Is(waiting.Err(), context.DeadlineExceeded) {
		return store.Refuse("nobody has said yes until %s; nothing is linked", c.Until.Format("15:04"))
	}
	if err != nil {
		return l.explain(err)
	}
	return l.save(&kept{Place: l.o.Place, Token: c.whom.Token, Revoke: c.whom.Revoke, Linked: time.Now().UTC()}, token)
}

// save keeps a token.
func (l *Link) save(k *kept, t *oauth2.Token) error {
	if !strings.EqualFold(t.Type(), "Bearer") {
		return store.Refuse("%s gives a token of kind %q, and only bearer tokens are known here", host(k.Token), t.TokenType)
	}
	k.Access, k.Expires, k.Ended = t.AccessToken, t.Expiry, ""
	if t.RefreshToken != "" {
		k.Refresh = t.RefreshToken
	}
	return l.write(k)
}

func (l *Link) write(k *kept) error {
	data, err := json.Marshal(k)
	if err == nil {
		err = l.o.Disk.MkdirAll(filepath.Dir(l.o.File), 0o700)
	}
	if err == nil {
		err = l.o.Disk.WriteFile(l.o.File, data, 0o600)
	}
	if err != nil {
		return fmt.Errorf("keep the token of store %s: %w", l.o.Name, err)
	}
	return nil
}

// read is what is kept. What was given for another place, or by others, is not used.
func (l *Link) read() (*kept, error) {
	data, err := l.o.Disk.ReadFile(l.o.File)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, l.none("it is not linked yet: nobody has said that it may be used")
	}
	if err != nil {
		return nil, fmt.Errorf("read the token of store %s: %w", l.o.Name, err)
	}
	var k kept
	if err := json.Unmarshal(data, &k); err != nil || k.Access == "" {
		return nil, l.none("what is kept of its link cannot be read")
	}
	if k.Place != l.o.Place || l.o.Entry.Issuer == "" && k.Token != l.o.Entry.Token {
		return nil, l.none("its address has changed since it was linked to " + k.Place)
	}
	return &k, nil
}

// none is the error about a link that there is not, or not any more.
func (l *Link) none(why string) error {
	return reason.Because(reason.NotLinked, reason.Names{"store": l.o.Name}, store.Refuse("store %s: %s", l.o.Name, why))
}

// fresh returns a token that is good for a while, and is not the one that was refused.
func (l *Link) fresh(ctx context.Context, refused string) (string, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	good := func(k *kept) bool {
		return k.Access != refused && (k.Expires.IsZero() || time.Until(k.Expires) > time.Minute || k.Refresh == "" && time.Until(k.Expires) > 0)
	}
	k, err := l.read()
	if err != nil {
		return "", err
	}
	if good(k) {
		return k.Access, nil
	}
	// A token to renew with may be good for once: whoever works beside us waits.
	lock := flock.New(l.o.File + ".lock")
	if _, err := lock.TryLockContext(ctx, 100*time.Millisecond); err != nil {
		return "", fmt.Errorf("renew the token of store %s: %w", l.o.Name, err)
	}
	defer func() { _ = lock.Unlock() }()
	if k, err = l.read(); err != nil || good(k) {
		if err != nil {
			return "", err
		}
		return k.Access, nil
	}
	return l.renew(ctx, k)
}

// renew gets another token for one that ends.
func (l *Link) renew(ctx context.Context, k *kept) (string, error) {
	if k.Refresh == "" {
		return "", l.over(k, "its link has ended, for it was given for a while only")
	}
	// What could not be kept afterwards would be lost, and the link with it.
	if err := l.write(k); err != nil {
		return "", err
	}
	grant, err := l.grant(endpoints{Token: k.Token})
	if err != nil {
		return "", err
	}
	token, err := grant.TokenSource(l.context(ctx), &oauth2.Token{RefreshToken: k.Refresh}).Token()
	if answer, said := asSaid(err); said && answer.ErrorCode == "invalid_grant" {
		return "", l.over(k, "its link has ended, or was taken back ("+text(answer)+")")
	}
	if err != nil {
		return "", l.explain(err)
	}
	if err := l.save(k, token); err != nil {
		return "", err
	}
	return k.Access, nil
}

// over notes that a link has ended, so that it is told where nobody asks the place, and returns the error about it.
func (l *Link) over(k *kept, why string) error {
	k.Ended = why
	return errors.Join(l.none(why), l.write(k))
}

// Trouble says why a store cannot be used, as far as is known here, or nothing: nobody is asked.
func (l *Link) Trouble() string {
	k, err := l.read()
	switch {
	case err != nil:
		return err.Error()
	case k.Ended != "":
		return l.none(k.Ended).Error()
	}
	return ""
}

func asSaid(err error) (said *oauth2.RetrieveError, ok bool) {
	ok = errors.As(err, &said)
	return said, ok
}

// text is what was said, in short.
func text(said *oauth2.RetrieveError) string {
	return fmt.Sprintf("%.200s", strings.TrimSpace(said.ErrorCode+" "+said.ErrorDescription))
}

// explain words what whoever gives tokens has said (RFC 6749 §5.2, RFC 8628 §3.5).
func (l *Link) explain(err error) error {
	said, ok := asSaid(err)
	if !ok {
		return store.HTTPError("whoever gives tokens for "+l.o.Name, err)
	}
	switch said.ErrorCode {
	case "access_denied":
		return store.Refuse("store %s: somebody has said no; nothing is linked", l.o.Name)
	case "expired_token":
		return store.Refuse("store %s: nobody has said yes in time; nothing is linked", l.o.Name)
	case "":
		if said.Response != nil && said.Response.StatusCode >= http.StatusInternalServerError {
			return fmt.Errorf("whoever gives tokens for %s answers %d", l.o.Name, said.Response.StatusCode)
		}
		return store.Refuse("whoever gives tokens for %s gives an answer that cannot be read", l.o.Name)
	case "temporarily_unavailable", "server_error", "slow_down":
		return fmt.Errorf("whoever gives tokens for %s: %s", l.o.Name, text(said))
	}
	return store.Refuse("whoever gives tokens for %s refuses: %s", l.o.Name, text(said))
}

// End takes the link back: at whoever has given it, if that can be asked for, and here.
// told is whether they have been.
func (l *Link) End(ctx context.Context) (told bool, err error) {
	k, err := l.read()
	if err != nil {
		return false, err
	}
	for _, one := range []string{k.Refresh, k.Access} {
		if k.Revoke == "" || one == "" {
			continue
		}
		if err := l.revoke(ctx, k, one); err != nil {
			return false, fmt.Errorf("store %s: the link is as it was, for it could not be taken back: %w", l.o.Name, err)
		}
		told = true
	}
	return told, l.o.Disk.Remove(l.o.File)
}

// Forget deletes what is kept, whatever it is.
func (l *Link) Forget() error { return l.o.Disk.RemoveAll(l.o.File) }

func (l *Link) revoke(ctx context.Context, k *kept, token string) error {
	secret, err := l.o.Entry.Secret()
	if err != nil {
		return err
	}
	form := url.Values{"token": {token}}
	if secret == "" {
		form.Set("client_id", l.o.Entry.Client)
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, k.Revoke, strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if secret != "" {
		r.SetBasicAuth(url.QueryEscape(l.o.Entry.Client), url.QueryEscape(secret))
	}
	resp, err := l.client().Do(r)
	if err != nil {
		return store.HTTPError(host(k.Revoke), err)
	}
	_ = resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return fmt.Errorf("%s answers %d", host(k.Revoke), resp.StatusCode)
	}
	return nil
}

func host(address string) string {
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		return u.Host
	}
	return "the server"
}
