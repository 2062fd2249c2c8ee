package tree

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"revlet/internal/store"
	"revlet/internal/store/sshconn"
)

// SSHOptions say where a machine is that is reached over SSH, and how it is used.
type SSHOptions struct {
	sshconn.Dialer
	// Base is what Place.Base gives.
	Base string
	// Lanes is the most connections at a time; 0 means 4.
	Lanes int
	// NoCommands has no command run over there, even if the account may.
	NoCommands bool
	// Tries is how often a call is made before ErrUnreachable; 0 means 6. Pause is the wait
	// before the second try, doubled for each further one; 0 means 400 milliseconds.
	Tries uint
	Pause time.Duration
}

// sshPlace is a machine that is reached over SSH.
type sshPlace struct {
	o     SSHOptions
	lanes []*lane
	// tunnel is the connection for what is forwarded: a dump in it does not end when files
	// have trouble.
	tunnel *lane
	patience
	picking sync.Mutex
	next    int
	// open ends when the place is closed, and with it what warmers are at.
	open    context.Context
	close   context.CancelFunc
	warmers sync.WaitGroup
	// broke is set once a connection broke: later ones ask for small packets, of which more
	// come through until the next one breaks.
	broke atomic.Bool
	// noCommands is set once it is known that the account may run none.
	noCommands atomic.Bool
	// bundle is how many bytes are worth asking for in one stream, 0 if nothing is.
	bundle atomic.Int64
	// bundlers are idle ones; bundling holds one for each bundle that is under way.
	bundlers chan *bundler
	bundling chan struct{}
}

// NewSSH is a machine that is reached over SSH as a place; nothing is connected yet.
func NewSSH(o SSHOptions) Place {
	if o.Lanes == 0 {
		o.Lanes = 4
	}
	if o.Silence == 0 {
		o.Silence = time.Minute
	}
	p := &sshPlace{o: o, patience: newPatience(o.Tries, o.Pause)}
	p.open, p.close = context.WithCancel(context.Background())
	p.bundle.Store(firstBundle)
	p.bundlers = make(chan *bundler, bundlesAtOnce)
	p.bundling = make(chan struct{}, bundlesAtOnce)
	p.tunnel = &lane{place: p}
	for range o.Lanes {
		p.lanes = append(p.lanes, &lane{place: p})
	}
	return p
}

// Base implements Place.
func (p *sshPlace) Base() string { return p.o.Base }

// Close implements Place.
func (p *sshPlace) Close() error {
	p.close()
	p.warmers.Wait()
	for _, l := range append(slices.Clone(p.lanes), p.tunnel) {
		l.mu.Lock()
		if l.conn != nil {
			_ = l.conn.ssh.Close()
			l.conn = nil
		}
		l.mu.Unlock()
	}
	return nil
}

// lane is one connection, which is made when it is needed. Many calls use it at a time.
type lane struct {
	place *sshPlace
	mu    sync.Mutex
	conn  *conn
	// resting is until when no connection is made: the far end would have no more of them.
	resting time.Time
	// busy counts the calls under way.
	busy atomic.Int64
	// warming is set while a connection is made that nobody waits for.
	warming atomic.Bool
}

// busyEnough is how many calls a connection has under way before another one is made: a
// connection takes longer to be made than most calls.
const busyEnough = 8

// rest is how long a lane rests.
const rest = time.Minute

// errResting is why a lane makes no connection just now.
var errResting = errors.New("the far end would have no more connections a moment ago")

// conn is an SSH connection, with two sessions of SFTP in it once they are asked for: one
// for files, and one for listings, which are bounded.
type conn struct {
	ssh          *ssh.Client
	files, lists session
	listings     listings
}

// session is one of SFTP, which is begun once.
type session struct {
	mu    sync.Mutex
	files *sshconn.Files
}

// get returns the lane's connection, and makes one if there is none.
func (l *lane) get(ctx context.Context) (*conn, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn != nil {
		return l.conn, nil
	}
	if time.Now().Before(l.resting) && l.place.connected(l) != nil {
		return nil, &connectError{errResting, false}
	}
	c, err := l.place.o.Dial(ctx)
	if err != nil {
		l.resting = time.Now().Add(rest)
		return nil, &connectError{err, errors.Is(err, store.ErrRefused)}
	}
	l.conn = &conn{ssh: c}
	if l == l.place.lanes[0] { // the first to be asked for listings, as a rule
		go func(made *conn) { _, _ = made.sftp(&made.lists, sshconn.OpenLists) }(l.conn)
	}
	return l.conn, nil
}

