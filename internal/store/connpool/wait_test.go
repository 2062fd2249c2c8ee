package connpool

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/store"
)

type link struct{ closed atomic.Bool }

func (c *link) Close() error { c.closed.Store(true); return nil }

func TestWhoWaitsSaysThatItLives(t *testing.T) {
	p := New(1, func(context.Context) (*link, error) { return &link{}, nil })
	held, err := p.Take(t.Context())
	require.NoError(t, err)
	var alive atomic.Int64
	ctx := store.WithAlive(t.Context(), func() { alive.Add(1) })
	taken := make(chan *Lease[*link])
	go func() {
		l, err := p.Take(ctx)
		assert.NoError(t, err)
		taken <- l
	}()
	assert.Eventually(t, func() bool { return alive.Load() >= 2 }, 5*time.Second, 10*time.Millisecond)
	held.Release(true)
	l := <-taken
	assert.Same(t, held.Conn, l.Conn, "a good connection is used again")
	l.Release(false)
	assert.True(t, l.Conn.closed.Load())
	fresh, err := p.Take(t.Context())
	require.NoError(t, err)
	assert.NotSame(t, held.Conn, fresh.Conn)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = p.Take(ctx)
	assert.ErrorIs(t, err, context.Canceled)
}
