// Package notify tells people and programs what came of runs: by mail, by a
// webhook and by a ping address.
package notify

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"revlet/internal/archives/archive"
	"revlet/internal/config"
	"revlet/internal/watch/report"
)

// The kinds of events.
const (
	KindRun    = "run"
	KindDigest = "digest"
	KindTest   = "test"
)

// Event is what is told. It is also what a webhook receives, as JSON
// (docs/JSON.md).
type Event struct {
	Kind    string    `json:"kind"`
	At      time.Time `json:"at"`
	Host    string    `json:"host"`
	Program string    `json:"program"`
	// Trouble tells that something was not all right.
	Trouble bool   `json:"trouble"`
	Title   string `json:"title"`
	// Zone is the time zone that times are shown in.
	Zone  string     `json:"time_zone"`
	Sites []SiteNews `json:"sites"`
}

// SiteNews is what there is to tell of one site.
type SiteNews struct {
	report.Site
	// Told are the runs that were just made, none in a digest.
	Told []RunNews `json:"told"`
	// Since are the runs since the last digest, newest first; none but in one.
	Since []report.Run `json:"since"`
}

// RunNews is what there is to tell of one run.
type RunNews struct {
	report.Run
	// Saved and NotSaved are what the run's archive holds and could not hold;
	// NotSaved names the first of GapCount.
	Saved    *archive.Totals `json:"saved"`
	NotSaved []archive.Gap   `json:"not_saved"`
	GapCount int             `json:"gap_count"`
	// Changed is what differs from the archive before, in words.
	Changed string `json:"changed"`
}

// timeout bounds one delivery.
const timeout = 30 * time.Second

// trust is how servers' certificates are judged: by the system's authorities,
// and by those in a file.
func trust(host, caFile string) (*tls.Config, error) {
	c := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: host}
	if caFile == "" {
		return c, nil
	}
	pem, err := os.ReadFile(caFile)
	if err != nil {
		return nil, fmt.Errorf("read the certificates: %w", err)
	}
	if c.RootCAs, err = x509.SystemCertPool(); err != nil {
		c.RootCAs = x509.NewCertPool()
	}
	if !c.RootCAs.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("%s holds no certificate in PEM", caFile)
	}
	return c, nil
}

// Mail sends an event by mail, with a plain and an HTML part (RFC 2046).
func Mail(ctx context.Context, m *config.Mail, e Event) error {
	u, err := url.Parse(m.SMTP)
	if err != nil {
		return err
	}
	client, err := mailClient(m, u)
	if err != nil {
		return fmt.Errorf("mail server %s: %w", u.Host, err)
	}
	msg, err := message(m, e)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	if err := client.DialAndSendWithContext(ctx, msg); err != nil {
		return fmt.Errorf("mail server %s: %w", u.Host, explain(err, u.Scheme))
	}
	return nil
}

func mailClient(m *config.Mail, u *url.URL) (*mail.Client, error) {
	security, err := trust(u.Hostname(), m.CAFile)
	if err != nil {
		return nil, err
	}
	ports := map[string]int{"smtp": 587, "smtps": 465, "plain-smtp": 25}
	port := ports[u.Scheme]
	if u.Port() != "" {
		if port, err = strconv.Atoi(u.Port()); err != nil {
			return nil, err
		}
	}
	options := []mail.Option{mail.WithPort(port), mail.WithTimeout(timeout), mail.WithTLSConfig(security)}
	switch u.Scheme {
	case "smtp":
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	case "smtps":
		options = append(options, mail.WithSSL())
	default:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	}
	if m.User != "" {
		password, err := m.Password()
		if err != nil {
			return nil, err
		}
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(m.User), mail.WithPassword(password))
	}
	return mail.NewClient(u.Hostname(), options...)
}

func message(m *config.Mail, e Event) (*mail.Msg, error) {
	msg := mail.NewMsg()
	if err := errors.Join(msg.From(m.From), msg.To(m.To...)); err != nil {
		return nil, fmt.Errorf("`from:` or `to:` of `mail:`: %w", err)
	}
	msg.Subject(e.Title)
	msg.SetDateWithValue(e.At)
	msg.SetMessageID()
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834
	text, html, err := e.render()
	if err != nil {
		return nil, err
	}
	msg.SetBodyString(mail.TypeTextPlain, text)
	msg.AddAlternativeString(mail.TypeTextHTML, html)
	return msg, nil
}

