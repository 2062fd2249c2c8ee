// Package inbox runs a simulated mail server and a simulated receiver of
// webhooks and pings on this machine, which show what they get. They are
// stand-ins, for practice and for tests.
package inbox

import (
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"revlet/internal/practice/place"
)

// The ways in which a mail server does TLS.
const (
	StartTLS = "starttls"
	TLS      = "tls"
	Plain    = "plain"
)

// MailOptions say what a mail server is like.
type MailOptions struct {
	// Listen is its address; the default is a free port on loopback.
	Listen string
	// Security is StartTLS, TLS or Plain.
	Security string
	// User and Password let in; without them nobody need log in.
	User, Password string
	// Keys is a folder for the server's certificate; empty makes a new one.
	Keys string
	// Dir is where each mail is saved as a file; empty saves none.
	Dir string
	// Refuse is a recipient who is not known here.
	Refuse string
	// Received is told of each mail.
	Received func(Mail)
}

// Mail is one that was received.
type Mail struct {
	From    string
	To      []string
	Subject string
	// Text and HTML are its parts, decoded.
	Text, HTML string
	Raw        []byte
}

// MailServer is one that is running.
type MailServer struct {
	// Address is how `smtp:` names it.
	Address string
	// CAFile is the certificate to trust.
	CAFile string

	server *smtp.Server
	o      MailOptions
	mu     sync.Mutex
	count  int
}

// StartMail runs a mail server (RFC 5321) until it is closed.
func StartMail(o MailOptions) (*MailServer, error) {
	if o.Listen == "" {
		o.Listen = "127.0.0.1:0"
	}
	s := &MailServer{o: o}
	s.server = smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &mailSession{server: s, conn: c}, nil }))
	s.server.Domain, s.server.AllowInsecureAuth, s.server.ReadTimeout = "localhost", o.Security == Plain, time.Minute
	l, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return nil, err
	}
	scheme := "plain-smtp"
	if o.Security != Plain {
		pair, file, err := place.Certificate(o.Keys)
		if err != nil {
			return nil, errors.Join(err, l.Close())
		}
		s.CAFile, scheme = file, "smtp"
		s.server.TLSConfig = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
	}
	s.Address = l.Addr().String()
	if o.Security == TLS {
		scheme = "smtps"
		l = tls.NewListener(l, s.server.TLSConfig)
	}
	s.Address = scheme + "://" + s.Address
	go func() { _ = s.server.Serve(l) }()
	return s, nil
}

// Close ends the server.
func (s *MailServer) Close() error { return s.server.Close() }

// mailSession is one connection.
type mailSession struct {
	server *MailServer
	conn   *smtp.Conn
	inside bool
	mail   Mail
}

// AuthMechanisms implements smtp.AuthSession.
func (m *mailSession) AuthMechanisms() []string { return []string{sasl.Plain} }

// Auth implements smtp.AuthSession.
func (m *mailSession) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != m.server.o.User || password != m.server.o.Password {
			return smtp.ErrAuthFailed
		}
		m.inside = true
		return nil
	}), nil
}

// Mail implements smtp.Session.
func (m *mailSession) Mail(from string, _ *smtp.MailOptions) error {
	if m.server.o.User != "" && !m.inside {
		return smtp.ErrAuthRequired
	}
	if _, inTLS := m.conn.TLSConnectionState(); !inTLS && m.server.o.Security == StartTLS {
		return &smtp.SMTPError{Code: 530, EnhancedCode: smtp.EnhancedCode{5, 7, 0}, Message: "begin with STARTTLS"}
	}
	m.mail.From = from
	return nil
}

// Rcpt implements smtp.Session.
func (m *mailSession) Rcpt(to string, _ *smtp.RcptOptions) error {
	if to == m.server.o.Refuse {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody of that name here"}
	}
	m.mail.To = append(m.mail.To, to)
	return nil
}

// Data implements smtp.Session.
func (m *mailSession) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	m.mail.Raw = raw
	if err := m.mail.decode(); err != nil {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: err.Error()}
	}
	return m.server.take(m.mail)
}

// Reset implements smtp.Session.
func (m *mailSession) Reset() { m.mail = Mail{} }

// Logout implements smtp.Session.
func (m *mailSession) Logout() error { return nil }

// take saves a mail and tells of it.
func (s *MailServer) take(received Mail) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.count++
	if s.o.Dir != "" {
		if err := os.MkdirAll(s.o.Dir, 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(s.o.Dir, fmt.Sprintf("%04d.eml", s.count)), received.Raw, 0o600); err != nil {
			return err
		}
	}
	if s.o.Received != nil {
		s.o.Received(received)
	}
	return nil
}

// decode reads subject and parts (RFC 5322, RFC 2046).
func (m *Mail) decode() error {
	msg, err := mail.ReadMessage(bytes.NewReader(m.Raw))
	if err != nil {
		return err
	}
	if m.Subject, err = new(mime.WordDecoder).DecodeHeader(msg.Header.Get("Subject")); err != nil {
		return err
	}
	kind, parameters, err := mime.ParseMediaType(msg.Header.Get("Content-Type"))
	if err != nil {
		return err
	}
	if !strings.HasPrefix(kind, "multipart/") {
		return m.part(kind, msg.Header.Get("Content-Transfer-Encoding"), msg.Body)
	}
	parts := multipart.NewReader(msg.Body, parameters["boundary"])
	for {
		part, err := parts.NextRawPart()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		kind, _, err := mime.ParseMediaType(part.Header.Get("Content-Type"))
		if err == nil {
			err = m.part(kind, part.Header.Get("Content-Transfer-Encoding"), part)
		}
		if err != nil {
			return err
		}
	}
}

func (m *Mail) part(kind, encoding string, body io.Reader) error {
	if strings.EqualFold(encoding, "quoted-printable") {
		body = quotedprintable.NewReader(body)
	}
	text, err := io.ReadAll(body)
	if err != nil {
		return err
	}
	plain := strings.ReplaceAll(string(text), "\r\n", "\n")
	switch kind {
	case "text/plain":
		m.Text = plain
	case "text/html":
		m.HTML = plain
	}
	return nil
}
