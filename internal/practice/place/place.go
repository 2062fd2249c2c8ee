// Package place runs simulated remote places on this machine, for practice and
// for tests: SFTP, WebDAV, S3-style objects and FTP, in memory or on a folder,
// with faults on request. They are stand-ins, not servers to rely on.
package place

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"os"
	"path"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/afero"
)

// The kinds of places.
const (
	SFTP   = "sftp"
	WebDAV = "webdav"
	S3     = "s3"
	FTP    = "ftp"
)

// Kinds are all of them.
var Kinds = []string{SFTP, WebDAV, S3, FTP}

// Options say what a place is like.
type Options struct {
	// Dir is the folder that it serves; empty means memory.
	Dir string
	// Listen is its address; the default is a free port on loopback.
	Listen string
	// User and Password let in; for S3 they are access key and secret.
	User, Password string
	// Bucket is the one bucket of an S3 place.
	Bucket string
	// Keys is a folder that holds the place's own keys, so that it is the same
	// place when it is started again; empty makes new ones.
	Keys string
	// Plain serves without TLS, where the protocol has a choice.
	Plain  bool
	Faults *Faults
	// Grants has a WebDAV place take tokens in place of a password.
	Grants *Grants
}

// Faults are what goes wrong in a place. The zero value is a sound one. Fields
// are to be set before it starts, but for Away and Fail.
type Faults struct {
	// DropAfter cuts every connection once so many bytes have passed on it.
	DropAfter int64
	// DieAfter lets nothing answer any more once so many bytes have passed.
	DieAfter int64
	// HangAfter keeps connections open but silent once so many bytes have passed.
	HangAfter int64
	// Slow is the most bytes a second on each connection.
	Slow int64
	// Room is how many bytes may be written before the place is full.
	Room int64
	// Refuse lets nobody in.
	Refuse bool
	// Lag hides what was written so recently from listings.
	Lag time.Duration
	// AppendOnly lets nobody delete or overwrite what is there, or move it away: only
	// uploads in .incoming can be given a name that is free.
	AppendOnly bool
	// Away, while set, lets every new connection fail.
	Away atomic.Bool
	// Fail is asked before every call to the files; an error takes its place.
	Fail func(op, name string) error

	passed  atomic.Int64
	written atomic.Int64
}

// Server is a place that is running.
type Server struct {
	// Address is how a store's configuration names it.
	Address string
	// Fingerprint is that of an SFTP place's key.
	Fingerprint string
	// CAFile is the certificate to trust, for places that use TLS.
	CAFile string

	listener net.Listener
	stop     []func()
	once     sync.Once
}

// Close ends the place and every connection to it.
func (s *Server) Close() {
	s.once.Do(func() {
		_ = s.listener.Close()
		for _, f := range s.stop {
			f()
		}
	})
}

// Start runs a place until it is closed.
func Start(kind string, o Options) (*Server, error) {
	if o.Listen == "" {
		o.Listen = "127.0.0.1:0"
	}
	if o.Faults == nil {
		o.Faults = &Faults{}
	}
	if o.Bucket == "" {
		o.Bucket = "museum"
	}
	start, ok := map[string]func(*Server, Options, afero.Fs) error{SFTP: startSFTP, WebDAV: startWebDAV, S3: startS3, FTP: startFTP}[kind]
	if !ok {
		return nil, fmt.Errorf("there is no place of kind %q", kind)
	}
	var files afero.Fs = afero.NewMemMapFs()
	if o.Dir != "" {
		if err := os.MkdirAll(o.Dir, 0o700); err != nil {
			return nil, err
		}
		files = afero.NewBasePathFs(afero.NewOsFs(), o.Dir)
	}
	l, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return nil, err
	}
	conns := &connections{open: map[net.Conn]bool{}}
	s := &Server{listener: &listener{l, o.Faults, conns}, stop: []func(){conns.closeAll}}
	if err := start(s, o, &faultyFs{files, o.Faults}); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return s, nil
}

// connections remembers what is open, to close it all at once.
type connections struct {
	mu     sync.Mutex
	open   map[net.Conn]bool
	closed bool
}