// refusedLogin is what a mail server says to an account that it does not let in (RFC 4954).
var refusedLogin = regexp.MustCompile(`(^|[^\d:])535([^\d]|$)|uthentication`)

// explain adds the next step to what a mail server or its connection said.
func explain(err error, scheme string) error {
	var unknown x509.UnknownAuthorityError
	var wrongName x509.HostnameError
	var dial *net.OpError
	text := err.Error()
	switch {
	case errors.As(err, &dial) && dial.Op == "dial": // its text has a port, and says no more
		return fmt.Errorf("it cannot be reached (%w); check host and port in `smtp:`", err)
	case errors.As(err, &unknown):
		return fmt.Errorf("its certificate is not trusted (%w); if it is yours, name its authority in `ca_file:`", err)
	case errors.As(err, &wrongName):
		return fmt.Errorf("its certificate is another server's (%w)", err)
	case strings.Contains(text, "STARTTLS"):
		return fmt.Errorf("it offers no TLS (%w); try %s", err, map[bool]string{true: "smtps://, or plain-smtp:// if all may travel in the clear", false: "another port"}[scheme == "smtp"])
	case refusedLogin.MatchString(text):
		return fmt.Errorf("it does not let the account in (%w); check `user:` and `password_file:`", err)
	case errors.As(err, &dial):
		return fmt.Errorf("it cannot be reached (%w); check host and port in `smtp:`", err)
	}
	return err
}

// Signature signs what a webhook receives: HMAC-SHA256 (RFC 2104) of the time
// stamp, a full stop and the body, in hexadecimal.
func Signature(secret, stamp string, body []byte) string {
	mac := hmac.New(sha256.New, []byte(secret))
	mac.Write([]byte(stamp + "."))
	mac.Write(body)
	return hex.EncodeToString(mac.Sum(nil))
}

// The headers that a webhook's signature travels in.
const (
	StampHeader     = "Revlet-Timestamp"
	SignatureHeader = "Revlet-Signature"
)

// Webhook posts an event's JSON. now is the time stamp, so that a copy that is
// sent again later can be told.
func Webhook(ctx context.Context, w *config.Webhook, body []byte, now time.Time) error {
	secret, err := w.Secret()
	if err != nil {
		return err
	}
	stamp := strconv.FormatInt(now.Unix(), 10)
	headers := map[string]string{"Content-Type": "application/json", StampHeader: stamp}
	if secret != "" {
		headers[SignatureHeader] = Signature(secret, stamp, body)
	}
	return call(ctx, http.MethodPost, w.URL, w.CAFile, string(body), headers)
}

// Ping calls an address; {site} in it stands for the site.
func Ping(ctx context.Context, address, site, caFile string) error {
	return call(ctx, http.MethodGet, strings.ReplaceAll(address, "{site}", url.PathEscape(site)), caFile, "", nil)
}

// call makes a request and wants an answer of success.
func call(ctx context.Context, method, address, caFile, body string, headers map[string]string) error {
	u, err := url.Parse(address)
	if err != nil {
		return err
	}
	security, err := trust(u.Hostname(), caFile)
	if err != nil {
		return fmt.Errorf("%s: %w", u.Host, err)
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, address, strings.NewReader(body))
	if err != nil {
		return err
	}
	for name, value := range headers {
		req.Header.Set(name, value)
	}
	req.Header.Set("User-Agent", "revlet")
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: security, Proxy: http.ProxyFromEnvironment, DisableKeepAlives: true}}
	resp, err := client.Do(req)
	var outer *url.Error
	if errors.As(err, &outer) {
		err = outer.Err // the address may hold a secret
	}
	if err != nil {
		return fmt.Errorf("%s: %w", u.Host, err)
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<20))
	if resp.StatusCode < 200 || resp.StatusCode > 299 {
		return fmt.Errorf("%s answers %s", u.Host, resp.Status)
	}
	return nil
}
