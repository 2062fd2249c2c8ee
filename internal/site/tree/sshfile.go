package tree

import (
	"errors"
	"io"
	"io/fs"
	"time"

	"github.com/pkg/sftp"

	"revlet/internal/store/sshconn"
)

// sshFile is a file that is read over SFTP, ahead of its user. When the connection breaks,
// another one goes on where it was.
type sshFile struct {
	in   *sshFolder
	name string
	// was is what was said of the file when it was opened.
	was fs.FileInfo
	at  int64
	// out is what is read ahead of the user, nil until something is read.
	out *ahead
}

// Open implements Folder.
func (f *sshFolder) Open(name string) (File, error) {
	s := &sshFile{in: f, name: name}
	err := f.place.do(f.ctx, func(files *sshconn.Files) (err error) {
		if s.was, err = f.regular(files, name); err != nil {
			return err
		}
		file, err := files.Open(f.path(name))
		if err != nil {
			return err
		}
		return file.Close() // it can be opened
	})
	if err != nil {
		return nil, pathError("open", f.path(name), err)
	}
	return s, nil
}

// Stat implements File.
func (s *sshFile) Stat() (info fs.FileInfo, err error) {
	err = s.in.place.do(s.in.ctx, func(files *sshconn.Files) (err error) {
		info, err = s.in.regular(files, s.name)
		return err
	})
	return info, pathError("stat", s.in.path(s.name), err)
}

// Close implements File.
func (s *sshFile) Close() error {
	s.stop()
	return nil
}

func (s *sshFile) stop() {
	if s.out != nil {
		s.out.close()
		s.out = nil
	}
}

// Seek implements File; whence is as in io.Seeker.
func (s *sshFile) Seek(offset int64, whence int) (int64, error) {
	offset, err := sought(s.at, s.was.Size(), offset, whence)
	if err != nil {
		return s.at, err
	}
	s.stop()
	s.at = offset
	return offset, nil
}

// sought is where a file of size bytes that is read at at is read on, as io.Seeker has it.
func sought(at, size, offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += at
	case io.SeekEnd:
		offset += size
	}
	if offset < 0 {
		return at, errors.New("seek: before the beginning")
	}
	return offset, nil
}

// ReadAt implements File.
func (s *sshFile) ReadAt(p []byte, off int64) (n int, err error) {
	var end error
	err = s.in.place.do(s.in.ctx, func(files *sshconn.Files) error {
		file, err := files.Open(s.in.path(s.name))
		if err != nil {
			return err
		}
		defer file.Close()
		n, end = file.ReadAt(p, off)
		if end != nil && !errors.Is(end, io.EOF) {
			return end
		}
		return nil
	})
	if err == nil {
		err = end
	}
	return n, err
}

// Read implements File.
func (s *sshFile) Read(p []byte) (n int, err error) {
	if len(p) == 0 {
		return 0, nil
	}
	if s.out != nil {
		limit := time.AfterFunc(callSilences*s.in.place.o.Silence, s.out.kill)
		n, err = s.out.Read(p)
		limit.Stop()
		s.at += int64(n)
		if n > 0 {
			return n, nil
		}
		if errors.Is(err, io.EOF) {
			return 0, s.end()
		}
		s.stop() // the connection broke
	}
	err = s.in.place.do(s.in.ctx, func(files *sshconn.Files) error {
		if err := s.begin(files); err != nil {
			return err
		}
		if n, err = s.out.Read(p); n > 0 || errors.Is(err, io.EOF) {
			return nil
		}
		s.stop()
		return err
	})
	s.at += int64(n)
	if err == nil && n == 0 {
		err = s.end()
		return 0, err
	}
	return n, pathError("read", s.in.path(s.name), err)
}

// end is the error for the end of the file: before it is where it was, it has become
// shorter.
func (s *sshFile) end() error {
	if s.at < s.was.Size() {
		return pathError("read", s.in.path(s.name), errChanged)
	}
	return io.EOF
}

// begin reads on from where the user is, if it is still the file that was opened.
func (s *sshFile) begin(files *sshconn.Files) error {
	now, err := s.in.regular(files, s.name)
	if err != nil {
		return err
	}
	if s.at > 0 && !same(now, s.was) {
		return errChanged
	}
	file, err := files.Open(s.in.path(s.name))
	if err != nil {
		return err
	}
	if _, err := file.Seek(s.at, io.SeekStart); err != nil {
		return errors.Join(err, file.Close())
	}
	s.out = readAhead(file, func() { _ = files.Close() })
	return nil
}

// ahead reads a far file in many requests at a time: a request for each small read would
// cost a journey there and back.
type ahead struct {
	*io.PipeReader
	f    *sftp.File
	done chan struct{}
	// kill ends the session that it is read in.
	kill func()
}

func readAhead(f *sftp.File, kill func()) *ahead {
	out, in := io.Pipe()
	a := &ahead{out, f, make(chan struct{}), kill}
	go func() {
		defer close(a.done)
		_, err := f.WriteTo(in)
		_ = in.CloseWithError(err)
	}()
	return a
}

func (a *ahead) close() {
	_ = a.PipeReader.Close()
	<-a.done
	_ = a.f.Close()
}
