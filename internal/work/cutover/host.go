package cutover

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"revlet/internal/site/check"
	"revlet/internal/site/dnszone"
)

// Host is what a machine answers when it is asked for a site.
type Host struct {
	// Name is the site's name, At the machine's address, New whether it is the new one.
	Name string `json:"name"`
	At   string `json:"at"`
	New  bool   `json:"new"`
	URL  string `json:"url"`
	// Status is that of the answer; 0 with Trouble: there was none.
	Status   int    `json:"status,omitempty"`
	Trouble  string `json:"trouble,omitempty"`
	Redirect string `json:"redirect,omitempty"`
	Protocol string `json:"protocol,omitempty"`
	Title    string `json:"title,omitempty"`
	// Certificate is the one that was shown, over https.
	Certificate *Certificate `json:"certificate,omitempty"`
	// Proxy is the header that gives a proxy away.
	Proxy string `json:"proxy,omitempty"`
	page  []byte
}

// Certificate is what a machine shows to prove who it is.
type Certificate struct {
	Names  []string  `json:"names"`
	Issuer string    `json:"issuer"`
	From   time.Time `json:"from"`
	Until  time.Time `json:"until"`
	// Trouble says why it would not do; empty if browsers take it.
	Trouble string `json:"trouble,omitempty"`
}

// pageLimit is how long a machine may take to answer, pageMost how much of a page is read.
const (
	pageLimit = 15 * time.Second
	pageMost  = 1 << 20
)

// proxies are headers that proxies set which stand before a host.
var proxies = []string{"Via", "CF-Ray", "X-Amz-Cf-Id", "X-Served-By", "X-Sucuri-Id", "X-Cdn", "X-Cache", "X-Azure-Ref", "X-Akamai-Transformed"}

// askHosts asks the new machine, and the old one, for the site's front page under each name.
func (p *planner) askHosts(ctx context.Context) {
	titles := map[string]string{}
	for _, name := range p.Plan.Names {
		for _, old := range p.Old {
			h := p.askHost(ctx, p.Address, name, old)
			if h.Status == 0 {
				continue // the old machine is no longer what matters
			}
			p.Hosts = append(p.Hosts, h)
			titles[name] = h.Title
			if h.Proxy != "" {
				p.find(Finding{Kind: BehindProxy, Name: name, At: h.At, Value: h.Proxy})
			}
			break
		}
	}
	for _, name := range p.Plan.Names {
		for _, to := range p.To {
			h := p.askHost(ctx, p.Address, name, to)
			h.New = true
			p.Hosts = append(p.Hosts, h)
			p.judgeHost(ctx, h, titles[name])
		}
	}
}

// Pages asks the new machine and the old one, at all of their addresses side by side, for the front
// page under the first of the site's names.
func (o *Order) Pages(ctx context.Context, names []string, old []netip.Addr) (all []Host) {
	if len(names) == 0 {
		return nil
	}
	machines := slices.Concat(o.To, old)
	all = make([]Host, len(machines))
	var asked sync.WaitGroup
	for i, at := range machines {
		asked.Go(func() {
			all[i] = o.askHost(ctx, o.Address, names[0], at)
			all[i].New = slices.Contains(o.To, at)
		})
	}
	asked.Wait()
	return all
}

