package backup

import (
	"container/heap"
	"context"
	"sync"

	"revlet/internal/archives/archive"
	"revlet/internal/site/tree"
)

const (
	// listersAhead is how many folders of a site far away are read at a time: each takes
	// several journeys there and back.
	listersAhead = 96
	// mostListed bounds how many names are held of folders that were read ahead.
	mostListed = 200_000
)

// lister reads folders, maybe ahead of those who ask.
type lister interface {
	// look begins to read a folder; what it returns waits for the end, and is called once.
	look(in tree.Folder, rel string) func() listing
}

// prefetcher reads the folders of a site far away before they are visited: below a folder
// that was read, in the order of the walk.
type prefetcher struct {
	skips func(rel string) bool

	mu     sync.Mutex
	wake   *sync.Cond
	queue  folderQueue
	known  map[folderKey]*prefetched
	held   int
	ended  bool
	closed sync.WaitGroup
}

type folderKey struct {
	in  tree.Folder
	rel string
}

// prefetched is a folder that is read ahead.
type prefetched struct {
	folderKey
	// at is its place in the queue, -1 once it is being read.
	at    int
	done  chan struct{}
	found listing
}

// newPrefetcher starts one; it ends with stop. What skips says is not read ahead.
func newPrefetcher(ctx context.Context, skips func(rel string) bool) (p *prefetcher, stop func()) {
	p = &prefetcher{skips: skips, known: map[folderKey]*prefetched{}}
	p.wake = sync.NewCond(&p.mu)
	end := func() {
		p.mu.Lock()
		p.ended = true
		p.mu.Unlock()
		p.wake.Broadcast()
	}
	cancelled := context.AfterFunc(ctx, end)
	for range listersAhead {
		p.closed.Go(p.work)
	}
	return p, func() {
		cancelled()
		end()
		p.closed.Wait()
	}
}

// work reads folders of the queue.
func (p *prefetcher) work() {
	for {
		p.mu.Lock()
		for !p.ended && (len(p.queue) == 0 || p.held > mostListed) {
			p.wake.Wait()
		}
		if p.ended {
			p.mu.Unlock()
			return
		}
		f := heap.Pop(&p.queue).(*prefetched)
		p.mu.Unlock()
		f.found = readListing(f.in, f.rel)
		p.mu.Lock()
		p.held += len(f.found.names)
		p.below(f.in, f.rel, f.found)
		p.mu.Unlock()
		close(f.done)
	}
}

// below queues the folders in a folder that was read. The lock is held.
func (p *prefetcher) below(in tree.Folder, rel string, l listing) {
	for i, info := range l.infos {
		name := joinRel(rel, l.names[i])
		if info.Err != nil || !info.IsDir() || p.skips(name) || len(p.queue) > mostListed {
			continue
		}
		f := &prefetched{folderKey: folderKey{in, name}, done: make(chan struct{})}
		p.known[f.folderKey] = f
		heap.Push(&p.queue, f)
		p.wake.Signal()
	}
}

// look implements lister.
func (p *prefetcher) look(in tree.Folder, rel string) func() listing {
	return func() listing {
		key := folderKey{in, rel}
		p.mu.Lock()
		f, known := p.known[key]
		delete(p.known, key)
		if known && f.at >= 0 {
			heap.Remove(&p.queue, f.at) // nobody has begun: it is read at once
			known = false
		}
		p.mu.Unlock()
		if known {
			<-f.done
			p.mu.Lock()
			p.held -= len(f.found.names)
			p.mu.Unlock()
			p.wake.Broadcast()
			return f.found
		}
		found := readListing(in, rel)
		p.mu.Lock()
		if !p.ended {
			p.below(in, rel, found)
		}
		p.mu.Unlock()
		return found
	}
}

// folderQueue is a heap of folders in the order of the walk.
type folderQueue []*prefetched

// Len implements heap.Interface.
func (q folderQueue) Len() int { return len(q) }

// Less implements heap.Interface.
func (q folderQueue) Less(i, j int) bool { return archive.ComparePaths(q[i].rel, q[j].rel) < 0 }

// Swap implements heap.Interface.
func (q folderQueue) Swap(i, j int) {
	q[i], q[j] = q[j], q[i]
	q[i].at, q[j].at = i, j
}

// Push implements heap.Interface.
func (q *folderQueue) Push(x any) {
	f := x.(*prefetched)
	f.at = len(*q)
	*q = append(*q, f)
}

// Pop implements heap.Interface.
func (q *folderQueue) Pop() any {
	old := *q
	f := old[len(old)-1]
	f.at = -1
	*q = old[:len(old)-1]
	return f
}
