package sshconn

import (
	"errors"
	"io"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

// A channel whose answer never comes is waited for as long as its connection lives, and no longer.
func TestAChannelOfAConnectionThatHasEnded(t *testing.T) {
	for name, c := range map[string]struct {
		open  func() (int, error)
		alive func(asked int) error
		want  int
		err   error
		took  time.Duration
	}{
		"at once":             {func() (int, error) { return 1, nil }, nil, 1, nil, 0},
		"refused":             {func() (int, error) { return 0, io.EOF }, nil, 0, io.EOF, 0},
		"after a while":       {func() (int, error) { time.Sleep(150 * time.Second); return 2, nil }, func(int) error { return nil }, 2, nil, 150 * time.Second},
		"never, it has ended": {nil, func(int) error { return io.ErrClosedPipe }, 0, io.ErrClosedPipe, 2 * lookEvery},
		"never, it ends": {nil, func(asked int) error {
			if asked < 5 {
				return nil
			}
			return io.ErrClosedPipe
		}, 0, io.ErrClosedPipe, 6 * lookEvery},
		"it ends, and that is told": {func() (int, error) { time.Sleep(lookEvery * 3 / 2); return 0, io.EOF }, func(int) error { return io.ErrClosedPipe }, 0, io.EOF, lookEvery * 3 / 2},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				began, asked := time.Now(), 0
				end := make(chan struct{})
				open := c.open
				if open == nil {
					open = func() (int, error) { <-end; return 0, errors.New("left behind") }
				}
				got, err := whileAlive(open, func() error { asked++; return c.alive(asked) }, lookEvery)
				assert.Equal(t, c.want, got)
				assert.ErrorIs(t, err, c.err)
				assert.Equal(t, c.took, time.Since(began))
				close(end)
			})
		})
	}
}
