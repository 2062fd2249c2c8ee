package store

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"time"
)

// TLS returns how certificates are judged: by the system's authorities and, if
// one is named, those in a PEM file.
func TLS(caFile string) (*tls.Config, error) {
	c := &tls.Config{MinVersion: tls.VersionTLS12, ClientSessionCache: tls.NewLRUClientSessionCache(16)}
	if caFile == "" {
		return c, nil
	}
	pem, err := os.ReadFile(caFile)
	if err != nil {
		return nil, fmt.Errorf("read `ca_file:`: %w", err)
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("%s (`ca_file:`) holds no certificate in PEM", caFile)
	}
	c.RootCAs = pool
	return c, nil
}

// Transport returns an HTTP transport for a store. For how long the far end may be silent
// is bounded elsewhere; here it is for a connection, and the length of an answer: longest
// is LongestAnswer or LongestPage.
func Transport(tlsConfig *tls.Config, lanes int, longest int64) http.RoundTripper {
	return boundedTransport{aliveTransport{&http.Transport{
		Proxy: http.ProxyFromEnvironment, TLSClientConfig: tlsConfig,
		DialContext:         (&net.Dialer{Timeout: 20 * time.Second, KeepAlive: 30 * time.Second}).DialContext,
		TLSHandshakeTimeout: 20 * time.Second, ExpectContinueTimeout: 3 * time.Second, MaxIdleConnsPerHost: lanes, IdleConnTimeout: time.Minute,
		WriteBufferSize: 256 << 10, ReadBufferSize: 256 << 10, DisableCompression: true,
	}}, longest}
}

// aliveTransport tells of progress as bodies go out: a client library may have
// read one into memory long before.
type aliveTransport struct{ *http.Transport }

// RoundTrip implements http.RoundTripper.
func (t aliveTransport) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.Body != nil && r.Body != http.NoBody {
		r = r.Clone(r.Context())
		r.Body = aliveBody{r.Body, func() { Alive(r.Context()) }}
	}
	return t.Transport.RoundTrip(r)
}

type aliveBody struct {
	io.ReadCloser
	alive func()
}

func (b aliveBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	b.alive()
	return n, err
}

// CertificateError words an error about a certificate, or returns nil when err
// is about something else.
func CertificateError(where string, err error) error {
	var unknown x509.UnknownAuthorityError
	var wrong x509.HostnameError
	var invalid x509.CertificateInvalidError
	var failed *tls.CertificateVerificationError
	if errors.As(err, &unknown) || errors.As(err, &wrong) || errors.As(err, &invalid) || errors.As(err, &failed) {
		return Refuse("the certificate of %s is not trusted (%w); if it is your own, name its authority's certificate in `ca_file:`", where, err)
	}
	return nil
}

// HTTPError words an error from below HTTP: certificates, addresses, networks.
func HTTPError(where string, err error) error {
	if err == nil {
		return nil
	}
	if bad := CertificateError(where, err); bad != nil {
		return bad
	}
	return fmt.Errorf("%s: %w", where, Brief(err))
}

// Brief leaves out of an error of the network what was said before it: the
// address once more, and names of calls.
func Brief(err error) error {
	var request *url.Error
	if errors.As(err, &request) {
		err = request.Err // the address may hold what need not be shown
	}
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	var call *os.SyscallError
	if errors.As(err, &call) {
		err = call.Err
	}
	return err
}
