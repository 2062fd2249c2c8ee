package progress

import (
	"sync"
	"time"
)

// Beat is an Observer that remembers when it last heard of work, so that others can
// tell work that goes on from work that hangs. The zero value is ready.
type Beat struct {
	// Now is the clock; nil means time.Now.
	Now func() time.Time

	mu      sync.Mutex
	working int
	heard   time.Time
}

func (b *Beat) now() time.Time {
	if b.Now != nil {
		return b.Now()
	}
	return time.Now()
}

func (b *Beat) hear(change int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.working += change
	b.heard = b.now()
}

// Begin tells that work begins; the function that it returns, that it has ended.
func (b *Beat) Begin() (end func()) {
	b.hear(1)
	return func() { b.hear(-1) }
}

// Silence is for how long work that has begun has not been heard of; 0 if there is none.
func (b *Beat) Silence() time.Duration {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.working == 0 {
		return 0
	}
	return b.now().Sub(b.heard)
}

// Phase implements Observer.
func (b *Beat) Phase(string, int64) { b.hear(0) }

// Advance implements Observer.
func (b *Beat) Advance(int64) { b.hear(0) }

// Note implements Observer.
func (b *Beat) Note(string) { b.hear(0) }
