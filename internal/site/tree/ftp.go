package tree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"revlet/internal/platform/disk"
	"revlet/internal/store"
	"revlet/internal/store/ftpconn"
)

// FTPOptions say where a machine is that is reached over FTP, and how it is used.
type FTPOptions struct {
	ftpconn.Dialer
	// Base is what Place.Base gives.
	Base string
	// Lanes is the most connections at a time; 0 means 4.
	Lanes int
	// Tries and Pause are as in SSHOptions.
	Tries uint
	Pause time.Duration
}

// ftpPlace is a machine that is reached over FTP. A connection does one thing at a time.
type ftpPlace struct {
	o FTPOptions
	patience
	mu sync.Mutex
	// idle are connections that nobody uses, open counts all, most is how many there may be:
	// fewer once the far end would have no more.
	idle       []*ftpconn.Conn
	open, most int
	// streams are files that are being read, by whom a connection is held.
	streams map[*ftpFile]time.Time
	closed  bool
	// noRights and noTimes are set once the far end has refused to set any.
	noRights, noTimes atomic.Bool
}

// NewFTP is a machine that is reached over FTP as a place; nothing is connected yet.
func NewFTP(o FTPOptions) Place {
	if o.Lanes == 0 {
		o.Lanes = 4
	}
	if o.Silence == 0 {
		o.Silence = time.Minute
	}
	return &ftpPlace{o: o, patience: newPatience(o.Tries, o.Pause), most: o.Lanes, streams: map[*ftpFile]time.Time{}}
}

// Base implements Place.
func (p *ftpPlace) Base() string { return p.o.Base }

// Close implements Place.
func (p *ftpPlace) Close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.closed = true
	for _, c := range p.idle {
		_ = c.Close()
	}
	p.idle = nil
	return nil
}

const (
	// waitForOne is how long a call waits for a connection before a file that is being read
	// gives its own away: it goes on where it was later. tick is how often it looks.
	waitForOne = time.Second
	tick       = 5 * time.Millisecond
)

// take returns a connection that nobody else uses until it is given back.
func (p *ftpPlace) take(ctx context.Context) (*ftpconn.Conn, error) {
	for began := time.Now(); ; {
		p.mu.Lock()
		if n := len(p.idle); n > 0 {
			c := p.idle[n-1]
			p.idle = p.idle[:n-1]
			p.mu.Unlock()
			return c, nil
		}
		if p.open < p.most {
			p.open++
			p.mu.Unlock()
			c, err := p.o.Dial(ctx)
			if err == nil {
				return c, nil
			}
			p.mu.Lock()
			p.open--
			others := p.open > 0
			if others {
				p.most = p.open // a far end that takes few connections is used with few
			}
			p.mu.Unlock()
			if !others {
				return nil, &connectError{err, errors.Is(err, store.ErrRefused)}
			}
			continue
		}
		p.mu.Unlock()
		if time.Since(began) > waitForOne {
			p.interrupt()
			began = time.Now()
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(tick):
		}
	}
}

// interrupt has the file that was read longest ago give its connection away.
func (p *ftpPlace) interrupt() {
	p.mu.Lock()
	var oldest *ftpFile
	for f, at := range p.streams {
		if oldest == nil || at.Before(p.streams[oldest]) {
			oldest = f
		}
	}
	delete(p.streams, oldest)
	p.mu.Unlock()
	if oldest != nil {
		oldest.interrupted()
	}
}

// give gives a connection back, if it is still of use.
func (p *ftpPlace) give(c *ftpconn.Conn, usable bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if usable && !p.closed && !c.Closed() {
		p.idle = append(p.idle, c)
		return
	}
	p.open--
	_ = c.Close()
}

// do runs work on a connection, on another one if that breaks.
func (p *ftpPlace) do(ctx context.Context, work func(*ftpconn.Conn) error) error {
	return p.retry(ctx, func() error {
		c, err := p.take(ctx)
		if err != nil {
			return err
		}
		stop := context.AfterFunc(ctx, func() { _ = c.Close() })
		err = work(c)
		p.give(c, stop() && (err == nil || answered(err)))
		p.fewer(err)
		return err
	})
}

