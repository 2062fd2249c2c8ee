// Package connpool is a pool of connections to one server: a bounded number of them,
// each used by one call at a time.
//
// Take waits for a connection and Lease.Release gives it back; Do does both around a
// call. A connection whose context ends while it is leased is closed, which ends the
// call that is under way on it: protocols such as FTP know no other way. Broken
// connections are not put back. A Pool is safe for concurrent use.
package connpool

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"revlet/internal/store"
)

// Pool holds up to a fixed number of connections. A connection serves one call
// at a time.
type Pool[C io.Closer] struct {
	dial  func(context.Context) (C, error)
	slots chan struct{}

	mu     sync.Mutex
	idle   []C
	closed bool
}

// New returns a pool of at most most connections, made by dial when needed.
func New[C io.Closer](most int, dial func(context.Context) (C, error)) *Pool[C] {
	return &Pool[C]{dial: dial, slots: make(chan struct{}, max(most, 1))}
}

// Lease is a connection that is in use.
type Lease[C io.Closer] struct {
	Conn C
	pool *Pool[C]
	stop func() bool
	once sync.Once
}

// Take waits for a connection. When ctx ends before it is given back, it is
// closed, which ends whatever call is under way on it.
func (p *Pool[C]) Take(ctx context.Context) (*Lease[C], error) {
	if err := p.wait(ctx); err != nil {
		return nil, err
	}
	conn, err := p.connection(ctx)
	if err != nil {
		<-p.slots
		return nil, err
	}
	return &Lease[C]{Conn: conn, pool: p, stop: context.AfterFunc(ctx, func() { _ = conn.Close() })}, nil
}

// waitAtMost is how long Take waits for a connection that is in use. Whoever holds one
// is ended when it stalls; only a caller that wants one more while it holds all of
// them would wait for ever.
const waitAtMost = 5 * time.Minute

// tick is how often one that waits says that it lives.
const tick = 100 * time.Millisecond

// wait takes a slot. Waiting for a connection that others use is no silence of the far
// end: whoever watches over ctx is told so.
func (p *Pool[C]) wait(ctx context.Context) error {
	select {
	case p.slots <- struct{}{}:
		return nil
	default:
	}
	ticker := time.NewTicker(tick)
	defer ticker.Stop()
	for began := time.Now(); ; {
		select {
		case p.slots <- struct{}{}:
			return nil
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-ticker.C:
			if time.Since(began) > waitAtMost {
				return fmt.Errorf("none of %d connections (`lanes:`) has become free in %s", cap(p.slots), waitAtMost)
			}
			store.Alive(ctx)
		}
	}
}

func (p *Pool[C]) connection(ctx context.Context) (C, error) {
	p.mu.Lock()
	if n := len(p.idle); n > 0 {
		conn := p.idle[n-1]
		p.idle = p.idle[:n-1]
		p.mu.Unlock()
		return conn, nil
	}
	p.mu.Unlock()
	return p.dial(ctx)
}

// Release gives the connection back, or closes it when it is of no more use.
func (l *Lease[C]) Release(usable bool) {
	l.once.Do(func() {
		defer func() { <-l.pool.slots }()
		usable = l.stop() && usable
		l.pool.mu.Lock()
		usable = usable && !l.pool.closed
		if usable {
			l.pool.idle = append(l.pool.idle, l.Conn)
		}
		l.pool.mu.Unlock()
		if !usable {
			_ = l.Conn.Close()
		}
	})
}

// Do runs work on a connection. clean tells of an error whether the connection
// is still good: the far end has answered, only not as hoped.
func (p *Pool[C]) Do(ctx context.Context, clean func(error) bool, work func(C) error) error {
	l, err := p.Take(ctx)
	if err != nil {
		return err
	}
	err = work(l.Conn)
	l.Release(err == nil || clean(err))
	if err != nil && ctx.Err() != nil {
		return errors.Join(context.Cause(ctx), err)
	}
	return err
}

// Close closes the connections that are not in use, and the others when they
// are given back.
func (p *Pool[C]) Close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.closed = true
	var err error
	for _, c := range p.idle {
		err = errors.Join(err, c.Close())
	}
	p.idle = nil
	return err
}
