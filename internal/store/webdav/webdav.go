// Package webdav keeps archives on a WebDAV server (RFC 4918) over HTTP, with
// basic or digest authentication (RFC 7617, RFC 7616).
package webdav

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"

	"github.com/studio-b12/gowebdav"

	"revlet/internal/store"
)

// Options say where the store is and how to get in.
type Options struct {
	// URL is the store's folder on the server.
	URL            string
	User, Password string
	// Transport carries the requests; its limits are those of the store.
	Transport http.RoundTripper
	// Lanes is the most requests at a time.
	Lanes int
	// AppendOnly is for an account that may neither delete nor overwrite: nothing is asked
	// for that the far end would refuse. See package appendonly.
	AppendOnly bool
	Where      string
}

// Store is a folder on a WebDAV server.
type Store struct {
	store.Unprotected
	store.ByFolder
	o       Options
	auth    *authorizer
	lanes   chan struct{}
	uploads *store.Uploads
}

// New returns the store; nothing is sent yet.
func New(o Options) *Store {
	s := &Store{o: o, auth: newAuthorizer(o.User, o.Password, o.Transport), lanes: make(chan struct{}, max(o.Lanes, 1)), uploads: store.NewUploads()}
	s.ByFolder = store.ByFolder{Read: s.readDir}
	return s
}

// carrier ties the client library's requests to a context: the library has no other
// place for one. It lives as long as one call.
type carrier struct {
	ctx context.Context
	rt  http.RoundTripper
	// anew has nothing replaced by what is written (RFC 9110 §13.1.2).
	anew bool
}

// RoundTrip implements http.RoundTripper. The client library would follow a redirect
// wherever it leads, and the password with it: one that leaves the server is refused.
func (c carrier) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.WithContext(c.ctx)
	if c.anew && r.Method == http.MethodPut {
		r.Header.Set("If-None-Match", "*")
	}
	resp, err := c.rt.RoundTrip(r)
	if err != nil || resp.StatusCode < 300 || resp.StatusCode > 399 {
		return resp, err
	}
	to, err := resp.Location()
	if err != nil || to.Scheme == r.URL.Scheme && to.Host == r.URL.Host {
		return resp, nil
	}
	_ = resp.Body.Close()
	return nil, store.Refuse("%s sends us on to another server, %s; if that is right, its address belongs into the configuration", r.URL.Host, to.Redacted())
}

func (s *Store) client(ctx context.Context) *gowebdav.Client {
	c := gowebdav.NewAuthClient(s.o.URL, gowebdav.NewEmptyAuth())
	c.SetTransport(carrier{ctx, s.auth, s.o.AppendOnly})
	return c
}

