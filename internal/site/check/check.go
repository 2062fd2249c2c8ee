// Package check asks a site over HTTP whether it works.
package check

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"time"

	"revlet/internal/config"
)

// Result is the answer to one check.
type Result struct {
	URL    string `json:"url"`
	Status int    `json:"status"`
	// Trouble says in words what is wrong; empty when the site works.
	Trouble string `json:"trouble,omitempty"`
	// Note is worth a word, and no trouble.
	Note string `json:"note,omitempty"`
	// Bytes is how long the page is, Title what stands in its title.
	Bytes int64         `json:"bytes"`
	Title string        `json:"title"`
	Took  time.Duration `json:"-"`
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
		r.Bytes, r.Title = int64(len(body)), TitleOf(body)
		r.Trouble = judge(c, resp, body, err, broken)
	} else {
		r.Trouble = Plain(err)
	}
	r.Took = time.Since(start)
	if ctx.Err() != nil && r.Took >= most {
		r.Trouble = fmt.Sprintf("it does not answer within %s", most)
	}
	return r
}

// Get fetches a page of the site at address, from the machine at if it is named. A status
// other than 200 is an error.
func Get(ctx context.Context, address, path, at string) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.TrimSuffix(address, "/")+path, nil)
	if err != nil {
		return nil, err
	}
	resp, err := client(config.Check{At: at}).Do(req)
	if err != nil {
		return nil, errors.New(Plain(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answers %d", resp.StatusCode)
	}
	return io.ReadAll(io.LimitReader(resp.Body, longest))
}

// DialAt connects to one machine, by its address, whatever host is asked for, at the port that is.
func DialAt(machine string) func(ctx context.Context, network, address string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		_, port, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		var d net.Dialer
		return d.DialContext(ctx, network, net.JoinHostPort(machine, port))
	}
}

// Plain is an error of a request without what its address says already.
func Plain(err error) string {
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
		t.DialContext = DialAt(c.At)
	}
	client := &http.Client{Transport: t, CheckRedirect: stayThere}
	if c.Redirect != "" || c.Status >= 300 && c.Status < 400 {
		client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	}
	return client
}

// mostRedirects is how many redirects are followed.
const mostRedirects = 10

// stayThere follows redirects within the site only: what another host answers says
// nothing about this one. www in front of the name, and http or https, are the same
// site.
func stayThere(req *http.Request, via []*http.Request) error {
	first := via[0].URL
	name := func(u *url.URL) string { return strings.TrimPrefix(strings.ToLower(u.Hostname()), "www.") }
	port := func(u *url.URL) string {
		return cmp.Or(u.Port(), map[string]string{"http": "80", "https": "443"}[u.Scheme])
	}
	if name(req.URL) != name(first) || req.URL.Scheme == first.Scheme && port(req.URL) != port(first) {
		return fmt.Errorf("it redirects to another host, %s", req.URL.Host)
	}
	if len(via) >= mostRedirects {
		return fmt.Errorf("it redirects again and again, last to %s", req.URL)
	}
	return nil
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
	if trouble := sick(resp, body); trouble != "" && want == http.StatusOK {
		return trouble
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

// ownErrors matches what PHP itself writes into a page when a script dies.
var ownErrors = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?is)(?:<b>)?(?:PHP )?(?:Fatal error|Parse error|Recoverable fatal error)(?:</b>)?:.{1,900}? on line (?:<b>)?\d+`)
})

// sick tells what is wrong with a page whatever the check asks for: it is blank, it
// breaks off, or a script has died in it.
func sick(resp *http.Response, body []byte) string {
	kind := resp.Header.Get("Content-Type")
	if len(bytes.TrimSpace(body)) == 0 {
		return "the page is blank"
	}
	if kind != "" && !strings.Contains(kind, "html") {
		return ""
	}
	if found := ownErrors().Find(body); found != nil {
		return fmt.Sprintf("the page shows an error of PHP's: %.120q", found)
	}
	lower := bytes.ToLower(body)
	if len(body) < longest && bytes.Contains(lower, []byte("<html")) && !bytes.Contains(lower, []byte("</html")) {
		return "the page has no end: it breaks off before </html>"
	}
	return ""
}
