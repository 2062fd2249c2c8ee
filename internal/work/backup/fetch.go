package backup

import (
	"context"

	"golang.org/x/sync/semaphore"

	"revlet/internal/site/tree"
)

const (
	// filesAhead is how many small files of a site far away are read at a time for one part,
	// bytesAhead how many bytes of them are held.
	filesAhead = 64
	bytesAhead = 32 << 20
)

// fetched is a small file that is being read.
type fetched struct {
	done  chan struct{}
	whole tree.Whole
	err   error
}

// fetcher reads the small files of a job ahead, where each costs journeys there and back.
type fetcher struct {
	files  []*fetched
	sizes  []int64
	room   *semaphore.Weighted
	cancel context.CancelFunc
	ended  chan struct{}
}

// wholeReader is where a file is read in one go, or nil.
func wholeReader(f planned) tree.WholeReader {
	if far, ok := f.in.(tree.WholeReader); ok && f.as == nil && f.info.Size() <= wholeBytes {
		return far
	}
	return nil
}

// fetchAhead begins to read the small files of a job, of which it holds so many bytes; stop
// ends that, and waits for it.
func fetchAhead(ctx context.Context, files []planned, bytes int64) *fetcher {
	f := &fetcher{files: make([]*fetched, len(files)), sizes: make([]int64, len(files)), room: semaphore.NewWeighted(bytes), ended: make(chan struct{})}
	ctx, f.cancel = context.WithCancel(ctx)
	for i, file := range files {
		if wholeReader(file) != nil {
			f.files[i], f.sizes[i] = &fetched{done: make(chan struct{})}, max(file.info.Size(), bytes/filesAhead)
		}
	}
	go func() {
		defer close(f.ended)
		all := semaphore.NewWeighted(filesAhead)
		for i, one := range f.files {
			if one == nil {
				continue
			}
			if f.room.Acquire(ctx, f.sizes[i]) != nil || all.Acquire(ctx, 1) != nil {
				break
			}
			go func() {
				one.whole, one.err = wholeReader(files[i]).ReadWhole(files[i].rel, wholeBytes)
				all.Release(1)
				close(one.done)
			}()
		}
		_ = all.Acquire(context.WithoutCancel(ctx), filesAhead)
	}()
	return f
}

// take waits for a file; ok is false for one that is not read ahead.
func (f *fetcher) take(ctx context.Context, i int) (w tree.Whole, ok bool, err error) {
	one := f.files[i]
	if one == nil {
		return w, false, nil
	}
	select {
	case <-one.done:
	case <-ctx.Done():
		return w, true, ctx.Err()
	}
	f.room.Release(f.sizes[i])
	w, err = one.whole, one.err
	one.whole = tree.Whole{}
	return w, true, err
}

func (f *fetcher) stop() {
	f.cancel()
	<-f.ended
}
