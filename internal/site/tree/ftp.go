package tree

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"time"

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
	// cut is set once a transfer has broken off.
	cut atomic.Bool
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
			c.Careful = p.cut.Load()
			return c, nil
		}
		if p.open < p.most {
			p.open++
			p.mu.Unlock()
			c, err := p.o.Dial(ctx)
			if err == nil {
				c.Careful = p.cut.Load()
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
		if err != nil && !answered(err) {
			p.cut.Store(true)
		}
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
