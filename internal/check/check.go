// Package check asks a site over HTTP whether it works.
package check

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"revlet/internal/config"
)

// Result is the answer to one check.
type Result struct {
	URL    string `json:"url"`
	Status int    `json:"status"`
	// Trouble says in words what is wrong; empty when the site works.
	Trouble string        `json:"trouble,omitempty"`
	Took    time.Duration `json:"-"`
}

// OK tells whether the site works.
func (r Result) OK() bool { return r.Trouble == "" }

// longest is how much of a page is read.
const longest = 4 << 20

// limit is how long an answer may take, unless the check says otherwise.
const limit = 20 * time.Second

// All asks every check of a site.
func All(ctx context.Context, address string, checks []config.Check, broken []string) []Result {
	var all []Result
	for _, c := range checks {
		all = append(all, Run(ctx, address, c, broken))
	}
	return all
}

// Worst returns the first answer of all that tells of trouble, or else the
// first; nil when there is none.
func Worst(all []Result) *Result {
	for i := range all {
		if !all[i].OK() {
			return &all[i]
		}
	}
	if len(all) == 0 {
		return nil
	}
	return &all[0]
}

// Run asks for one page of the site at address. broken are texts that only a
// page in trouble shows.
func Run(ctx context.Context, address string, c config.Check, broken []string) Result {
	path := c.Path
	if path == "" {
		path = "/"
	}
	r := Result{URL: strings.TrimSuffix(address, "/") + path}
	most := c.Limit
	if most == 0 {
		most = limit
	}
	ctx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	start := time.Now()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, r.URL, nil)
	if err != nil {
		r.Trouble = err.Error()
		return r
	}
	resp, err := client(c).Do(req)
	if err == nil {
		defer resp.Body.Close()
		r.Status = resp.StatusCode
		var body []byte
		body, err = io.ReadAll(io.LimitReader(resp.Body, longest))
		r.Trouble = judge(c, resp, body, err, broken)
	} else {
		r.Trouble = plain(err)
	}
	r.Took = time.Since(start)
	if ctx.Err() != nil && r.Took >= most {
		r.Trouble = fmt.Sprintf("it does not answer within %s", most)
	}
	return r
}

// plain leaves out what the address has said already.
func plain(err error) string {
	var outer *url.Error
	if errors.As(err, &outer) {
		err = outer.Err
	}
	return err.Error()
}

// client asks the machine that the check names, and follows no redirect that
// the check is about.
func client(c config.Check) *http.Client {
	t := &http.Transport{DisableKeepAlives: true}
	if c.At != "" {
		t.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
			_, port, err := net.SplitHostPort(address)
			if err != nil {
				return nil, err
			}
			var d net.Dialer
			return d.DialContext(ctx, network, net.JoinHostPort(c.At, port))
		}
	}
	client := &http.Client{Transport: t}
	if c.Redirect != "" || c.Status >= 300 && c.Status < 400 {
		client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	}
	return client
}

// leads tells whether an answer redirects to where the check wants it.
func leads(c config.Check, resp *http.Response) string {
	to, err := resp.Location()
	if err != nil {
		return fmt.Sprintf("it answers %d and does not redirect to %s", resp.StatusCode, c.Redirect)
	}
	want, err := resp.Request.URL.Parse(c.Redirect)
	if err != nil || to.String() != want.String() {
		return fmt.Sprintf("it redirects to %s, not to %s", to, c.Redirect)
	}
	return ""
}

func judge(c config.Check, resp *http.Response, body []byte, err error, broken []string) string {
	if c.Redirect != "" {
		return leads(c, resp)
	}
	status, want := resp.StatusCode, c.Status
	if want == 0 {
		want = http.StatusOK
	}
	if status != want {
		return fmt.Sprintf("it answers %d %s, %d was expected", status, http.StatusText(status), want)
	}
	if err != nil {
		return "the page breaks off: " + err.Error()
	}
	if c.Contains != "" && !bytes.Contains(body, []byte(c.Contains)) {
		return fmt.Sprintf("the page lacks the text %q", c.Contains)
	}
	if c.Lacks != "" {
		broken = append([]string{c.Lacks}, broken...)
	}
	for _, text := range broken {
		if bytes.Contains(body, []byte(text)) {
			return fmt.Sprintf("the page shows %q", text)
		}
	}
	return ""
}
