// Package ftp keeps archives on another machine over FTP (RFC 959), inside TLS
// (RFC 4217) unless that is given up by name.
package ftp

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"

	"revlet/internal/store"
	"revlet/internal/store/connpool"
)

// Options say where the store is and how to get in.
type Options struct {
	// Host is host:port.
	Host           string
	User, Password string
	// Dir is the store's folder; one without a leading slash starts where the
	// server puts the account.
	Dir string
	// TLS is how the server's certificate is judged; nil sends everything, the
	// password too, in the clear.
	TLS *tls.Config
	// Lanes is the most connections at a time.
	Lanes int
	// AppendOnly is for an account that may neither delete nor overwrite: nothing is asked
	// for that the far end would refuse. See package appendonly.
	AppendOnly bool
	Where      string
}

// Store is a folder on an FTP server.
type Store struct {
	store.Unprotected
	store.ByFolder
	o       Options
	pool    *connpool.Pool[*client]
	uploads *store.Uploads
}

// client is one control connection, with the data connections it makes.
type client struct {
	*ftp.ServerConn
	mu     sync.Mutex
	conns  []net.Conn
	closed bool
	// listing bounds what comes over a data connection while a folder is listed, lines
	// counts what it consists of.
	listing store.Meter
	lines   lines
}

// lines counts the lines of a listing that name something.
type lines struct {
	n     int
	begun []byte // of the line that is being read, what tells whether it does
}

// took is told of more of the listing.
func (l *lines) took(p []byte) {
	for _, c := range p {
		switch {
		case c == '\n':
			l.end()
		case len(l.begun) < len(total) && (len(l.begun) > 0 || c > ' '):
			l.begun = append(l.begun, c)
		}
	}
}

// total begins a line that sums a listing up, as `ls -l` does.
const total = "total "

func (l *lines) end() {
	if len(l.begun) > 0 && string(l.begun) != total {
		l.n++
	}
	l.begun = l.begun[:0]
}

// listedConn is a data connection whose content is counted, outside of TLS.
type listedConn struct {
	net.Conn
	lines *lines
}

// Read implements net.Conn.
func (c listedConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.lines.took(p[:n])
	return n, err
}

// Handshake has the client library begin TLS where nothing is written.
func (c listedConn) Handshake() error {
	if t, ok := c.Conn.(*tls.Conn); ok {
		return t.Handshake()
	}
	return nil
}

// metered is a connection whose reading is bounded.
type metered struct {
	net.Conn
	meter *store.Meter
	// each has every command begin a new answer.
	each bool
}

// Read implements net.Conn.
func (c metered) Read(p []byte) (int, error) { return c.meter.Reader(c.Conn).Read(p) }

// Write implements net.Conn.
func (c metered) Write(p []byte) (int, error) {
	if c.each {
		c.meter.Bound(longestReply)
	}
	return c.Conn.Write(p)
}

// Close ends everything at once, and what is still being connected as soon as
// it is.
func (c *client) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed = true
	for _, conn := range c.conns {
		_ = conn.Close()
	}
	return nil
}

// keep remembers a new connection, to close it with the client.
func (c *client) keep(conn net.Conn) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		return errors.Join(net.ErrClosed, conn.Close())
	}
	c.conns = append(c.conns[:min(len(c.conns), 1)], conn) // control, newest data
	return nil
}

const (
	dialTimeout = 20 * time.Second
	// longestReply is how many bytes a server may say between two commands, TLS included.
	longestReply = 1 << 20
)

// unsure is how much of the end of a cut upload may not have been written.
const unsure = 1 << 20

// New returns the store; nothing is connected yet.
func New(o Options) *Store {
	s := &Store{o: o, uploads: store.NewUploads()}
	s.ByFolder = store.ByFolder{Read: s.readDir}
	s.pool = connpool.New(o.Lanes, s.dial)
	return s
}

