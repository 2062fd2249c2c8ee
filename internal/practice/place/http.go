package place

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3afero"
	"github.com/spf13/afero"
	"golang.org/x/net/webdav"
)

func startWebDAV(s *Server, o Options, files afero.Fs) error {
	h := &webdav.Handler{FileSystem: davFiles{files}, LockSystem: webdav.NewMemLS()}
	answer := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if o.Grants != nil && o.Grants.serve(w, r, s.Address) {
			return
		}
		user, password, _ := r.BasicAuth()
		if o.Grants != nil && (o.Faults.Refuse || !o.Grants.good(r)) {
			w.Header().Set("WWW-Authenticate", `Bearer realm="stand-in"`)
			http.Error(w, "not let in", http.StatusUnauthorized)
			return
		}
		if o.Grants == nil && !o.letIn(user, password) {
			w.Header().Set("WWW-Authenticate", `Basic realm="stand-in"`)
			http.Error(w, "not let in", http.StatusUnauthorized)
			return
		}
		if o.Faults.Room > 0 && r.Method == http.MethodPut && o.Faults.written.Load()+r.ContentLength > o.Faults.Room {
			http.Error(w, "full", http.StatusInsufficientStorage)
			return
		}
		if status := o.Faults.refusesDAV(files, r); status != 0 {
			http.Error(w, "this account may only add", status)
			return
		}
		h.ServeHTTP(w, r)
	})
	return s.serveHTTP(o, answer, "")
}

// refusesDAV answers as a server does whose rules let an account add only: 0 lets pass.
func (f *Faults) refusesDAV(files afero.Fs, r *http.Request) int {
	exists := func(name string) bool { _, err := files.Stat(name); return err == nil }
	to, _ := url.Parse(r.Header.Get("Destination"))
	switch {
	case !f.AppendOnly:
	case r.Method == http.MethodDelete, r.Method == "PROPPATCH", r.Method == "COPY":
		return http.StatusForbidden
	case r.Method == http.MethodPut && exists(r.URL.Path):
		return http.StatusPreconditionFailed
	case r.Method == "MOVE" && (to == nil || exists(to.Path)):
		return http.StatusPreconditionFailed
	case r.Method == "MOVE" && !passing(r.URL.Path):
		return http.StatusForbidden
	}
	return 0
}

// davFiles is a file system as the WebDAV handler wants it.
type davFiles struct{ afero.Fs }

// Mkdir implements webdav.FileSystem.
func (d davFiles) Mkdir(_ context.Context, name string, perm os.FileMode) error {
	return d.Fs.Mkdir(name, perm)
}

// OpenFile implements webdav.FileSystem.
func (d davFiles) OpenFile(_ context.Context, name string, flag int, perm os.FileMode) (webdav.File, error) {
	return d.Fs.OpenFile(name, flag, perm)
}

// RemoveAll implements webdav.FileSystem.
func (d davFiles) RemoveAll(_ context.Context, name string) error {
	if info, err := d.Fs.Stat(name); err == nil && !info.IsDir() {
		return d.Fs.Remove(name)
	}
	return d.Fs.RemoveAll(name)
}

// Rename implements webdav.FileSystem.
func (d davFiles) Rename(_ context.Context, from, to string) error { return d.Fs.Rename(from, to) }

// Stat implements webdav.FileSystem.
func (d davFiles) Stat(_ context.Context, name string) (os.FileInfo, error) { return d.Fs.Stat(name) }

