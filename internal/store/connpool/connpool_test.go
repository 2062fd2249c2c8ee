package connpool

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type conn struct {
	closed atomic.Bool
	done   chan struct{}
	once   sync.Once
}

func (c *conn) Close() error {
	c.once.Do(func() { c.closed.Store(true); close(c.done) })
	return nil
}

func pool(most int) (*Pool[*conn], *atomic.Int32) {
	var dialled atomic.Int32
	return New(most, func(context.Context) (*conn, error) {
		dialled.Add(1)
		return &conn{done: make(chan struct{})}, nil
	}), &dialled
}

func TestNoMoreConnectionsThanLanes(t *testing.T) {
	p, dialled := pool(3)
	var busy, most atomic.Int32
	var g sync.WaitGroup
	for range 60 {
		g.Go(func() {
			assert.NoError(t, p.Do(t.Context(), nil, func(*conn) error {
				most.Store(max(most.Load(), busy.Add(1)))
				time.Sleep(time.Millisecond)
				busy.Add(-1)
				return nil
			}))
		})
	}
	g.Wait()
	assert.LessOrEqual(t, most.Load(), int32(3))
	assert.LessOrEqual(t, dialled.Load(), int32(3), "connections are used again")
	require.NoError(t, p.Close())
}

func TestABrokenConnectionIsNotUsedAgain(t *testing.T) {
	p, dialled := pool(1)
	answered, cut := errors.New("no such file"), errors.New("connection reset")
	clean := func(err error) bool { return errors.Is(err, answered) }
	var first *conn
	assert.ErrorIs(t, p.Do(t.Context(), clean, func(c *conn) error { first = c; return answered }), answered)
	assert.False(t, first.closed.Load(), "the far end has answered: the connection is good")
	assert.ErrorIs(t, p.Do(t.Context(), clean, func(c *conn) error { assert.Same(t, first, c); return cut }), cut)
	assert.True(t, first.closed.Load())
	require.NoError(t, p.Do(t.Context(), clean, func(*conn) error { return nil }))
	assert.EqualValues(t, 2, dialled.Load())
}

func TestCancelClosesTheConnectionInUse(t *testing.T) {
	p, _ := pool(1)
	ctx, cancel := context.WithCancel(t.Context())
	err := p.Do(ctx, func(error) bool { return true }, func(c *conn) error {
		cancel()
		<-c.done // a call that only ends with its connection
		return errors.New("use of closed connection")
	})
	assert.ErrorIs(t, err, context.Canceled)
	require.NoError(t, p.Do(t.Context(), nil, func(c *conn) error {
		assert.False(t, c.closed.Load())
		return nil
	}), "the lane is free again")
	l, err := p.Take(t.Context())
	require.NoError(t, err)
	waiting, stop := context.WithTimeout(t.Context(), 5*time.Millisecond)
	defer stop()
	_, err = p.Take(waiting)
	assert.ErrorIs(t, err, context.DeadlineExceeded, "waiting for a lane can be given up")
	l.Release(true)
	l.Release(true)
	require.NoError(t, p.Close())
	assert.True(t, l.Conn.closed.Load())
}