func (s *Store) dial(ctx context.Context) (*client, error) {
	c := &client{}
	security := s.o.TLS
	if security != nil {
		// Servers want data connections to resume the session of their control
		// connection, so that nobody else can take one over.
		security = security.Clone()
		security.ClientSessionCache = tls.NewLRUClientSessionCache(1)
	}
	dialer := net.Dialer{Timeout: dialTimeout}
	first := true
	connect := func(network, address string) (net.Conn, error) {
		if !first {
			address = s.dataAddress(address)
		}
		conn, err := dialer.DialContext(context.WithoutCancel(ctx), network, address)
		if err != nil {
			return nil, err
		}
		if err := c.keep(conn); err != nil {
			return nil, err
		}
		if first {
			first = false
			control := metered{conn, &store.Meter{}, true}
			control.meter.Bound(longestReply)
			return control, nil
		}
		conn = metered{conn, &c.listing, false}
		if security != nil {
			conn = tls.Client(conn, security)
		}
		return listedConn{conn, &c.lines}, nil
	}
	stop := context.AfterFunc(ctx, func() { _ = c.Close() })
	defer stop()
	options := []ftp.DialOption{ftp.DialWithDialFunc(connect)}
	if security != nil {
		options = append(options, ftp.DialWithExplicitTLS(security))
	}
	conn, err := ftp.Dial(s.o.Host, options...)
	if err != nil {
		_ = c.Close()
		return nil, s.explainDial(err)
	}
	c.ServerConn = conn
	if err := conn.Login(s.o.User, s.o.Password); err != nil {
		_ = c.Close()
		if answer(err) == ftp.StatusNotLoggedIn {
			return nil, store.Refuse("%s does not let %q in: wrong user or password (%w)", s.o.Where, s.o.User, err)
		}
		return nil, s.explainDial(err)
	}
	return c, nil
}

// dataAddress is where a data connection goes: to the port that the server names, of the
// machine that was asked. The address that it may name as well (RFC 959, PASV) is often one
// behind a router, and could be anybody's.
func (s *Store) dataAddress(named string) string {
	host, _, err1 := net.SplitHostPort(s.o.Host)
	_, port, err2 := net.SplitHostPort(named)
	if err1 != nil || err2 != nil {
		return named
	}
	return net.JoinHostPort(host, port)
}

func (s *Store) explainDial(err error) error {
	if bad := store.CertificateError(s.o.Where, err); bad != nil {
		return bad
	}
	if code := answer(err); s.o.TLS != nil && code >= 500 && code < 530 {
		return store.Refuse("%s offers no TLS (%w); if the password may travel in the clear, write `plain_ftp:` instead of `ftp:`", s.o.Where, err)
	}
	return fmt.Errorf("connect to %s: %w", s.o.Where, store.Brief(err))
}

// answer is the code of the server's answer in an error, or 0.
func answer(err error) int {
	var e *textproto.Error
	if errors.As(err, &e) {
		return e.Code
	}
	return 0
}

func clean(err error) bool {
	code := answer(err)
	return code >= 500 || errors.Is(err, store.ErrNotFound) || errors.Is(err, store.ErrRefused)
}

func (s *Store) do(ctx context.Context, work func(*client) error) error {
	return s.pool.Do(ctx, clean, work)
}

func explain(name string, err error) error {
	switch answer(err) {
	case 0:
		if err == nil {
			return nil
		}
	case ftp.StatusFileUnavailable:
		if strings.Contains(strings.ToLower(err.Error()), "denied") {
			return store.Refuse("%s: the far end denies permission (%w)", name, err)
		}
		return fmt.Errorf("%w (%w)", store.Missing(name), err)
	case ftp.StatusExceededStorage, 452:
		return fmt.Errorf("%s: %w at the far end (%w)", name, store.ErrFull, err)
	case ftp.StatusBadFileName:
		return store.Refuse("%s: the far end refuses the name (%w)", name, err)
	}
	return fmt.Errorf("%s: %w", name, err)
}

func (s *Store) path(name string) string { return path.Join(s.o.Dir, name) }

// Where implements store.Store.
func (s *Store) Where() string { return s.o.Where }

// Offsite implements store.Store.
func (s *Store) Offsite() bool { return true }

// Close implements store.Store.
func (s *Store) Close() error { return s.pool.Close() }

