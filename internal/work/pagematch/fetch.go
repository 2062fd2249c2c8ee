package pagematch

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"revlet/internal/site/check"
)

// Side is one of the two places.
type Side struct {
	// Base is the site's address there, At the machine's that is asked; the zero one is whichever
	// the DNS leads to.
	Base *url.URL
	At   netip.Addr
	// Names are other host names of the site, such as the one with www.
	Names []string

	client *http.Client
}

const (
	// pageMost is how much of a page is read, in bytes; answerLimit how long an answer may take.
	pageMost    = 4 << 20
	answerLimit = 30 * time.Second
	// mostPatience is how long a machine may ask to be left alone.
	mostPatience = 30 * time.Second
)

// Answer is what a machine answered.
type Answer struct {
	// Status is 0 when nothing came; Why says why then.
	Status int    `json:"status"`
	Why    string `json:"why,omitempty"`
	// Redirect is where it leads, made alike.
	Redirect string `json:"redirect,omitempty"`
	Title    string `json:"title,omitempty"`
	Bytes    int    `json:"bytes"`
	Kind     string `json:"content_type,omitempty"`

	body []byte
	page *page
}

func (a *Answer) reached() bool { return a.Status != 0 }

// html tells whether the answer is a page.
func (a *Answer) html() bool { return strings.Contains(a.Kind, "html") }

// open makes ready to ask. What is shown as a certificate is not looked at: a new machine often has
// none yet for the name, nothing secret is sent, and `cutover plan` tells of it.
func (s *Side) open() {
	t := &http.Transport{MaxIdleConnsPerHost: lanes, IdleConnTimeout: time.Minute, ResponseHeaderTimeout: answerLimit,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, ForceAttemptHTTP2: true} // #nosec G402
	if s.At.IsValid() {
		t.DialContext = check.DialAt(s.At.String())
	}
	s.client = &http.Client{Transport: t, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

func (s *Side) close() { s.client.CloseIdleConnections() }

// own tells whether a host is the site's.
func (s *Side) own(u *url.URL) bool {
	host := strings.ToLower(u.Hostname())
	return (host == strings.ToLower(s.Base.Hostname()) || slices.Contains(s.Names, host)) && (u.Port() == s.Base.Port() || s.Base.Port() == "" && (u.Port() == "80" || u.Port() == "443"))
}

// here is the mark that stands for the site's own address.
const here = "{site}"

// alike writes an address so that both sides' can be compared: the site's own without its host.
// What is no address of the web is empty.
func (s *Side) alike(from *url.URL, ref string) string {
	u, err := from.Parse(strings.TrimSpace(ref))
	if err != nil || u.Scheme != "http" && u.Scheme != "https" {
		return ""
	}
	u.Fragment, u.RawFragment = "", ""
	if !s.own(u) {
		return u.String()
	}
	rest, below := strings.CutPrefix(u.EscapedPath(), strings.TrimSuffix(s.Base.EscapedPath(), "/")+"/")
	if !below {
		return here + ":" + u.RequestURI()
	}
	if u.RawQuery != "" {
		rest += "?" + u.Query().Encode()
	}
	return here + "/" + rest
}

// at is the address of a path of the site, as alike wrote it.
func (s *Side) at(path string) (*url.URL, error) {
	return url.Parse(strings.TrimSuffix(s.Base.String(), "/") + "/" + strings.TrimPrefix(path, here+"/"))
}

// get asks for one path of the site. Who asks to be left alone for a moment is asked again after it.
func (s *Side) get(ctx context.Context, method, path string) *Answer {
	for again := false; ; again = true {
		a, wait := s.once(ctx, method, path)
		if wait == 0 || again || ctx.Err() != nil {
			return a
		}
		select {
		case <-ctx.Done():
			return a
		case <-time.After(wait):
		}
	}
}

func (s *Side) once(ctx context.Context, method, path string) (a *Answer, wait time.Duration) {
	a = &Answer{}
	u, err := s.at(path)
	if err != nil {
		a.Why = err.Error()
		return a, 0
	}
	ctx, cancel := context.WithTimeout(ctx, answerLimit)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, u.String(), nil)
	if err != nil {
		a.Why = err.Error()
		return a, 0
	}
	req.Header.Set("User-Agent", "revlet (compares a site with its copy)")
	resp, err := s.client.Do(req)
	if err != nil {
		a.Why = plain(err)
		return a, 0
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, pageMost))
	if err != nil {
		a.Why = "it breaks off: " + plain(err)
		return a, 0
	}
	a.Status, a.Bytes, a.Kind, a.body = resp.StatusCode, len(body), strings.ToLower(resp.Header.Get("Content-Type")), body
	if a.Kind == "" && len(body) > 0 {
		a.Kind = http.DetectContentType(body)
	}
	if to := resp.Header.Get("Location"); to != "" && resp.StatusCode/100 == 3 {
		a.Redirect = s.redirect(u, to)
	}
	if resp.StatusCode == http.StatusTooManyRequests || resp.StatusCode == http.StatusServiceUnavailable {
		seconds, _ := strconv.Atoi(resp.Header.Get("Retry-After"))
		wait = min(time.Duration(seconds)*time.Second, mostPatience)
	}
	return a, wait
}

// redirect is where a redirect leads, alike on both sides but for the scheme, if that changes.
func (s *Side) redirect(from *url.URL, to string) string {
	target := s.alike(from, to)
	if u, err := from.Parse(to); err == nil && s.own(u) && u.Scheme != from.Scheme {
		return u.Scheme + " " + target
	}
	return target
}

// plain is an error of a request without what is said anyway.
func plain(err error) string {
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Sprintf("it does not answer within %s", answerLimit)
	}
	return check.Plain(err)
}