// do runs work in one of the lanes.
func (s *Store) do(ctx context.Context, name string, work func(*gowebdav.Client) error) error {
	select {
	case s.lanes <- struct{}{}:
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	defer func() { <-s.lanes }()
	err := work(s.client(ctx))
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return s.explain(name, err)
}

func (s *Store) explain(name string, err error) error {
	var status gowebdav.StatusError
	if !errors.As(err, &status) {
		return store.HTTPError(s.o.Where, err)
	}
	switch status.Status {
	case http.StatusNotFound:
		return store.Missing(name)
	case http.StatusUnauthorized:
		return store.Refuse("%s does not let %q in: wrong user or password (401)", s.o.Where, s.o.User)
	case http.StatusForbidden:
		return store.Refuse("%s forbids access to %s (403)", s.o.Where, name)
	case http.StatusPreconditionFailed:
		return fmt.Errorf("%s is there already (412): %w", name, store.ErrKeeper)
	case http.StatusConflict:
		return store.Refuse("%s: the folder above it does not exist at %s (409)", name, s.o.Where)
	case http.StatusRequestEntityTooLarge:
		return store.Refuse("%s is more than %s takes at once (413): files go in objects of up to 64 MiB, but a table without a number for a key goes in one; who runs the server can raise its limit for an upload (nginx: client_max_body_size, Apache: LimitRequestBody)", name, s.o.Where)
	case http.StatusInsufficientStorage:
		return fmt.Errorf("%s: %w at %s (%d)", name, store.ErrFull, s.o.Where, status.Status)
	case http.StatusMethodNotAllowed, http.StatusNotImplemented:
		if name != checking {
			return store.Refuse("%s: the server does not allow that (%d)", name, status.Status)
		}
		return store.Refuse("%s is no WebDAV folder: it answers %d %s", s.o.Where, status.Status, http.StatusText(status.Status))
	}
	return fmt.Errorf("%s: the server answers %d %s", name, status.Status, http.StatusText(status.Status))
}

// Where implements store.Store.
func (s *Store) Where() string { return s.o.Where }

// Offsite implements store.Store.
func (s *Store) Offsite() bool { return true }

// Close implements store.Store.
func (s *Store) Close() error {
	if t, ok := s.o.Transport.(interface{ CloseIdleConnections() }); ok {
		t.CloseIdleConnections()
	}
	return nil
}

// checking is what a check is about, in messages.
const checking = "the folder"

// Check implements store.Store. The store's folder is made if its parent exists.
func (s *Store) Check(ctx context.Context) error {
	return s.do(ctx, checking, func(c *gowebdav.Client) error {
		if err := s.mkdir(ctx, c, store.Incoming); err != nil {
			return err
		}
		if s.o.AppendOnly {
			return nil // a probe would stay; the first object tells
		}
		probe := s.uploads.Probe()
		if err := s.upload(c, probe, http.NoBody, 0); err != nil {
			return err
		}
		if err := c.Remove(probe); gowebdav.IsErrCode(err, http.StatusForbidden) || gowebdav.IsErrCode(err, http.StatusMethodNotAllowed) {
			return store.NoDeletion(err)
		} else if err != nil {
			return err
		}
		left, err := s.listed(ctx, store.Incoming)
		if err != nil {
			return err
		}
		s.uploads.ClearStale(left, c.Remove)
		return nil
	})
}

// mkdir makes a folder and those above it, once for each run: some servers
// dislike to be asked again and again.
func (s *Store) mkdir(ctx context.Context, c *gowebdav.Client, dir string) error {
	if dir == "." {
		return nil
	}
	return s.uploads.Folder(dir, func() error {
		for _, folder := range []string{"/", dir} {
			_, err := s.stat(ctx, folder)
			if err != nil && folder == "/" && gowebdav.IsErrNotFound(err) {
				err = c.Mkdir("/", 0)
			} else if err != nil && folder != "/" {
				err = c.MkdirAll(dir, 0)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// upload sends a body of a known length, so that it is never sent in chunks,
// which some servers refuse.
func (s *Store) upload(c *gowebdav.Client, name string, src io.Reader, size int64) error {
	return c.WriteStreamWithLength(name, src, size, 0)
}

// Put implements store.Store.
func (s *Store) Put(ctx context.Context, name string, src io.ReadSeeker, size int64) error {
	return s.do(ctx, name, func(c *gowebdav.Client) error {
		if err := s.mkdir(ctx, c, store.Incoming); err != nil {
			return err
		}
		temporary := s.uploads.Temporary(name)
		if s.o.AppendOnly {
			temporary = s.uploads.Once(name)
		}
		err := s.upload(c, temporary, src, size)
		if gowebdav.IsErrCode(err, http.StatusLocked) { // by an upload that was broken off: servers keep that for minutes
			temporary = s.uploads.Once(name)
			if _, err = src.Seek(0, io.SeekStart); err == nil {
				err = s.upload(c, temporary, src, size)
			}
		}
		if err != nil {
			return err
		}
		// A server may lose the end of a body and say nothing.
		if info, err := s.stat(ctx, temporary); err != nil || info.Bytes != size {
			return errors.Join(fmt.Errorf("%s did not arrive whole", name), err)
		}
		if err := s.mkdir(ctx, c, path.Dir(name)); err != nil {
			return err
		}
		if !s.o.AppendOnly {
			return c.Rename(temporary, name, true)
		}
		err = c.Rename(temporary, name, false)
		if info, there := s.stat(ctx, name); err != nil && there == nil && info.Bytes == size {
			return nil // another machine was faster with the same object
		}
		return err
	})
}

// Abandon removes what a failed upload has brought over.
func (s *Store) Abandon(ctx context.Context, name string) error {
	return s.do(ctx, name, func(c *gowebdav.Client) error { return c.Remove(s.uploads.Temporary(name)) })
}

// Open implements store.Store.
func (s *Store) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	var in io.ReadCloser
	err := s.do(ctx, name, func(c *gowebdav.Client) (err error) {
		if offset == 0 {
			in, err = c.ReadStream(name)
		} else {
			in, err = c.ReadStreamRange(name, offset, 0)
		}
		if gowebdav.IsErrCode(err, http.StatusRequestedRangeNotSatisfiable) {
			in, err = http.NoBody, nil // it ends right there
		}
		return err
	})
	return in, err
}

// Stat implements store.Store.
func (s *Store) Stat(ctx context.Context, name string) (info store.Info, err error) {
	err = s.do(ctx, name, func(*gowebdav.Client) error {
		e, err := s.stat(ctx, name)
		info = store.Info{Name: name, Bytes: e.Bytes, Changed: e.Changed}
		return err
	})
	return info, err
}

func (s *Store) readDir(ctx context.Context, dir string) (entries []store.Entry, err error) {
	err = s.do(ctx, dir, func(*gowebdav.Client) error {
		entries, err = s.listed(ctx, dir)
		return err
	})
	return entries, err
}

// Remove implements store.Store.
func (s *Store) Remove(ctx context.Context, name string) error {
	err := s.do(ctx, name, func(c *gowebdav.Client) error { return c.Remove(name) })
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}
