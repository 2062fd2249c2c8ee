package sftp

import (
	"context"
	"errors"
	"io"
	"sync"

	"golang.org/x/sync/errgroup"

	"revlet/internal/store"
	"revlet/internal/store/sshconn"
)

// filesAtOnce is how many files are read side by side on one connection. Far ends bound how many one may have open; some
// at a hundred.
const filesAtOnce = 40

// Gather implements store.Gatherer: the questions for many files are on their way at the same time.
func (s *Store) Gather(ctx context.Context, names []string, most int64, visit func(i int, data []byte, err error)) {
	next := 0
	err := s.do(ctx, func(c *client) error {
		var g errgroup.Group
		var broken error
		var mu sync.Mutex
		g.SetLimit(filesAtOnce)
		for ; next < len(names); next++ {
			mu.Lock()
			gone := broken
			mu.Unlock()
			if gone != nil {
				break
			}
			i := next
			g.Go(func() error {
				data, err := s.whole(c, names[i], most)
				if err != nil && !errors.Is(err, store.ErrRefused) && !errors.Is(err, store.ErrNotFound) && !sshconn.Answered(err) {
					mu.Lock()
					broken = err
					mu.Unlock()
				}
				store.Alive(ctx)
				visit(i, data, err)
				return nil
			})
		}
		_ = g.Wait()
		return broken
	})
	for ; next < len(names); next++ { // those that no connection was left for
		visit(next, nil, err)
	}
}

// whole reads a file on a connection that others use, too.
func (s *Store) whole(c *client, name string, most int64) ([]byte, error) {
	f, err := c.Open(s.path(name))
	if err != nil {
		return nil, explain(name, err)
	}
	data := make([]byte, most+1)
	n, err := f.ReadAt(data, 0) // its pieces are asked for at once, and not one after the other until there are none
	if errors.Is(err, io.EOF) {
		err = nil
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return nil, explain(name, err)
	}
	return store.Whole(name, data[:n:n], most)
}
