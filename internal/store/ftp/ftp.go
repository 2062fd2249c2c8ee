// Package ftp keeps archives on another machine over FTP (RFC 959), inside TLS
// (RFC 4217) unless that is given up by name.
package ftp

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net/textproto"
	"path"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"revlet/internal/store"
	"revlet/internal/store/connpool"
	"revlet/internal/store/ftpconn"
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
	// cut is set once a connection or a transfer has broken off.
	cut atomic.Bool
}

// client is a connection to the server.
type client struct {
	*ftpconn.Conn
	// dir is the store's folder, as the server has it.
	dir string
}

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
	d := ftpconn.Dialer{Host: s.o.Host, User: s.o.User, Password: s.o.Password, TLS: s.o.TLS, Where: s.o.Where,
		Clear: "write `plain_ftp:` instead of `ftp:`", Longest: store.LongestAnswer}
	conn, err := d.Dial(ctx)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	c := &client{Conn: conn, dir: s.o.Dir}
	if !path.IsAbs(c.dir) {
		home, err := conn.Folder()
		if err == nil && !path.IsAbs(home) {
			err = fmt.Errorf("the account's folder is %.100q", home)
		}
		if err != nil {
			return nil, errors.Join(fmt.Errorf("connect to %s: %w", s.o.Where, err), conn.Close())
		}
		c.dir = path.Join(home, c.dir)
	}
	return c, nil
}

// path is an object's on the server.
func (c *client) path(name string) string { return path.Join(c.dir, name) }

// clean tells of an error that the connection is still of use after it.
func (s *Store) clean(err error) bool {
	is := ftpconn.Answered(err) || errors.Is(err, store.ErrNotFound) || errors.Is(err, store.ErrRefused)
	if !is {
		s.cut.Store(true)
	}
	return is
}

// unavailable is the code of the answer that a file is not there, or cannot be had (RFC 959).
const unavailable = 550

func (s *Store) do(ctx context.Context, work func(*client) error) error {
	return s.pool.Do(ctx, s.clean, work)
}

func explain(name string, err error) error {
	switch ftpconn.Code(err) {
	case 0:
		if err == nil {
			return nil
		}
	case unavailable:
		if strings.Contains(strings.ToLower(err.Error()), "denied") {
			return store.Refuse("%s: the far end denies permission (%w)", name, err)
		}
		return fmt.Errorf("%w (%w)", store.Missing(name), err)
	case 552, 452:
		return fmt.Errorf("%s: %w at the far end (%w)", name, store.ErrFull, err)
	case 553:
		return store.Refuse("%s: the far end refuses the name (%w)", name, err)
	}
	return fmt.Errorf("%s: %w", name, err)
}

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
		probe := c.path(s.uploads.Probe())
		if err := s.put(c, probe, 0, strings.NewReader("probe")); err != nil {
			return writeError("the folder "+s.o.Dir, err)
		}
		if err := c.Delete(probe); ftpconn.Code(err) != 0 {
			return store.NoDeletion(err)
		} else if err != nil {
			return explain("the folder "+s.o.Dir, err)
		}
		left, err := s.listed(c, c.path(store.Incoming))
		if err != nil {
			return explain(store.Incoming, err)
		}
		s.uploads.ClearStale(left, func(name string) error { return c.Delete(c.path(name)) })
		return nil
	})
}

func (s *Store) temporary(c *client, name string) string { return c.path(s.uploads.Temporary(name)) }

// mkdir makes a folder and those above it, once for each run. That one exists
// already has no answer of its own in FTP, so only the last error counts.
func (s *Store) mkdir(c *client, dir string) error {
	return s.uploads.Folder(dir, func() error { return s.makeFolders(c, dir) })
}