// fewer uses one connection less from now on if the far end says that there are too many: some
// count those for data, too.
func (p *ftpPlace) fewer(err error) {
	if !ftpconn.TooMany(err) {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.most = max(p.most-1, 1)
	if n := len(p.idle); n > 0 && p.open > p.most {
		_ = p.idle[n-1].Close()
		p.idle = p.idle[:n-1]
		p.open--
	}
}

// reasonOf makes of what a server says about a name why that is so, as far as it says.
func reasonOf(err error) error {
	if ftpconn.Code(err) != 550 && ftpconn.Code(err) != 553 {
		return err
	}
	said := strings.ToLower(err.Error())
	switch {
	case strings.Contains(said, "denied") || strings.Contains(said, "permitted"):
		return fmt.Errorf("%w: %w", fs.ErrPermission, err)
	case strings.Contains(said, "exists"):
		return fmt.Errorf("%w: %w", fs.ErrExist, err)
	case strings.Contains(said, "no such") || strings.Contains(said, "not found") || strings.Contains(said, "cannot find"):
		return fmt.Errorf("%w: %w", fs.ErrNotExist, err)
	}
	return err
}

// look lists the folder that a path is in and returns what it says of it. What is not there
// gives fs.ErrNotExist, what cannot be told fs.ErrPermission.
func look(c *ftpconn.Conn, name string) (ftpconn.Entry, error) {
	name = path.Clean(name)
	if name == "/" {
		return ftpconn.Entry{Name: "/", Mode: fs.ModeDir | 0o755}, nil
	}
	all, _, err := c.List(path.Dir(name), time.Now())
	if err != nil && !ftpconn.Answered(err) {
		return ftpconn.Entry{}, err
	}
	if err != nil {
		above, second := look(c, path.Dir(name))
		switch {
		case second != nil:
			return ftpconn.Entry{}, second
		case !above.Mode.IsDir():
			return ftpconn.Entry{}, fs.ErrNotExist
		}
		return ftpconn.Entry{}, fmt.Errorf("%w: %w", fs.ErrPermission, err)
	}
	for _, e := range all {
		if e.Name == path.Base(name) {
			return e, nil
		}
	}
	return ftpconn.Entry{}, fs.ErrNotExist
}

// Folder implements Place.
func (p *ftpPlace) Folder(ctx context.Context, dir string) (Folder, error) {
	f := &ftpFolder{place: p, ctx: ctx}
	err := p.do(ctx, func(c *ftpconn.Conn) error {
		if err := c.Enter(dir); err != nil {
			e, second := look(c, dir)
			if second == nil && !e.Mode.IsDir() && e.Mode&fs.ModeSymlink == 0 {
				second = ErrNoFolder
			}
			if second == nil {
				second = fmt.Errorf("%w: %w", fs.ErrPermission, err)
			}
			if !ftpconn.Answered(err) {
				second = err
			}
			return second
		}
		real, err := c.Folder()
		f.dir = path.Clean(real)
		return err
	})
	if err != nil {
		return nil, pathError("open", dir, err)
	}
	if !path.IsAbs(f.dir) {
		return nil, pathError("open", dir, errNames)
	}
	return f, nil
}

// Absolute implements Place.
func (p *ftpPlace) Absolute(ctx context.Context, dir string) (real string, err error) {
	err = p.do(ctx, func(c *ftpconn.Conn) error {
		real = path.Clean(dir)
		if rest, ok := strings.CutPrefix(dir, "/~"); ok || dir == "" {
			if err := c.Enter("~"); err != nil && !ftpconn.Answered(err) {
				return err
			}
			home, err := c.Folder()
			if err != nil {
				return err
			}
			real = path.Join(home, rest)
		}
		if err := c.Enter(real); err != nil {
			if ftpconn.Answered(err) {
				err = nil // it may not be there yet
			}
			return err
		}
		real, err = c.Folder()
		return err
	})
	if err == nil && !path.IsAbs(real) {
		err = errNames
	}
	return path.Clean(real), pathError("open", dir, err)
}

// Anywhere implements Place.
func (p *ftpPlace) Anywhere(ctx context.Context) Folder { return &ftpFolder{place: p, ctx: ctx} }

// ErrNoTunnel is wrapped when something is to be connected to from a place that cannot.
var ErrNoTunnel = errors.New("FTP carries files only")

// Dial implements Place: nothing is forwarded over FTP.
func (p *ftpPlace) Dial(context.Context, string, string) (net.Conn, error) {
	return nil, fmt.Errorf("%w: what only that machine reaches cannot be asked from here", ErrNoTunnel)
}

func (p *ftpPlace) filesOnly() bool { return true }

// Now implements Place: FTP has no word for it.
func (p *ftpPlace) Now(context.Context) (time.Time, bool) { return time.Time{}, false }

// HiddenTeller is a Folder far away that may not be told of everything in it.
type HiddenTeller interface {
	// Hides tells whether names that begin with a dot seem to be left out of listings.
	Hides() (bool, error)
}

// ftpFolder is a folder on a machine that is reached over FTP; without dir, names are absolute
// paths and links are followed.
type ftpFolder struct {
	place *ftpPlace
	ctx   context.Context
	dir   string
	mu    sync.Mutex
	// known is what was listed of folders, by their names; held counts the names.
	known map[string]map[string]ftpconn.Entry
	held  int
}

// mostHeld bounds how many names are held of listings.
const mostHeld = 200_000

// Close implements Folder.
func (f *ftpFolder) Close() error { return nil }

func (f *ftpFolder) path(name string) string {
	switch {
	case f.dir == "":
		return path.Clean("/" + name)
	case name == "." || name == "":
		return f.dir
	}
	return path.Join(f.dir, name)
}

// ftpInfo is what FTP says of a path.
type ftpInfo struct{ e ftpconn.Entry }

// Name implements fs.FileInfo.
func (i ftpInfo) Name() string { return i.e.Name }

// Size implements fs.FileInfo.
func (i ftpInfo) Size() int64 { return i.e.Size }

// Mode implements fs.FileInfo; rights that are not told are the usual ones.
func (i ftpInfo) Mode() fs.FileMode {
	switch {
	case i.e.HasMode:
		return i.e.Mode
	case i.e.Mode.IsDir():
		return i.e.Mode | 0o755
	}
	return i.e.Mode | 0o644
}

// ModTime implements fs.FileInfo.
func (i ftpInfo) ModTime() time.Time { return i.e.ModTime }

// IsDir implements fs.FileInfo.
func (i ftpInfo) IsDir() bool { return i.e.Mode.IsDir() }

// Sys implements fs.FileInfo with a *Stat.
func (i ftpInfo) Sys() any { return &Stat{Unowned: true} }

// list lists a folder, and remembers what it says.
func (f *ftpFolder) list(c *ftpconn.Conn, dir string) ([]ftpconn.Entry, error) {
	all, _, err := c.List(f.path(dir), time.Now())
	if err != nil {
		return nil, err
	}
	byName := make(map[string]ftpconn.Entry, len(all))
	for _, e := range all {
		if !validName(e.Name) || len(f.path(dir))+1+len(e.Name) > longestPath || e.Target != "" && !validTarget(e.Target) {
			return nil, errNames
		}
		byName[e.Name] = e
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.held += len(all); f.known == nil || f.held > mostHeld {
		f.known, f.held = map[string]map[string]ftpconn.Entry{}, len(all)
	}
	f.known[dotted(dir)] = byName
	return all, nil
}

func (f *ftpFolder) remembered(name string) (e ftpconn.Entry, listed, there bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	all, listed := f.known[path.Dir(name)]
	e, there = all[path.Base(name)]
	return e, listed, there
}

// Lstat implements Folder.
func (f *ftpFolder) Lstat(name string) (info fs.FileInfo, err error) {
	err = f.place.do(f.ctx, func(c *ftpconn.Conn) (err error) {
		info, err = f.lstat(c, name)
		return err
	})
	return info, pathError("lstat", f.path(name), err)
}

func (f *ftpFolder) lstat(c *ftpconn.Conn, name string) (fs.FileInfo, error) {
	if f.dir == "" || name == "." || name == "" {
		return f.followed(c, f.path(name))
	}
	e, listed, there := f.remembered(name)
	if !listed || !there {
		all, err := f.list(c, path.Dir(name))
		if err != nil {
			_, why := look(c, f.path(name))
			if why == nil {
				why = err
			}
			return nil, why
		}
		there = false
		for i := range all {
			if all[i].Name == path.Base(name) {
				e, there = all[i], true
			}
		}
	}
	if !there {
		return nil, fs.ErrNotExist
	}
	if !e.Mode.IsRegular() {
		return ftpInfo{e}, nil
	}
	fresh, err := f.fresh(c, name, e)
	if err != nil {
		return nil, err
	}
	return ftpInfo{fresh}, nil
}

// fresh is what a file is like now.
func (f *ftpFolder) fresh(c *ftpconn.Conn, name string, e ftpconn.Entry) (ftpconn.Entry, error) {
	full := f.path(name)
	if c.Can("MLST") {
		now, err := c.Facts(full)
		if err != nil && ftpconn.Code(err) == 550 {
			return look(c, full)
		}
		if err != nil {
			return e, err
		}
		if now.Mode.Type() != e.Mode.Type() {
			return look(c, full)
		}
		e.Size, e.ModTime, e.Exact = now.Size, now.ModTime, now.Exact
		if now.HasMode {
			e.Mode, e.HasMode = now.Mode, true
		}
		return e, nil
	}
	size, err := c.Size(full)
	if err != nil {
		return look(c, full) // as when it is gone, or SIZE is not known
	}
	e.Size = size
	if c.Can("MDTM") {
		if at, err := c.Modified(full); err == nil {
			e.ModTime, e.Exact = at, true
		} else if !ftpconn.Answered(err) {
			return e, err
		}
	}
	return e, nil
}

// followed is what a path leads to.
func (f *ftpFolder) followed(c *ftpconn.Conn, full string) (fs.FileInfo, error) {
	if full == "/" {
		return ftpInfo{ftpconn.Entry{Name: "/", Mode: fs.ModeDir}}, nil
	}
	e, err := look(c, full)
	if err != nil || e.Mode&fs.ModeSymlink == 0 {
		return ftpInfo{e}, err
	}
	if c.Can("MLST") {
		if to, err := c.Facts(full); err == nil || !ftpconn.Answered(err) {
			return ftpInfo{to}, err
		}
	}
	if err := c.Enter(full); err == nil || !ftpconn.Answered(err) {
		return ftpInfo{ftpconn.Entry{Name: path.Base(full), Mode: fs.ModeDir}}, err
	}
	size, err := c.Size(full)
	if err != nil {
		if ftpconn.Answered(err) {
			err = fs.ErrNotExist
		}
		return nil, err
	}
	return ftpInfo{ftpconn.Entry{Name: path.Base(full), Size: size}}, nil
}

// ReadFolder implements Folder.
func (f *ftpFolder) ReadFolder(name string, _ int) (names []string, infos []Info, err error) {
	var all []ftpconn.Entry
	err = f.place.do(f.ctx, func(c *ftpconn.Conn) (err error) {
		if all, err = f.list(c, name); err != nil && ftpconn.Answered(err) && !errors.Is(err, errNames) {
			e, why := look(c, f.path(name))
			switch {
			case why != nil:
				err = why
			case !e.Mode.IsDir():
				err = ErrNoFolder
			default:
				err = fmt.Errorf("%w: %w", fs.ErrPermission, err)
			}
		}
		return err
	})
	if err != nil {
		return nil, nil, pathError("readdir", f.path(name), err)
	}
	sortEntries(all)
	for _, e := range all {
		names, infos = append(names, e.Name), append(infos, Info{FileInfo: ftpInfo{e}})
	}
	return names, infos, nil
}

// Hides implements HiddenTeller.
func (f *ftpFolder) Hides() (hides bool, err error) {
	err = f.place.do(f.ctx, func(c *ftpconn.Conn) error {
		_, shown, err := c.List(f.path("."), time.Now())
		hides = !shown
		return err
	})
	return hides, err
}

// Lstats implements Folder.
func (f *ftpFolder) Lstats(dir string, names []string) []Info {
	infos := make([]Info, len(names))
	for i, name := range names {
		infos[i].FileInfo, infos[i].Err = f.Lstat(Join(dir, name))
	}
	return infos
}

// Readlink implements Folder.
func (f *ftpFolder) Readlink(name string) (string, error) {
	e, _, there := f.remembered(name)
	var err error
	if !there || e.Target == "" {
		err = f.place.do(f.ctx, func(c *ftpconn.Conn) (err error) {
			e, err = look(c, f.path(name))
			return err
		})
	}
	if err == nil && e.Target == "" {
		err = errors.New("the server does not say where it leads")
	}
	return e.Target, pathError("readlink", f.path(name), err)
}

// XAttrs implements Folder: FTP has no word for them.
func (f *ftpFolder) XAttrs(string) map[string][]byte { return nil }

// Owner implements Folder: FTP names accounts for people only.
func (f *ftpFolder) Owner(int, int) (user, group string) { return "", "" }

// regular asks what has a name now, and refuses what is no regular file.
func (f *ftpFolder) regular(c *ftpconn.Conn, name string) (fs.FileInfo, error) {
	info, err := f.lstat(c, name)
	if err == nil && !info.Mode().IsRegular() {
		return nil, special(f.path(name))
	}
	return info, err
}

// ReadWhole implements WholeReader.
func (f *ftpFolder) ReadWhole(name string, most int64) (w Whole, err error) {
	err = f.place.do(f.ctx, func(c *ftpconn.Conn) error {
		was, err := f.regular(c, name)
		if err != nil {
			return err
		}
		if was.Size() > most {
			return tooLarge(f.path(name), most)
		}
		data, err := f.whole(c, name, was.Size())
		if err != nil {
			return err
		}
		now, err := f.regular(c, name)
		if err == nil && (!same(was, now) || int64(len(data)) != was.Size()) {
			err = errChanged
		}
		w = Whole{data, was}
		return err
	})
	return w, pathError("read", f.path(name), err)
}

// whole reads a file of so many bytes; one that has become longer is read a little further.
func (f *ftpFolder) whole(c *ftpconn.Conn, name string, size int64) ([]byte, error) {
	in, err := c.Retr(f.path(name), 0)
	if err != nil {
		return nil, unreadable(err)
	}
	data, err := io.ReadAll(io.LimitReader(in, size+1))
	if err == nil && int64(len(data)) > size {
		err = errChanged
	}
	return data, errors.Join(err, in.Close())
}

// unreadable is why a file that is there cannot be read.
func unreadable(err error) error {
	if ftpconn.Code(err) == 550 {
		return fmt.Errorf("%w: %w", fs.ErrPermission, err)
	}
	return err
}

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
	mu   sync.Mutex
	conn *ftpconn.Conn
	out  io.ReadCloser
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
	switch whence {
	case io.SeekCurrent:
		offset += s.at
	case io.SeekEnd:
		offset += s.was.Size()
	}
	if offset < 0 {
		return s.at, errors.New("seek: before the beginning")
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
	var out io.ReadCloser
	if err == nil {
		out, err = c.Retr(s.in.path(s.name), s.at)
		err = unreadable(err)
	}
	if err != nil {
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
	err = s.in.place.retry(s.in.ctx, func() error {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.conn == nil {
			if err := s.begin(); err != nil {
				return err
			}
		}
		var err error
		n, err = s.out.Read(b)
		switch {
		case n > 0:
			if errors.Is(err, io.EOF) {
				s.release(true)
			}
			return nil
		case errors.Is(err, io.EOF):
			s.release(true)
			return nil
		case err != nil:
			s.release(false)
		}
		return err
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
	err = s.in.place.do(s.in.ctx, func(c *ftpconn.Conn) error {
		out, err := c.Retr(s.in.path(s.name), off)
		if err != nil {
			return unreadable(err)
		}
		n, err = io.ReadFull(out, b)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
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

// special refuses what is no regular file.
func special(name string) error { return &fs.PathError{Op: "open", Path: name, Err: disk.ErrSpecial} }

func sortEntries(all []ftpconn.Entry) {
	slices.SortFunc(all, func(a, b ftpconn.Entry) int { return strings.Compare(a.Name, b.Name) })
}
