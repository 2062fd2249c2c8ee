package backup

import (
	"context"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"revlet/internal/archives/changes"
	"revlet/internal/site/tree"
)

const (
	// filesAhead is how many small files of a site far away are read at a time for one part,
	// bytesAhead how many bytes of them are held.
	filesAhead = 64
	bytesAhead = 32 << 20
	// filesTogether is how many files come in one stream at most, entryRoom what each of them is
	// held to take beside its content, in bytes.
	filesTogether = 512
	entryRoom     = 4 << 10
	// leastTogether is how many files make a stream worth it: to begin one takes as long as to
	// read that many one by one.
	leastTogether = 256
)

// fetched is a small file that is being read.
type fetched struct {
	done  chan struct{}
	whole tree.Whole
	err   error
}

// fetcher reads the small files of a job ahead, where each costs journeys there and back.
type fetcher struct {
	of     []planned
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
	f := &fetcher{of: files, files: make([]*fetched, len(files)), sizes: make([]int64, len(files)), room: semaphore.NewWeighted(bytes), ended: make(chan struct{})}
	ctx, f.cancel = context.WithCancel(ctx)
	for i, file := range files {
		if wholeReader(file) != nil {
			f.files[i], f.sizes[i] = &fetched{done: make(chan struct{})}, max(file.info.Size(), bytes/filesAhead)
		}
	}
	go func() {
		defer close(f.ended)
		f.work(ctx, bytes)
	}()
	return f
}

// work reads the files: those that can be had in one stream together, the others one by one.
func (f *fetcher) work(ctx context.Context, bytes int64) {
	all := semaphore.NewWeighted(filesAhead)
	defer func() { _ = all.Acquire(context.WithoutCancel(ctx), filesAhead) }()
	first, many := true, len(f.files) >= leastTogether
	for i := 0; i < len(f.files); i++ {
		if f.files[i] == nil {
			continue
		}
		some := []int{i}
		if many {
			some = f.together(i, bytes/2, first)
		}
		for _, at := range some {
			if f.room.Acquire(ctx, f.sizes[at]) != nil {
				return
			}
		}
		if all.Acquire(ctx, 1) != nil {
			return
		}
		go func() {
			defer all.Release(1)
			f.read(some)
		}()
		i, first = some[len(some)-1], first && len(some) == 1
	}
}

// together are the files from one on that are asked for in one stream: of one folder of the
// site, and so many bytes. The first stream of a job is short, for somebody waits for it. What a
// web server may run always comes by itself: whoever has broken into an account may have its
// commands tell lies.
func (f *fetcher) together(from int, most int64, first bool) (some []int) {
	in, ok := f.of[from].in.(tree.BundleReader)
	if ok {
		if most = min(most, in.BundleBytes()); first {
			most = min(most, firstTogether)
		}
	}
	if !ok || most == 0 || changes.Executable(f.of[from].rel) {
		return []int{from}
	}
	took := int64(0)
	for i := from; i < len(f.files) && len(some) < filesTogether; i++ {
		if f.files[i] == nil || f.of[i].in != f.of[from].in || changes.Executable(f.of[i].rel) {
			break
		}
		if took += f.of[i].info.Size() + entryRoom; took > most && i > from {
			break
		}
		some = append(some, i)
	}
	if len(some) > 1 {
		for _, i := range some {
			f.sizes[i] = f.of[i].info.Size() + entryRoom
		}
	}
	return some
}

// firstTogether is how much comes in the first stream of a job, in bytes.
const firstTogether = 2 << 20

// read reads some files.
func (f *fetcher) read(some []int) {
	var found map[string]tree.Whole
	if in, ok := f.of[some[0]].in.(tree.BundleReader); ok && len(some) > 1 {
		names := make([]string, len(some))
		for i, at := range some {
			names[i] = f.of[at].rel
		}
		found = in.ReadBundle(names)
	}
	var g errgroup.Group
	g.SetLimit(filesAhead)
	for _, at := range some {
		one, file := f.files[at], f.of[at]
		var ok bool
		if one.whole, ok = found[file.rel]; ok {
			close(one.done)
			continue
		}
		g.Go(func() error {
			one.whole, one.err = wholeReader(file).ReadWhole(file.rel, wholeBytes)
			close(one.done)
			return nil
		})
	}
	_ = g.Wait()
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
