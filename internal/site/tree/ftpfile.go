package tree

import (
	"errors"
	"io"
	"io/fs"
	"sync"
	"time"

	"revlet/internal/store/ftpconn"
)

// Open implements Folder.
func (f *ftpFolder) Open(name string) (File, error) {
	s := &ftpFile{in: f, name: name}
	err := f.place.do(f.ctx, func(c *ftpconn.Conn) (err error) {
		s.was, err = f.regular(c, name)
		return err
	})
	if err != nil {
		return nil, pathError("open", f.path(name), err)
	}
	return s, nil
}

// ftpFile is a file that is read over FTP, over a connection of its own while it is. When that
// breaks, or another call needs it, another one goes on where it was.
type ftpFile struct {
	in   *ftpFolder
	name string
	was  fs.FileInfo
	at   int64
	// stuck counts transfers of which nothing came, and which had not broken off.
	stuck  int
	breaks breaks
	mu     sync.Mutex
	conn   *ftpconn.Conn
	out    io.ReadCloser
}

// Stat implements File.
func (s *ftpFile) Stat() (info fs.FileInfo, err error) {
	err = s.in.place.do(s.in.ctx, func(c *ftpconn.Conn) (err error) {
		info, err = s.in.regular(c, s.name)
		return err
	})
	return info, pathError("stat", s.in.path(s.name), err)
}

// Close implements File.
func (s *ftpFile) Close() error {
	s.interrupted()
	return nil
}

// interrupted gives the connection away.
func (s *ftpFile) interrupted() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.release(false)
}

// release gives the connection back; usable if the file has come to its end.
func (s *ftpFile) release(usable bool) {
	if s.conn == nil {
		return
	}
	p := s.in.place
	p.mu.Lock()
	delete(p.streams, s)
	p.mu.Unlock()
	_ = s.out.Close()
	p.give(s.conn, usable)
	s.conn, s.out = nil, nil
}

// Seek implements File; whence is as in io.Seeker.
func (s *ftpFile) Seek(offset int64, whence int) (int64, error) {
	offset, err := sought(s.at, s.was.Size(), offset, whence)
	if err != nil {
		return s.at, err
	}
	s.interrupted()
	s.at = offset
	return offset, nil
}

// begin has the file come from where its reader is, if it is still the same.
func (s *ftpFile) begin() error {
	p := s.in.place
	c, err := p.take(s.in.ctx)
	if err != nil {
		return err
	}
	now, err := s.in.regular(c, s.name)
	if err == nil && s.at > 0 && !same(now, s.was) {
		err = errChanged
	}
	if err == nil {
		err = s.breaks.blames(c, s.in.path(s.name))
	}
	var out io.ReadCloser
	if err == nil {
		out, err = c.Retr(s.in.path(s.name), s.at)
		if err = unreadable(err); s.at > 0 && ftpconn.Answered(err) && ftpconn.Code(err) != 550 {
			err = errCut // it cannot go on within a file, which says nothing of that
		}
	}
	if err != nil {
		s.breaks.saw(0, err)
		p.give(c, answered(err))
		p.fewer(err)
		return err
	}
	s.conn, s.out = c, out
	p.mu.Lock()
	p.streams[s] = time.Now()
	p.mu.Unlock()
	return nil
}

// Read implements File.
func (s *ftpFile) Read(b []byte) (n int, err error) {
	if len(b) == 0 {
		return 0, nil
	}
	if s.at >= s.was.Size() && s.conn == nil {
		return 0, io.EOF
	}
	err = s.in.place.retry(s.in.ctx, func() (err error) {
		s.mu.Lock()
		defer s.mu.Unlock()
		for {
			if s.conn == nil {
				if err := s.begin(); err != nil {
					return err
				}
			}
			if n, err = s.out.Read(b); err != nil {
				s.release(errors.Is(err, io.EOF))
			}
			s.breaks.saw(n, err)
			if n > 0 {
				s.stuck = 0
				return nil
			}
			if err != nil && !errors.Is(err, io.EOF) {
				return err
			}
			if s.stuck++; s.at >= s.was.Size() || s.stuck == mostStuck {
				return nil
			}
			s.in.place.cut.Store(true)
		}
	})
	s.at += int64(n)
	switch {
	case err != nil:
		return n, pathError("read", s.in.path(s.name), err)
	case n == 0 && s.at < s.was.Size():
		return 0, pathError("read", s.in.path(s.name), errChanged)
	case n == 0:
		return 0, io.EOF
	}
	return n, nil
}

// ReadAt implements File.
func (s *ftpFile) ReadAt(b []byte, off int64) (n int, err error) {
	stuck := 0
	err = s.in.place.do(s.in.ctx, func(c *ftpconn.Conn) error {
		out, err := c.Retr(s.in.path(s.name), off)
		if err != nil {
			return unreadable(err)
		}
		n, err = io.ReadFull(out, b)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			if stuck++; off+int64(n) < s.was.Size() && stuck < mostStuck {
				return errCut
			}
			return nil // n says so
		}
		if err != nil {
			return err
		}
		// There may be more, which nobody wants: it is read if it is little.
		_, _ = io.CopyN(io.Discard, out, smallestChunk)
		_ = out.Close()
		return nil
	})
	if err == nil && n < len(b) {
		err = io.EOF
	}
	return n, err
}