// state tells whether the lane has a connection, whether it is making one, and whether it may make one.
func (l *lane) state() (connected, making, may bool) {
	if l.warming.Load() || !l.mu.TryLock() {
		return false, true, true
	}
	defer l.mu.Unlock()
	return l.conn != nil, false, time.Now().After(l.resting)
}

// warm makes a connection, and begins SFTP in it, while others do the work: that takes longer than most calls.
func (l *lane) warm() {
	if !l.warming.CompareAndSwap(false, true) {
		return
	}
	p := l.place
	p.warmers.Go(func() {
		defer l.warming.Store(false)
		if c, err := l.get(p.open); err == nil {
			_, _ = c.sftp(&c.files, p.begin())
		}
	})
}

// begin is how SFTP is begun.
func (p *sshPlace) begin() func(*ssh.Client) (*sshconn.Files, error) {
	if p.broke.Load() {
		return sshconn.OpenLists
	}
	return sshconn.OpenFiles
}

// connected is a lane other than one that has a connection, or nil.
func (p *sshPlace) connected(other *lane) *lane {
	for _, l := range p.lanes {
		if l == other || !l.mu.TryLock() {
			continue
		}
		has := l.conn != nil
		l.mu.Unlock()
		if has {
			return l
		}
	}
	return nil
}

// drop closes a connection that is of no more use.
func (l *lane) drop(c *conn) {
	l.mu.Lock()
	if l.conn == c {
		l.conn = nil
	}
	l.mu.Unlock()
	_ = c.ssh.Close()
}

// sftp begins SFTP in the connection, once for each use.
func (c *conn) sftp(s *session, begin func(*ssh.Client) (*sshconn.Files, error)) (*sshconn.Files, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.files == nil {
		files, err := begin(c.ssh)
		if err != nil {
			return nil, &connectError{fmt.Errorf("no SFTP is offered: %w", err), strings.Contains(err.Error(), "subsystem request failed")}
		}
		s.files = files
	}
	return s.files, nil
}

// dropLists ends the session for listings.
func (p *sshPlace) dropLists(c *conn) {
	c.lists.mu.Lock()
	defer c.lists.mu.Unlock()
	if c.lists.files != nil {
		_ = c.lists.files.Close()
		c.lists.files, c.listings.lift = nil, func() {}
	}
}

// pick chooses the lane with a connection that has the least to do; when all have enough, one more begins to make a
// connection. Only while there is none, one is waited for.
func (p *sshPlace) pick() *lane {
	p.picking.Lock()
	defer p.picking.Unlock()
	var best, coming, fresh, any *lane
	for i := range p.lanes {
		l := p.lanes[(p.next+i)%len(p.lanes)]
		connected, making, may := l.state()
		switch {
		case connected && (best == nil || l.busy.Load() < best.busy.Load()):
			best = l
		case making && (coming == nil || l.busy.Load() < coming.busy.Load()):
			coming = l
		case !connected && may && fresh == nil:
			fresh = l
		}
		any = l
	}
	p.next++
	switch {
	case best != nil && fresh != nil && best.busy.Load() >= busyEnough:
		fresh.warm()
		return best
	case best != nil:
		return best
	case coming != nil && (fresh == nil || coming.busy.Load() < busyEnough):
		return coming
	case fresh != nil:
		return fresh
	}
	return any
}

// do runs work on a connection, on another one if that breaks. What the far end itself
// answers is returned at once.
func (p *sshPlace) do(ctx context.Context, work func(*sshconn.Files) error) error {
	return p.withRetry(ctx, p.pick, func(c *conn) error {
		files, err := c.sftp(&c.files, p.begin())
		if err != nil {
			return err
		}
		return work(files)
	})
}

// withRetry runs work on a connection, again on another one if that breaks.
func (p *sshPlace) withRetry(ctx context.Context, pick func() *lane, work func(*conn) error) error {
	return p.retry(ctx, func() error { return p.once(ctx, pick(), work) })
}

