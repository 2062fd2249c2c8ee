// Package browse shows an archive to somebody with a browser or a file manager: its folders and files, its
// tables, and what differs in another archive. Nothing can be changed through it, and nothing of the site
// runs in it.
//
// It answers to this machine only, under an address that cannot be guessed; whoever has the address can
// read the archive for as long as the program runs.
package browse

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base32"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/webdav"

	"revlet/internal/archives/catalog"
	"revlet/internal/platform/loopback"
	"revlet/internal/work/compare"
)

// Options say what is shown.
type Options struct {
	Archive *catalog.Held
	// Facts sum up what it holds: what each is called, and what it is.
	Facts [][2]string
	// Others are names of archives of the same site to compare with, the newest first.
	Others []string
	// Compare compares the archive with another one.
	Compare func(ctx context.Context, other string) (*compare.Report, error)
	// Scratch makes a file for as many bytes that nobody else can read, and that is gone once it is closed.
	Scratch func(size int64) (Scratch, error)
	// Accounts may use a ticket.
	Accounts []int
	// Listen is a loopback address; port 0 is a free one.
	Listen string
}

// Server shows one archive.
type Server struct {
	Options
	tree    *tree
	token   string
	address string
	http    *http.Server
	served  chan error
	dav     *webdav.Handler
	// reading bounds how many files and tables are read at a time.
	reading chan struct{}
	mu      sync.Mutex
	texts   compare.Texts
	// ticket is set until it is used.
	ticket string
}

// ErrNotLoopback is returned for an address that other machines could reach.
var ErrNotLoopback = errors.New("that is no address of this machine alone")

// atOnce is how many files and tables are read at a time.
const atOnce = 4

// Start reads the archive's list, and answers until Close.
func Start(ctx context.Context, o Options) (*Server, error) {
	host, _, err := net.SplitHostPort(o.Listen)
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
		return nil, fmt.Errorf("%s: %w", o.Listen, ErrNotLoopback)
	}
	s := &Server{Options: o, token: newToken(), served: make(chan error, 1), reading: make(chan struct{}, atOnce)}
	if s.tree, err = readTree(ctx, o.Archive); err != nil {
		return nil, err
	}
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", o.Listen)
	if err != nil {
		return nil, err
	}
	s.address = l.Addr().String()
	s.dav = &webdav.Handler{Prefix: "/" + s.token + davPrefix, FileSystem: davTree{s}, LockSystem: webdav.NewMemLS()}
	s.http = &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute}
	go func() { s.served <- s.http.Serve(l) }()
	return s, nil
}

// newToken makes an address that cannot be guessed.
func newToken() string {
	b := make([]byte, 20)
	_, _ = rand.Read(b) // it never fails
	return strings.ToLower(base32.StdEncoding.EncodeToString(b))
}

// URL is where the archive is shown, Folder where a file manager finds its files (RFC 4918).
func (s *Server) URL() string    { return "http://" + s.address + "/" + s.token + "/" }
func (s *Server) Folder() string { return "dav://" + s.address + "/" + s.token + davPrefix + "/" }

// ticketPrefix is where a ticket is used.
const ticketPrefix = "/open/"

// Ticket is an address that leads to URL, once, and only a program of one of the accounts. So others may see it, as they see
// the words of a command. It is empty where the system does not tell whose a connection is.
func (s *Server) Ticket() string {
	at, err := netip.ParseAddrPort(s.address)
	if err != nil {
		return ""
	}
	if _, known, err := loopback.Peers(at, at); err != nil || !known {
		return ""
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ticket = newToken()
	return "http://" + s.address + ticketPrefix + s.ticket
}

// takes tells whether a request has the ticket and may use it; it is used then.
func (s *Server) takes(r *http.Request) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ticket == "" || r.Method != http.MethodGet || subtle.ConstantTimeCompare([]byte(r.URL.Path), []byte(ticketPrefix+s.ticket)) != 1 {
		return false
	}
	from, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		return false
	}
	to, err := netip.ParseAddrPort(s.address)
	if err != nil {
		return false
	}
	uids, known, err := loopback.Peers(from, to)
	if err != nil || !known || len(uids) != 1 || !slices.Contains(s.Accounts, uids[0]) {
		return false
	}
	s.ticket = ""
	return true
}

// Close ends it.
func (s *Server) Close() error {
	err := s.http.Close()
	if ended := <-s.served; !errors.Is(ended, http.ErrServerClosed) {
		err = errors.Join(err, ended)
	}
	return err
}

// davPrefix is where the folder for file managers begins.
const davPrefix = "/folder"

// ServeHTTP implements http.Handler. A page elsewhere that makes a browser ask here does not know the token, and
// one that has its own name lead to this machine is told by the host.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'; sandbox allow-forms allow-downloads allow-same-origin")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Cache-Control", "no-store")
	if r.Host == s.address && s.takes(r) {
		http.Redirect(w, r, s.URL(), http.StatusSeeOther)
		return
	}
	token, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	if r.Host != s.address || subtle.ConstantTimeCompare([]byte(token), []byte(s.token)) != 1 {
		http.Error(w, "There is nothing here.", http.StatusNotFound)
		return
	}
	if in := "/" + rest; in == davPrefix || strings.HasPrefix(in, davPrefix+"/") {
		switch r.Method {
		case http.MethodGet, http.MethodHead, http.MethodOptions, "PROPFIND":
			s.dav.ServeHTTP(w, r)
		default:
			http.Error(w, "An archive cannot be changed.", http.StatusForbidden)
		}
		return
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		http.Error(w, "An archive can only be read.", http.StatusMethodNotAllowed)
		return
	}
	s.page(w, r, rest)
}
