package sshconn

import (
	"context"
	"net"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"
)

// watchedConn is a connection that is closed when nothing comes for too long, and that is
// read at no more than a rate.
type watchedConn struct {
	net.Conn
	// silence is the longest one, as a time.Duration; 0 is none.
	silence atomic.Int64
	limit   *rate.Limiter
}

// Read implements net.Conn.
func (c *watchedConn) Read(p []byte) (int, error) {
	if d := time.Duration(c.silence.Load()); d > 0 {
		if err := c.SetReadDeadline(time.Now().Add(d)); err != nil {
			return 0, err
		}
	}
	if c.limit != nil {
		p = p[:min(len(p), c.limit.Burst())]
	}
	n, err := c.Conn.Read(p)
	if n > 0 && c.limit != nil {
		_ = c.limit.WaitN(context.Background(), n)
	}
	return n, err
}
