package database

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"

	"revlet/internal/platform/reason"
)

// The ways in which a server that is not on this machine is spoken to.
const (
	// TLSVerify demands TLS, and a certificate for the server's name that is trusted. It
	// is what holds where nothing is said.
	TLSVerify = "verify"
	// TLSUnverified demands TLS and takes any certificate: nobody who only listens reads
	// along.
	TLSUnverified = "unverified"
	// TLSOff sends everything as it is, the password too.
	TLSOff = "off"
)

// TLS says how a connection to a server is protected.
type TLS struct {
	// Mode is one of the ways; empty is TLSVerify for a server elsewhere, and TLSOff for
	// one on this machine.
	Mode string `json:"mode,omitempty"`
	// CAFile holds certificates, in PEM, of authorities that are trusted beside the
	// system's.
	CAFile string `json:"ca_file,omitempty"`
}

// Config is what a connection to a host is made with; nil for one without TLS.
func (t TLS) Config(host string) (*tls.Config, error) {
	mode := t.Mode
	if mode == "" {
		if mode = TLSVerify; onThisMachine(host) {
			mode = TLSOff
		}
	}
	switch mode {
	case TLSOff:
		return nil, nil
	case TLSUnverified:
		return &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true}, nil // #nosec G402 -- asked for by name
	case TLSVerify:
		c := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: host}
		if t.CAFile == "" {
			return c, nil
		}
		text, err := os.ReadFile(t.CAFile)
		if err != nil {
			return nil, fmt.Errorf("`ca_file:` %w", err)
		}
		if c.RootCAs, err = x509.SystemCertPool(); err != nil {
			c.RootCAs = x509.NewCertPool()
		}
		if !c.RootCAs.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("`ca_file:` %s holds no certificate", t.CAFile)
		}
		return c, nil
	}
	return nil, fmt.Errorf("`tls: %s`: it is %s, %s or %s", t.Mode, TLSVerify, TLSUnverified, TLSOff)
}

// onThisMachine tells whether what is sent to a host stays on this machine. An empty one
// stands for a socket.
func onThisMachine(host string) bool {
	ip := net.ParseIP(host)
	return host == "" || host == "localhost" || ip != nil && ip.IsLoopback()
}

// ExplainTLS gives the error of a connection a reason if it is that the server speaks no
// TLS, or that its certificate is not trusted; it returns nil for others.
func ExplainTLS(err error, noTLS bool, where string) error {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var verification *tls.CertificateVerificationError
	switch {
	case noTLS:
		return reason.New(reason.NoTLS, nil, "the database server at %s speaks no TLS, and is not on this machine: the password and all content would go over the line for all to read", where)
	case errors.As(err, &unknown), errors.As(err, &name), errors.As(err, &invalid), errors.As(err, &verification):
		return reason.New(reason.Untrusted, nil, "the certificate of the database server at %s is not trusted: %w", where, err)
	}
	return nil
}