// startS3 has faults happen to whole requests: the files below know nothing of
// them but which are too new to show.
func startS3(s *Server, o Options, files afero.Fs) error {
	files = &faultyFs{files.(*faultyFs).Fs, &Faults{Lag: o.Faults.Lag}}
	backend, err := s3afero.MultiBucket(files)
	if err != nil {
		return err
	}
	if err := backend.CreateBucket(o.Bucket); err != nil && !gofakes3.HasErrorCode(err, gofakes3.ErrBucketAlreadyExists) {
		return err
	}
	inner := gofakes3.New(backend, gofakes3.WithTimeSkewLimit(0), gofakes3.WithLogger(gofakes3.DiscardLog())).Server()
	answer := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case o.Faults.Refuse, !strings.Contains(r.Header.Get("Authorization"), "Credential="+o.User+"/"):
			s3Error(w, http.StatusForbidden, "InvalidAccessKeyId", "the access key is not known")
		case o.Faults.Room > 0 && r.Method == http.MethodPut && o.Faults.written.Add(r.ContentLength) > o.Faults.Room:
			s3Error(w, http.StatusInsufficientStorage, "XMinioStorageFull", "the place is full")
		case o.Faults.AppendOnly && (r.Method == http.MethodDelete || r.URL.Query().Has("delete")):
			s3Error(w, http.StatusForbidden, "AccessDenied", "this account may only add")
		case o.Faults.AppendOnly && r.Method == http.MethodPut && held(backend, r.URL.Path):
			s3Error(w, http.StatusPreconditionFailed, "PreconditionFailed", "there is an object of that name")
		case o.Faults.fail(r.Method, r.URL.Path) != nil:
			s3Error(w, http.StatusInternalServerError, "InternalError", "it failed on request")
		default:
			// An object appears whole or not at all: the body comes first.
			body, err := io.ReadAll(r.Body)
			if err != nil {
				s3Error(w, http.StatusBadRequest, "IncompleteBody", "the body ends early")
				return
			}
			r.Body = io.NopCloser(bytes.NewReader(body))
			inner.ServeHTTP(w, r)
		}
	})
	return s.serveHTTP(o, answer, "/"+o.Bucket)
}

// held tells whether an object of a path is there.
func held(backend gofakes3.Backend, path string) bool {
	bucket, key, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	_, err := backend.HeadObject(bucket, key)
	return err == nil
}

func s3Error(w http.ResponseWriter, status int, code, message string) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	fmt.Fprintf(w, `<?xml version="1.0" encoding="UTF-8"?><Error><Code>%s</Code><Message>%s</Message></Error>`, code, message)
}

// serveHTTP answers over TLS, or plainly when that was asked for.
func (s *Server) serveHTTP(o Options, h http.Handler, path string) error {
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	scheme := "http"
	if !o.Plain {
		certificate, file, err := Certificate(o.Keys)
		if err != nil {
			return err
		}
		s.CAFile, scheme = file, "https"
		server.TLSConfig = &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12}
	}
	s.Address = fmt.Sprintf("%s://%s%s", scheme, s.listener.Addr(), path)
	s.until(func(context.Context) {
		if o.Plain {
			_ = server.Serve(s.listener)
		} else {
			_ = server.ServeTLS(s.listener, "", "")
		}
	})
	s.stop = append(s.stop, func() { _ = server.Close() })
	return nil
}

// Certificate reads a stand-in's certificate and key from a folder, or makes
// them there; without a folder, in a passing one.
func Certificate(dir string) (tls.Certificate, string, error) {
	if dir == "" {
		var err error
		if dir, err = os.MkdirTemp("", "revlet-standin-"); err != nil {
			return tls.Certificate{}, "", err
		}
	}
	certFile, keyFile := filepath.Join(dir, "certificate.pem"), filepath.Join(dir, "certificate.key")
	if pair, err := tls.LoadX509KeyPair(certFile, keyFile); err == nil {
		return pair, certFile, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, "", err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "stand-in"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(10, 0, 0), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return tls.Certificate{}, "", err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return tls.Certificate{}, "", err
	}
	err = errors.Join(os.MkdirAll(dir, 0o700),
		os.WriteFile(certFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600),
		os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600))
	if err != nil {
		return tls.Certificate{}, "", err
	}
	pair, err := tls.LoadX509KeyPair(certFile, keyFile)
	return pair, certFile, err
}

func isFull(err error) bool { return errors.Is(err, syscall.ENOSPC) }