func (c *connections) add(conn net.Conn) {
	c.mu.Lock()
	c.open[conn] = true
	closed := c.closed
	c.mu.Unlock()
	if closed {
		_ = conn.Close()
	}
}

func (c *connections) drop(conn net.Conn) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.open, conn)
}

func (c *connections) closeAll() {
	c.mu.Lock()
	open := slices.Collect(maps.Keys(c.open))
	c.closed = true
	c.mu.Unlock()
	for _, conn := range open {
		_ = conn.Close()
	}
}

// listener hands out connections that fail as asked.
type listener struct {
	net.Listener
	f     *Faults
	conns *connections
}

// Accept implements net.Listener.
func (l *listener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if l.f.dead() || l.f.Away.Load() {
			_ = c.Close()
			continue
		}
		faulty := &conn{Conn: c, f: l.f, conns: l.conns, done: make(chan struct{})}
		l.conns.add(faulty)
		return faulty, nil
	}
}

func (f *Faults) dead() bool { return f.DieAfter > 0 && f.passed.Load() >= f.DieAfter }

// conn is a connection that fails as asked.
type conn struct {
	net.Conn
	f      *Faults
	conns  *connections
	passed atomic.Int64
	done   chan struct{}
	once   sync.Once
}

var errCut = errors.New("cut on request")

// pass counts bytes and makes the connection fail when its time has come.
func (c *conn) pass(n int) error {
	mine, all := c.passed.Add(int64(n)), c.f.passed.Add(int64(n))
	switch {
	case c.f.DropAfter > 0 && mine >= c.f.DropAfter, c.f.dead():
		_ = c.Close()
		return errCut
	case c.f.HangAfter > 0 && all >= c.f.HangAfter:
		<-c.done
		return errCut
	case c.f.Slow > 0:
		time.Sleep(time.Duration(float64(n) / float64(c.f.Slow) * float64(time.Second)))
	}
	return nil
}

// Read implements net.Conn.
func (c *conn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if err == nil {
		err = c.pass(n)
	}
	return n, err
}

// Write implements net.Conn.
func (c *conn) Write(p []byte) (int, error) {
	if err := c.pass(len(p)); err != nil {
		return 0, err
	}
	return c.Conn.Write(p)
}

// Close implements net.Conn.
func (c *conn) Close() error {
	c.once.Do(func() { close(c.done); c.conns.drop(c) })
	return c.Conn.Close()
}

// faultyFs is a file system that fails as asked.
type faultyFs struct {
	afero.Fs
	f *Faults
}

func (f *Faults) fail(op, name string) error {
	if f.Fail == nil {
		return nil
	}
	return f.Fail(op, name)
}

// LstatIfPossible implements afero.Lstater.
func (f *faultyFs) LstatIfPossible(name string) (os.FileInfo, bool, error) {
	if l, can := f.Fs.(afero.Lstater); can {
		return l.LstatIfPossible(name)
	}
	info, err := f.Fs.Stat(name)
	return info, false, err
}

// ReadlinkIfPossible implements afero.LinkReader.
func (f *faultyFs) ReadlinkIfPossible(name string) (string, error) {
	if l, can := f.Fs.(afero.LinkReader); can {
		return l.ReadlinkIfPossible(name)
	}
	return "", &os.PathError{Op: "readlink", Path: name, Err: afero.ErrNoReadlink}
}

// Create implements afero.Fs.
func (s *faultyFs) Create(name string) (afero.File, error) {
	return s.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o666)
}

// Open implements afero.Fs.
func (s *faultyFs) Open(name string) (afero.File, error) { return s.OpenFile(name, os.O_RDONLY, 0) }

// OpenFile implements afero.Fs.
func (s *faultyFs) OpenFile(name string, flag int, perm os.FileMode) (afero.File, error) {
	if err := s.f.fail("open", name); err != nil {
		return nil, err
	}
	if flag&(os.O_WRONLY|os.O_RDWR) != 0 && s.kept(name) {
		return nil, &os.PathError{Op: "open", Path: name, Err: fs.ErrPermission}
	}
	file, err := s.Fs.OpenFile(name, flag, perm)
	if err != nil {
		return nil, err
	}
	return &faultyFile{file, s.f}, nil
}