// Check implements store.Store. The store's folder is made if need be.
func (s *Store) Check(ctx context.Context) error {
	return s.do(ctx, func(c *client) error {
		if err := s.mkdir(c, store.Incoming); err != nil {
			return err
		}
		if s.o.AppendOnly {
			return nil // a probe would stay; the first object tells
		}
		probe := s.path(s.uploads.Probe())
		if err := c.Stor(probe, strings.NewReader("probe")); err != nil {
			return writeError("the folder "+s.o.Dir, err)
		}
		if err := c.Delete(probe); answer(err) != 0 {
			return store.NoDeletion(err)
		} else if err != nil {
			return explain("the folder "+s.o.Dir, err)
		}
		left, err := listed(c, s.path(store.Incoming))
		if err != nil {
			return explain(store.Incoming, err)
		}
		s.uploads.ClearStale(left, func(name string) error { return c.Delete(s.path(name)) })
		return nil
	})
}

func (s *Store) temporary(name string) string { return s.path(s.uploads.Temporary(name)) }

// mkdir makes a folder and those above it, once for each run. That one exists
// already has no answer of its own in FTP, so only the last error counts.
func (s *Store) mkdir(c *client, dir string) error {
	return s.uploads.Folder(dir, func() error { return s.makeFolders(c, dir) })
}

func (s *Store) makeFolders(c *client, dir string) error {
	whole, last := s.path(dir), error(nil)
	for i, r := range whole + "/" {
		if r == '/' && i > 0 {
			last = c.MakeDir(whole[:i])
		}
	}
	if answer(last) == 0 && last != nil {
		return last
	}
	if last != nil {
		_, err := c.list(whole)
		if err != nil && answer(err) == 0 {
			return err
		}
		if err != nil {
			return store.Refuse("make the folder %s: %w", whole, last)
		}
	}
	return nil
}

// Put implements store.Store. What an upload that was cut has brought over is
// kept, so that the next try with the same name goes on from there.
func (s *Store) Put(ctx context.Context, name string, src io.ReadSeeker, size int64) error {
	return s.do(ctx, func(c *client) error {
		if err := s.mkdir(c, store.Incoming); err != nil {
			return err
		}
		temporary := s.temporary(name)
		if s.o.AppendOnly {
			temporary = s.path(s.uploads.Once(name))
		}
		var from int64
		if there, err := c.FileSize(temporary); err == nil && there <= size {
			from = max(there-unsure, 0)
		}
		if _, err := src.Seek(from, io.SeekStart); err != nil {
			return err
		}
		if err := c.StorFrom(temporary, src, uint64(from)); err != nil {
			return writeError(name, err)
		}
		if there, err := s.size(c, temporary); err != nil || there != size {
			_ = c.Delete(temporary)
			return errors.Join(fmt.Errorf("%s: %d bytes arrived, %d were sent", name, there, size), err)
		}
		if err := s.mkdir(c, path.Dir(name)); err != nil {
			return err
		}
		return s.rename(c, name, temporary)
	})
}

// Abandon removes what a cut upload has brought over.
func (s *Store) Abandon(ctx context.Context, name string) error {
	return s.do(ctx, func(c *client) error { return c.Delete(s.temporary(name)) })
}

// writeError explains an error of a write, where an unavailable file is not
// one that is missing.
func writeError(name string, err error) error {
	if code := answer(err); code == ftp.StatusFileUnavailable {
		return store.Refuse("%s cannot be written at the far end: %w", name, err)
	}
	return explain(name, err)
}

// rename puts a finished upload in its place. Not every server replaces a file
// that is there already.
func (s *Store) rename(c *client, name, temporary string) error {
	err := c.Rename(temporary, s.path(name))
	if err != nil && answer(err) != 0 {
		there, statErr := s.size(c, s.path(name))
		if statErr == nil && s.o.AppendOnly {
			if info, err := s.size(c, temporary); err == nil && info == there {
				return nil // another machine was faster with the same object
			}
			return fmt.Errorf("%s is there already: %w", name, store.ErrKeeper)
		}
		if statErr == nil {
			if err := c.Delete(s.path(name)); err != nil {
				return explain(name, err)
			}
			err = c.Rename(temporary, s.path(name))
		}
	}
	if err != nil {
		return writeError(name, err)
	}
	return nil
}

