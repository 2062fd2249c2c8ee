// Package check asks a site over HTTP whether it works.
package check

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
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

// most is how much of a page is read.
const most = 4 << 20

// Run asks for one page of the site at address. broken are texts that only a
// page in trouble shows.
func Run(ctx context.Context, address string, c config.Check, broken []string) Result {
	path := c.Path
	if path == "" {
		path = "/"
	}
	r := Result{URL: strings.TrimSuffix(address, "/") + path}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	start := time.Now()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, r.URL, nil)
	if err != nil {
		r.Trouble = err.Error()
		return r
	}
	client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
	resp, err := client.Do(req)
	if err != nil {
		r.Trouble = err.Error()
		return r
	}
	defer resp.Body.Close()
	r.Status = resp.StatusCode
	body, err := io.ReadAll(io.LimitReader(resp.Body, most))
	r.Took = time.Since(start)
	r.Trouble = judge(c, resp.StatusCode, body, err, broken)
	return r
}

func judge(c config.Check, status int, body []byte, err error, broken []string) string {
	want := c.Status
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