// Rename implements afero.Fs.
func (s *faultyFs) Rename(from, to string) error {
	if err := s.f.fail("rename", to); err != nil {
		return err
	}
	if s.f.AppendOnly && (s.kept(to) || !passing(from)) {
		return &os.PathError{Op: "rename", Path: to, Err: fs.ErrPermission}
	}
	return s.Fs.Rename(from, to)
}

// kept tells whether something is there that may be neither deleted nor overwritten.
func (s *faultyFs) kept(name string) bool {
	if !s.f.AppendOnly {
		return false
	}
	_, err := s.Fs.Stat(name)
	return err == nil
}

// passing tells whether a name is one of an upload that is under way.
func passing(name string) bool { return path.Base(path.Dir(name)) == ".incoming" }

// RemoveAll implements afero.Fs.
func (s *faultyFs) RemoveAll(name string) error {
	if s.f.AppendOnly {
		return &os.PathError{Op: "remove", Path: name, Err: fs.ErrPermission}
	}
	return s.Fs.RemoveAll(name)
}

// Remove implements afero.Fs.
func (s *faultyFs) Remove(name string) error {
	if err := s.f.fail("remove", name); err != nil {
		return err
	}
	if s.f.AppendOnly {
		return &os.PathError{Op: "remove", Path: name, Err: fs.ErrPermission}
	}
	return s.Fs.Remove(name)
}

// Mkdir implements afero.Fs.
func (s *faultyFs) Mkdir(name string, perm os.FileMode) error {
	if err := s.f.fail("mkdir", name); err != nil {
		return err
	}
	return s.Fs.Mkdir(name, perm)
}

// Stat implements afero.Fs.
func (s *faultyFs) Stat(name string) (os.FileInfo, error) {
	if err := s.f.fail("stat", name); err != nil {
		return nil, err
	}
	return s.Fs.Stat(name)
}

// faultyFile is a file that fails as asked.
type faultyFile struct {
	afero.File
	f *Faults
}

func (f *faultyFile) room(n int) error {
	if err := f.f.fail("write", f.Name()); err != nil {
		return err
	}
	if f.f.Room > 0 && f.f.written.Add(int64(n)) > f.f.Room {
		return &os.PathError{Op: "write", Path: f.Name(), Err: syscall.ENOSPC}
	}
	return nil
}

// Write implements io.Writer.
func (f *faultyFile) Write(p []byte) (int, error) {
	if err := f.room(len(p)); err != nil {
		return 0, err
	}
	return f.File.Write(p)
}

// WriteAt implements io.WriterAt.
func (f *faultyFile) WriteAt(p []byte, at int64) (int, error) {
	if err := f.room(len(p)); err != nil {
		return 0, err
	}
	return f.File.WriteAt(p, at)
}

// Read implements io.Reader.
func (f *faultyFile) Read(p []byte) (int, error) {
	if err := f.f.fail("read", f.Name()); err != nil {
		return 0, err
	}
	return f.File.Read(p)
}

// Readdir implements afero.File; what is too new does not show yet.
func (f *faultyFile) Readdir(n int) ([]os.FileInfo, error) {
	if err := f.f.fail("readdir", f.Name()); err != nil {
		return nil, err
	}
	infos, err := f.File.Readdir(n)
	shown := infos[:0]
	for _, info := range infos {
		if info.IsDir() || f.f.Lag == 0 || time.Since(info.ModTime()) >= f.f.Lag {
			shown = append(shown, info)
		}
	}
	return shown, err
}

// letIn tells whether somebody may come in.
func (o Options) letIn(user, password string) bool {
	return !o.Faults.Refuse && user == o.User && password == o.Password
}

// until runs f in the background and has Close end it.
func (s *Server) until(f func(context.Context)) {
	ctx, cancel := context.WithCancel(context.Background())
	s.stop = append(s.stop, cancel)
	go f(ctx)
}