// size asks for a file's length; servers without SIZE are asked for a listing.
func (s *Store) size(c *client, file string) (int64, error) {
	n, err := c.FileSize(file)
	if code := answer(err); code != 500 && code != 502 && code != 504 {
		return n, err
	}
	entries, err := c.list(path.Dir(file))
	if err != nil {
		return 0, err
	}
	for _, e := range entries {
		if path.Base(e.Name) == path.Base(file) {
			return int64(e.Size), nil
		}
	}
	return 0, &textproto.Error{Code: ftp.StatusFileUnavailable, Msg: "no such file"}
}

// Open implements store.Store.
func (s *Store) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	lease, err := s.pool.Take(ctx)
	if err != nil {
		return nil, err
	}
	r, err := lease.Conn.RetrFrom(s.path(name), uint64(offset))
	if err != nil {
		err = explain(name, err)
		lease.Release(clean(err))
		return nil, err
	}
	return &reader{Response: r, lease: lease}, nil
}

// reader is a transfer under way.
type reader struct {
	*ftp.Response
	lease *connpool.Lease[*client]
	ended bool
}

// Read implements io.Reader. A data connection that ends says nothing about
// whether the file did: only the server's last word on the control connection
// does.
func (r *reader) Read(p []byte) (int, error) {
	n, err := r.Response.Read(p)
	if errors.Is(err, io.EOF) && !r.ended {
		r.ended = true
		closeErr := r.Response.Close()
		r.lease.Release(closeErr == nil)
		if closeErr != nil {
			return n, fmt.Errorf("the transfer broke off: %w", closeErr)
		}
	}
	return n, err
}

// Close implements io.Closer. A transfer that is broken off costs the connection.
func (r *reader) Close() error {
	if !r.ended {
		r.ended = true
		r.lease.Release(false)
	}
	return nil
}

// Stat implements store.Store.
func (s *Store) Stat(ctx context.Context, name string) (info store.Info, err error) {
	err = s.do(ctx, func(c *client) error {
		n, err := s.size(c, s.path(name))
		info = store.Info{Name: name, Bytes: n}
		return explain(name, err)
	})
	return info, err
}

func (s *Store) readDir(ctx context.Context, dir string) (entries []store.Entry, err error) {
	err = s.do(ctx, func(c *client) error {
		if entries, err = listed(c, s.path(dir)); err != nil {
			return explain(dir, err)
		}
		return nil
	})
	return entries, err
}

// list reads one folder, as far as it has an end. The client library passes over what it
// cannot read: a listing with such lines is refused, for what they name would not be there.
func (c *client) list(dir string) ([]*ftp.Entry, error) {
	defer c.listing.Bound(store.LongestAnswer)()
	c.lines = lines{}
	entries, err := c.List(dir)
	c.lines.end()
	if err == nil && c.lines.n != len(entries) {
		return nil, store.Refuse("the server lists %s in a form that is not understood: of %d lines %d can be read", dir, c.lines.n, len(entries))
	}
	return entries, err
}

// listed reads one folder.
func listed(c *client, dir string) ([]store.Entry, error) {
	files, err := c.list(dir)
	var entries []store.Entry
	for _, e := range files {
		if e.Name != "." && e.Name != ".." {
			entries = append(entries, store.Entry{Info: store.Info{Name: path.Base(e.Name), Bytes: int64(e.Size), Changed: e.Time}, Folder: e.Type == ftp.EntryTypeFolder})
		}
	}
	return entries, err
}

// Remove implements store.Store.
func (s *Store) Remove(ctx context.Context, name string) error {
	return s.do(ctx, func(c *client) error {
		err := explain(name, c.Delete(s.path(name)))
		if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if gone, listErr := s.absent(c, s.path(name)); !gone {
			return fmt.Errorf("remove %s: %v", name, errors.Join(err, listErr))
		}
		return nil
	})
}

// absent makes sure that something is not there: FTP has one answer for that
// and for what cannot be done. The nearest folder that can be read tells.
func (s *Store) absent(c *client, file string) (bool, error) {
	for {
		dir := path.Dir(file)
		entries, err := c.list(dir)
		if err == nil {
			return !slices.ContainsFunc(entries, func(e *ftp.Entry) bool { return path.Base(e.Name) == path.Base(file) }), nil
		}
		if dir == file || dir == s.o.Dir || dir == "." {
			return false, err
		}
		file = dir
	}
}