// judgeHost looks at what the new machine answers.
func (p *planner) judgeHost(ctx context.Context, h Host, oldTitle string) {
	if h.Status == 0 {
		p.find(Finding{Kind: NewSilent, Name: h.Name, At: h.At, Why: h.Trouble})
		return
	}
	if c := h.Certificate; c != nil && c.Trouble != "" {
		p.find(Finding{Kind: NewCertificate, Name: h.Name, At: h.At, Values: c.Names, Why: c.Trouble})
	}
	if to, err := url.Parse(h.Redirect); h.Redirect != "" && err == nil {
		if name, err := dnszone.FromHost(to.Hostname()); err != nil || !slices.Contains(p.Plan.Names, name) {
			p.find(Finding{Kind: OtherSite, Name: h.Name, At: h.At, Value: h.Redirect})
		}
		return
	}
	if h.Status >= 400 {
		p.find(Finding{Kind: NewFails, Name: h.Name, At: h.At, Value: fmt.Sprint(h.Status)})
		return
	}
	if oldTitle != "" && h.Title != oldTitle {
		p.find(Finding{Kind: OtherTitle, Name: h.Name, Value: h.Title, Others: []string{oldTitle}})
	}
	to, err := netip.ParseAddr(h.At)
	if err != nil {
		return
	}
	stranger := *p.Address
	stranger.Scheme = "http"
	if p.Address.Scheme == "https" && p.Address.Port() != "" {
		return
	}
	if other := p.askHost(ctx, &stranger, "x-nobody-knows-this.invalid", to); other.Status == http.StatusOK && bytes.Equal(other.page, h.page) {
		p.find(Finding{Kind: DefaultSite, Name: h.Name, At: h.At})
	}
}

// askHost asks the machine at an address for the front page of a site under a name. No redirect is
// followed.
func (o *Order) askHost(ctx context.Context, address *url.URL, name string, at netip.Addr) Host {
	u := *address
	u.Host, u.Path = name, "/"+strings.TrimPrefix(address.Path, "/")
	if port := address.Port(); port != "" {
		u.Host = net.JoinHostPort(name, port)
	}
	h := Host{Name: name, At: at.String(), URL: u.String()}
	limit := cmp.Or(o.Patience, pageLimit)
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	t := &http.Transport{DisableKeepAlives: true, ForceAttemptHTTP2: true, DialContext: check.DialAt(at.String()),
		// Whether browsers would take the certificate is looked at below: a new machine often has none
		// yet, and what it answers counts all the same. Nothing secret is sent.
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}} // #nosec G402
	client := &http.Client{Transport: t, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, h.URL, nil)
	if err != nil {
		h.Trouble = err.Error()
		return h
	}
	resp, err := client.Do(req)
	if err != nil {
		h.Trouble = plain(err, limit)
		return h
	}
	defer resp.Body.Close()
	h.page, _ = io.ReadAll(io.LimitReader(resp.Body, pageMost))
	h.Status, h.Protocol, h.Title = resp.StatusCode, resp.Proto, check.TitleOf(h.page)
	if to, err := resp.Location(); err == nil {
		h.Redirect = to.String()
	}
	for _, header := range proxies {
		if v := resp.Header.Get(header); v != "" && h.Proxy == "" {
			h.Proxy = header + ": " + v
		}
	}
	if resp.TLS != nil && len(resp.TLS.PeerCertificates) > 0 {
		h.Certificate = certificate(resp.TLS.PeerCertificates, name)
	}
	return h
}

// plain is an error of a request without what is said anyway.
func plain(err error, limit time.Duration) string {
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Sprintf("it does not answer within %s", limit)
	}
	return check.Plain(err)
}

// certificate reads the one that was shown, and tells whether browsers would take it for a name.
func certificate(chain []*x509.Certificate, name string) *Certificate {
	leaf := chain[0]
	c := &Certificate{Names: leaf.DNSNames, Issuer: leaf.Issuer.CommonName, From: leaf.NotBefore, Until: leaf.NotAfter}
	if leaf.Issuer.String() == leaf.Subject.String() {
		c.Issuer = "itself"
	}
	between := x509.NewCertPool()
	for _, other := range chain[1:] {
		between.AddCert(other)
	}
	_, err := leaf.Verify(x509.VerifyOptions{DNSName: name, Intermediates: between})
	var unknown x509.UnknownAuthorityError
	var names x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case err == nil:
	case errors.As(err, &names):
		c.Trouble = "it is not for this name"
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		c.Trouble = "it is not valid today"
	case errors.As(err, &unknown):
		c.Trouble = "nobody that browsers know has issued it"
	default:
		c.Trouble = err.Error()
	}
	return c
}
