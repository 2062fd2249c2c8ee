package store

import (
	"context"
	"fmt"
	"io"

	"golang.org/x/sync/errgroup"
)

// ErrLong is wrapped when an object is longer than what was to be read of it.
var ErrLong = fmt.Errorf("%w: it is longer than it may be", ErrRefused)

// Gatherer is a store that reads many small objects in few journeys to the far end and back.
type Gatherer interface {
	// Gather reads whole objects of at most most bytes. visit is called once for each, with its index, and for several
	// at a time. The error for a missing one wraps ErrNotFound, that for a longer one ErrLong.
	Gather(ctx context.Context, names []string, most int64, visit func(i int, data []byte, err error))
}

// openAtOnce is how many objects are read side by side from a store that is no Gatherer.
const openAtOnce = 8

// Gather reads whole objects of at most most bytes, as Gatherer says.
func Gather(ctx context.Context, s Store, names []string, most int64, visit func(i int, data []byte, err error)) {
	if g, ok := s.(Gatherer); ok {
		g.Gather(ctx, names, most, visit)
		return
	}
	OpenEach(ctx, s, names, most, visit)
}

// Gather implements Gatherer.
func (n Named) Gather(ctx context.Context, names []string, most int64, visit func(i int, data []byte, err error)) {
	Gather(ctx, n.Store, names, most, visit)
}

// OpenEach is Gather for any store: each object is opened.
func OpenEach(ctx context.Context, s Store, names []string, most int64, visit func(i int, data []byte, err error)) {
	var g errgroup.Group
	g.SetLimit(openAtOnce)
	for i, name := range names {
		g.Go(func() error {
			data, err := readWhole(ctx, s, name, most)
			visit(i, data, err)
			return nil
		})
	}
	_ = g.Wait() // each error was visited
}

func readWhole(ctx context.Context, s Store, name string, most int64) ([]byte, error) {
	in, err := s.Open(ctx, name, 0)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	data, err := io.ReadAll(io.LimitReader(in, most+1))
	if err != nil {
		return nil, err
	}
	return Whole(name, data, most)
}

// Whole are the bytes of an object, of which one more than most was asked for.
func Whole(name string, data []byte, most int64) ([]byte, error) {
	if int64(len(data)) > most {
		return nil, fmt.Errorf("%s: %w", name, ErrLong)
	}
	return data, nil
}