func (s *Store) makeFolders(c *client, dir string) error {
	whole, last := c.path(dir), error(nil)
	for i, r := range whole + "/" {
		if r == '/' && i > 0 {
			last = c.MakeDir(whole[:i])
		}
	}
	if ftpconn.Code(last) == 0 && last != nil {
		return last
	}
	if last != nil {
		_, err := s.list(c, whole)
		if err != nil && ftpconn.Code(err) == 0 {
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
		temporary := s.temporary(c, name)
		if s.o.AppendOnly {
			temporary = c.path(s.uploads.Once(name))
		}
		var from int64
		if there, err := c.Size(temporary); err == nil && there <= size {
			from = max(there-unsure, 0)
		}
		if _, err := src.Seek(from, io.SeekStart); err != nil {
			return err
		}
		if err := s.put(c, temporary, from, src); err != nil {
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
	return s.do(ctx, func(c *client) error { return c.Delete(s.temporary(c, name)) })
}

// writeError explains an error of a write, where an unavailable file is not
// one that is missing.
func writeError(name string, err error) error {
	if code := ftpconn.Code(err); code == unavailable {
		return store.Refuse("%s cannot be written at the far end: %w", name, err)
	}
	return explain(name, err)
}

// rename puts a finished upload in its place. Not every server replaces a file
// that is there already.
func (s *Store) rename(c *client, name, temporary string) error {
	err := c.Rename(temporary, c.path(name))
	if err != nil && ftpconn.Code(err) != 0 {
		there, statErr := s.size(c, c.path(name))
		if statErr == nil && s.o.AppendOnly {
			if info, err := s.size(c, temporary); err == nil && info == there {
				return nil // another machine was faster with the same object
			}
			return fmt.Errorf("%s is there already: %w", name, store.ErrKeeper)
		}
		if statErr == nil {
			if err := c.Delete(c.path(name)); err != nil {
				return explain(name, err)
			}
			err = c.Rename(temporary, c.path(name))
		}
	}
	if err != nil {
		return writeError(name, err)
	}
	return nil
}

// size asks for a file's length; servers without SIZE are asked for a listing.
func (s *Store) size(c *client, file string) (int64, error) {
	n, err := c.Size(file)
	if code := ftpconn.Code(err); code != 500 && code != 502 && code != 504 {
		return n, err
	}
	entries, err := s.list(c, path.Dir(file))
	if err != nil {
		return 0, err
	}
	for _, e := range entries {
		if e.Name == path.Base(file) {
			return e.Size, nil
		}
	}
	return 0, &textproto.Error{Code: unavailable, Msg: "no such file"}
}

// Open implements store.Store.
func (s *Store) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	lease, err := s.pool.Take(ctx)
	if err != nil {
		return nil, err
	}
	r, err := s.begin(lease.Conn, name, offset)
	if err != nil {
		err = explain(name, err)
		lease.Release(s.clean(err))
		return nil, err
	}
	r.store, r.lease = s, lease
	return r, nil
}

// begin has an object come from an offset on.
func (s *Store) begin(c *client, name string, offset int64) (*reader, error) {
	size, err := s.size(c, c.path(name))
	if err != nil {
		return nil, err
	}
	in, err := c.Retr(c.path(name), offset)
	return &reader{in: in, left: size - offset}, err
}

// reader is a transfer under way.
type reader struct {
	store *Store
	in    io.ReadCloser
	lease *connpool.Lease[*client]
	ended bool
	// left is how much is to come.
	left int64
}

// Read implements io.Reader. That the data ends says nothing of whether the object does: to the
// server, all is sent that is on its way.
func (r *reader) Read(p []byte) (int, error) {
	n, err := r.in.Read(p)
	r.left -= int64(n)
	if errors.Is(err, io.EOF) && r.left > 0 {
		err = fmt.Errorf("the transfer broke off: %d bytes have not come", r.left)
	}
	if err != nil && !r.ended {
		r.ended = true
		if !errors.Is(err, io.EOF) {
			r.store.cut.Store(true)
		}
		r.lease.Release(errors.Is(err, io.EOF))
	}
	return n, err
}

// Close implements io.Closer. A transfer that is broken off costs the connection.
func (r *reader) Close() error {
	if !r.ended {
		r.ended = true
		_ = r.in.Close()
		r.lease.Release(false)
	}
	return nil
}

// Stat implements store.Store.
func (s *Store) Stat(ctx context.Context, name string) (info store.Info, err error) {
	err = s.do(ctx, func(c *client) error {
		n, err := s.size(c, c.path(name))
		info = store.Info{Name: name, Bytes: n}
		return explain(name, err)
	})
	return info, err
}

func (s *Store) readDir(ctx context.Context, dir string) (entries []store.Entry, err error) {
	err = s.do(ctx, func(c *client) error {
		if entries, err = s.listed(c, c.path(dir)); err != nil {
			return explain(dir, err)
		}
		return nil
	})
	return entries, err
}

// list reads one folder. What is not understood in a listing is an error: what it names would
// not be there.
func (s *Store) list(c *client, dir string) ([]ftpconn.Entry, error) {
	c.Careful = s.cut.Load()
	return c.ListThere(dir, time.Now())
}

// listed reads one folder.
func (s *Store) listed(c *client, dir string) ([]store.Entry, error) {
	files, err := s.list(c, dir)
	var entries []store.Entry
	for _, e := range files {
		if e.Name != path.Base(e.Name) || e.Name == "/" {
			return nil, store.Refuse("the server lists %q in %s", e.Name, dir)
		}
		entries = append(entries, store.Entry{Info: store.Info{Name: e.Name, Bytes: e.Size, Changed: e.ModTime}, Folder: e.Mode.IsDir()})
	}
	return entries, err
}

// put writes a file from an offset on.
func (s *Store) put(c *client, file string, offset int64, content io.Reader) error {
	_, err := c.Stor(file, offset, content)
	return err
}

// Remove implements store.Store.
func (s *Store) Remove(ctx context.Context, name string) error {
	return s.do(ctx, func(c *client) error {
		err := explain(name, c.Delete(c.path(name)))
		if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if gone, listErr := s.absent(c, c.path(name)); !gone {
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
		entries, err := s.list(c, dir)
		if err == nil {
			return !slices.ContainsFunc(entries, func(e ftpconn.Entry) bool { return e.Name == path.Base(file) }), nil
		}
		if dir == file || dir == c.dir {
			return false, err
		}
		file = dir
	}
}