func (p *sshPlace) once(ctx context.Context, l *lane, work func(*conn) error) error {
	l.busy.Add(1)
	defer func() { l.busy.Add(-1) }()
	c, err := l.get(ctx)
	if other := p.connected(l); err != nil && !givenUp(err) && other != nil {
		l.busy.Add(-1) // a far end that takes few connections is used with few
		l = other
		l.busy.Add(1)
		c, err = l.get(ctx)
	}
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { l.drop(c) })
	defer stop()
	var hung atomic.Bool
	limit := time.AfterFunc(callSilences*p.o.Silence, func() {
		hung.Store(true)
		l.drop(c)
	})
	defer limit.Stop()
	if err = work(c); err != nil && !answered(err) {
		p.broke.Store(true)
		l.drop(c)
	}
	if err != nil && hung.Load() {
		return &connectError{fmt.Errorf("a call was not answered in %s", callSilences*p.o.Silence), true}
	}
	return err
}

// callSilences is how often as long as a silence a single call may take: the connection
// lives, but what it asked for does not come, as when a disk over there hangs.
const callSilences = 5

// Folder implements Place.
func (p *sshPlace) Folder(ctx context.Context, dir string) (Folder, error) {
	f := &sshFolder{place: p, ctx: ctx}
	err := p.do(ctx, func(files *sshconn.Files) error {
		var real string
		var g errgroup.Group // two journeys at a time
		g.Go(func() (err error) { real, err = files.RealPath(dir); return err })
		info, err := files.Stat(dir)
		if err = cmp.Or(g.Wait(), err); err == nil && !info.IsDir() {
			err = ErrNoFolder
		}
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
func (p *sshPlace) Absolute(ctx context.Context, dir string) (real string, err error) {
	if dir == "/~" || dir == "" {
		dir = "."
	} else if rest, ok := strings.CutPrefix(dir, "/~/"); ok {
		dir = rest
	}
	err = p.do(ctx, func(files *sshconn.Files) (err error) {
		real, err = files.RealPath(dir)
		return err
	})
	if err == nil && !path.IsAbs(real) {
		err = errNames
	}
	return real, pathError("open", dir, err)
}

// Anywhere implements Place.
func (p *sshPlace) Anywhere(ctx context.Context) Folder { return &sshFolder{place: p, ctx: ctx} }

// pickTunnel is the connection for tunnels, or another one where the far end would have no
// more of them.
func (p *sshPlace) pickTunnel() *lane {
	if connected, making, may := p.tunnel.state(); connected || making || may {
		return p.tunnel
	}
	return p.pick()
}

// Dial implements Place. It needs a server that forwards connections.
func (p *sshPlace) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	var out net.Conn
	err := p.withRetry(ctx, p.pickTunnel, func(c *conn) (err error) {
		out, err = sshconn.Connect(ctx, c.ssh, network, address)
		return err
	})
	return out, err
}

// Now implements Place. The far clock is asked with date(1) or, where no command may be
// run, read off a file that is made for it in the account's first folder and removed at
// once; it has whole seconds, rounded down.
func (p *sshPlace) Now(ctx context.Context) (now time.Time, known bool) {
	if p.mayRun() {
		err := p.run(ctx, "date +%s", func(out io.Reader) error {
			text, err := io.ReadAll(io.LimitReader(out, 64))
			seconds, parseErr := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
			if now, known = time.Unix(seconds, 0), parseErr == nil && err == nil; !known {
				return errNoCommands
			}
			return nil
		})
		if err == nil || errors.Is(err, ErrUnreachable) {
			return now, known && err == nil
		}
	}
	err := p.do(ctx, func(files *sshconn.Files) error {
		name := randomName()
		f, err := files.Create(name)
		if err != nil {
			return err
		}
		_, err = f.Write([]byte("Revlet reads this machine's clock; this file can be removed.\n"))
		if err == nil {
			var info fs.FileInfo
			if info, err = f.Stat(); err == nil {
				now, known = info.ModTime(), true
			}
		}
		return errors.Join(err, f.Close(), files.Remove(name))
	})
	return now, known && err == nil
}
