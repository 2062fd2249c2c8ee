// Package retry wraps a store.Store so that an unreliable far end can be used:
//
//   - transient errors are retried with exponential backoff, errors that another
//     try will not mend (store.ErrNotFound, store.ErrRefused) are returned at once;
//   - transfers that stall are given up after a time without a byte;
//   - interrupted reads resume where they stopped;
//   - throughput stays below a limit, both ways together.
//
// After a call has exhausted its retries the circuit is open: until a call succeeds,
// later calls are tried once, so that a job does not wait for a store that is down
// again and again.
//
// Begin with New. A Store is safe for concurrent use. The caller still decides what
// an error means: this package only tells apart what may pass from what will not.
package retry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/time/rate"

	"revlet/internal/store"
)

// Options say how patient and how fast a store is used.
type Options struct {
	// Rate bounds the bytes a second, both ways together; 0 is no bound.
	Rate int64
	// Silence is how long the far end may say nothing; 0 means a minute.
	Silence time.Duration
	// Grace is how long a call may take besides what its bytes take at the slowest rate that there is; 0 means half an hour.
	Grace time.Duration
	// Tries is how often a call is made before its error counts; 0 means 6.
	Tries uint
	// Pause is the wait before the second try, doubled for each further one up
	// to a quarter of a minute; 0 means 400 milliseconds.
	Pause time.Duration
	// Alive, if set, is called whenever the far end shows a sign of life.
	Alive func()
}

// Store retries the calls of the store that it wraps.
type Store struct {
	store.Store
	o     Options
	limit *rate.Limiter
	// circuitOpen is set after a call has exhausted its retries; until a call
	// succeeds, later calls are tried once.
	circuitOpen *atomic.Bool
}

const (
	longestPause = 15 * time.Second
	burst        = 64 << 10
)

// New wraps inner.
func New(inner store.Store, o Options) *Store {
	if o.Silence == 0 {
		o.Silence = time.Minute
	}
	if o.Grace == 0 {
		o.Grace = 30 * time.Minute
	}
	if o.Tries == 0 {
		o.Tries = 6
	}
	if o.Pause == 0 {
		o.Pause = 400 * time.Millisecond
	}
	s := &Store{Store: inner, o: o, circuitOpen: &atomic.Bool{}}
	if o.Rate > 0 {
		s.limit = rate.NewLimiter(rate.Limit(o.Rate), int(max(min(o.Rate, burst), 1)))
	}
	return s
}

// errStalled is why a call is given up that makes no progress.
var errStalled = errors.New("the far end has stopped answering")

// errSlow is why a call is given up whose far end says a byte now and then: it is never silent, and would be waited for for ever.
var errSlow = errors.New("the far end is slower than any line is")

// slowest is how many bytes a second a store has to take or give, in the long run.
const slowest = 4 << 10

// most is how long a call may take that carries so many bytes.
func (s *Store) most(bytes int64) time.Duration {
	rate := int64(slowest)
	if s.o.Rate > 0 {
		rate = max(min(rate, s.o.Rate/64), 1)
	}
	return s.o.Grace + time.Duration(bytes/rate)*time.Second
}

// within ends a call that takes longer than it may, until the returned function is called.
func (w *stallTimer) within(most time.Duration) (stop func() bool) {
	return time.AfterFunc(most, func() { w.cancel(fmt.Errorf("%w: it was given %s", errSlow, most.Round(time.Second))) }).Stop
}

// stallTimer cancels a call that makes no progress. Its context is that of the call:
// a reader has no other way to be ended.
type stallTimer struct {
	ctx    context.Context
	cancel context.CancelCauseFunc
	timer  *time.Timer
	d      time.Duration
	told   func()
}

func (s *Store) watchStall(ctx context.Context) *stallTimer {
	w := &stallTimer{d: s.o.Silence, told: s.o.Alive}
	ctx, w.cancel = context.WithCancelCause(ctx)
	w.ctx = store.WithAlive(ctx, w.alive)
	w.timer = time.AfterFunc(w.d, func() { w.cancel(fmt.Errorf("%w for %s", errStalled, w.d)) })
	return w
}

func (w *stallTimer) alive() {
	w.timer.Reset(w.d)
	if w.told != nil {
		w.told()
	}
}

func (w *stallTimer) rest() { w.timer.Stop() }

func (w *stallTimer) end() {
	w.timer.Stop()
	w.cancel(nil)
}

// explain puts the reason for giving up in place of the error it caused.
func (w *stallTimer) explain(err error) error {
	if err == nil {
		return nil
	}
	if cause := context.Cause(w.ctx); errors.Is(cause, errStalled) || errors.Is(cause, errSlow) {
		return cause
	}
	return err
}

// withRetry runs call until it works, cannot work or has been tried often enough.
func (s *Store) withRetry(ctx context.Context, call func(*stallTimer) error) error {
	return s.withRetryOf(ctx, 0, call)
}

// withRetryOf is withRetry for a call that carries so many bytes.
func (s *Store) withRetryOf(ctx context.Context, bytes int64, call func(*stallTimer) error) error {
	_, err := do(ctx, s, func() (struct{}, error) {
		w := s.watchStall(ctx)
		defer w.end()
		defer w.within(s.most(bytes))()
		return struct{}{}, w.explain(call(w))
	})
	return err
}

func do[T any](ctx context.Context, s *Store, call func() (T, error)) (T, error) {
	tries := s.o.Tries
	if s.circuitOpen.Load() {
		tries = 1
	}
	pace := &backoff.ExponentialBackOff{InitialInterval: s.o.Pause, RandomizationFactor: 0.3, Multiplier: 2, MaxInterval: longestPause}
	v, err := backoff.Retry(ctx, func() (T, error) {
		v, err := call()
		if permanent(err) || ctx.Err() != nil && err != nil {
			err = backoff.Permanent(err)
		}
		return v, err
	}, backoff.WithBackOff(pace), backoff.WithMaxTries(tries), backoff.WithMaxElapsedTime(0))
	s.circuitOpen.Store(err != nil && !permanent(err))
	var final *backoff.PermanentError
	if errors.As(err, &final) {
		err = final.Unwrap()
	}
	if ctx.Err() != nil && err != nil {
		return v, ctx.Err()
	}
	return v, err
}

// permanent tells errors that another try will not mend.
func permanent(err error) bool {
	return errors.Is(err, store.ErrNotFound) || errors.Is(err, store.ErrRefused) || errors.Is(err, errSlow)
}

// Check implements store.Store. It is tried twice only: a person waits for it.
func (s *Store) Check(ctx context.Context) error {
	brief := *s
	brief.o.Tries = min(s.o.Tries, 2)
	return brief.withRetry(ctx, func(w *stallTimer) error { return s.Store.Check(w.ctx) })
}

// abandoner is a store that keeps what a cut upload has brought over, so that
// the next try goes on from there.
type abandoner interface {
	// Abandon removes what is kept of an upload that is given up.
	Abandon(ctx context.Context, name string) error
}

// abandonTime is how long clearing up after an upload may take.
const abandonTime = 5 * time.Second

// Put implements store.Store.
func (s *Store) Put(ctx context.Context, name string, src io.ReadSeeker, size int64) error {
	err := s.withRetryOf(ctx, size, func(w *stallTimer) error {
		if _, err := src.Seek(0, io.SeekStart); err != nil {
			return store.Refuse("%w", err)
		}
		err := s.Store.Put(w.ctx, name, &source{ReadSeeker: src, w: w, s: s, size: size}, size)
		if errors.Is(err, store.ErrNotFound) {
			return fmt.Errorf("write %s: %v", name, err) // what is written need not be there
		}
		return err
	})
	if a, ok := s.Store.(abandoner); ok && err != nil {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), abandonTime)
		defer cancel()
		_ = a.Abandon(ctx, name) // what stays is cleared away when it is old
	}
	return err
}

// drainTimes is how much longer the far end may be silent once all was handed
// over: some MiB may still be on their way in buffers that nobody sees into.
const drainTimes = 3

// source tells the stallTimer of progress and keeps to the rate.
type source struct {
	io.ReadSeeker
	w    *stallTimer
	s    *Store
	size int64
	read int64
}

func (r *source) Read(p []byte) (int, error) {
	n, err := r.ReadSeeker.Read(r.s.chunk(p))
	if r.read += int64(n); r.read >= r.size {
		r.w.d = drainTimes * r.s.o.Silence
	}
	r.w.alive()
	if throttleErr := r.s.throttle(r.w.ctx, n); throttleErr != nil {
		return n, throttleErr
	}
	return n, err
}

// chunk shortens p to what the rate allows at a time.
func (s *Store) chunk(p []byte) []byte {
	if s.limit == nil {
		return p
	}
	return p[:min(len(p), s.limit.Burst())]
}

// throttle waits until the rate allows n bytes.
func (s *Store) throttle(ctx context.Context, n int) error {
	if s.limit == nil || n == 0 {
		return nil
	}
	return s.limit.WaitN(ctx, n)
}

// Open implements store.Store. The reader goes on where a connection broke.
func (s *Store) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	r := &reader{s: s, ctx: ctx, name: name, at: offset}
	return r, s.reopen(r)
}

func (s *Store) reopen(r *reader) error {
	type opened struct {
		in io.ReadCloser
		w  *stallTimer
	}
	o, err := do(r.ctx, s, func() (opened, error) {
		w := s.watchStall(r.ctx)
		in, err := s.Store.Open(w.ctx, r.name, r.at)
		if err != nil {
			err = w.explain(err)
			w.end()
			return opened{}, err
		}
		w.rest()
		return opened{in, w}, nil
	})
	r.in, r.w = o.in, o.w
	return err
}

// reader reads one object through several connections if need be.
type reader struct {
	s    *Store
	ctx  context.Context
	name string
	at   int64
	in   io.ReadCloser
	w    *stallTimer
	// broken counts connections lost since the last byte.
	broken uint
	// waited is how long the far end was waited for, and got what it has given meanwhile, in bytes.
	waited time.Duration
	got    int64
}

// wait waits for the far end.
func (r *reader) wait(work func() (int, error)) (int, error) {
	began := time.Now()
	n, err := work()
	r.waited += time.Since(began)
	r.got += int64(n)
	if most := r.s.most(r.got); r.waited > most {
		return n, fmt.Errorf("read %s: %w: it has given %d bytes in %s", r.name, errSlow, r.got, r.waited.Round(time.Second))
	}
	return n, err
}

// Read implements io.Reader.
func (r *reader) Read(p []byte) (int, error) {
	for {
		if r.in == nil {
			if _, err := r.wait(func() (int, error) { return 0, r.s.reopen(r) }); err != nil {
				return 0, err
			}
		}
		r.w.alive()
		n, err := r.wait(func() (int, error) { return r.in.Read(r.s.chunk(p)) })
		r.w.rest()
		r.at += int64(n)
		if throttleErr := r.s.throttle(r.ctx, n); throttleErr != nil {
			return n, throttleErr
		}
		if n > 0 {
			r.broken = 0
		}
		if err == nil || errors.Is(err, io.EOF) || permanent(err) || r.ctx.Err() != nil {
			return n, err
		}
		r.broken++
		err = r.w.explain(err)
		r.drop()
		if r.broken >= r.s.o.Tries {
			return n, fmt.Errorf("read %s: %w", r.name, err)
		}
		if n > 0 {
			return n, nil
		}
	}
}

func (r *reader) drop() {
	if r.in != nil {
		_ = r.in.Close()
		r.w.end()
		r.in = nil
	}
}

// Close implements io.Closer.
func (r *reader) Close() error {
	r.drop()
	return nil
}

// Gather implements store.Gatherer. What did not come the first time is asked for one by one, with all patience.
func (s *Store) Gather(ctx context.Context, names []string, most int64, visit func(i int, data []byte, err error)) {
	g, ok := s.Store.(store.Gatherer)
	if !ok {
		store.OpenEach(ctx, s, names, most, visit)
		return
	}
	w := s.watchStall(ctx)
	defer w.within(s.most(int64(len(names)) * burst))()
	var mu sync.Mutex
	var again []int
	g.Gather(w.ctx, names, most, func(i int, data []byte, err error) {
		w.alive()
		if err == nil {
			err = s.throttleAll(w.ctx, len(data))
		}
		if err == nil || permanent(err) {
			visit(i, data, err)
			return
		}
		mu.Lock()
		defer mu.Unlock()
		again = append(again, i)
	})
	w.end()
	left := make([]string, len(again))
	for k, i := range again {
		left[k] = names[i]
	}
	store.OpenEach(ctx, s, left, most, func(k int, data []byte, err error) { visit(again[k], data, err) })
}

// throttleAll waits until the rate allows any number of bytes.
func (s *Store) throttleAll(ctx context.Context, n int) error {
	if s.limit == nil {
		return nil
	}
	for burst := s.limit.Burst(); n > 0; n -= burst {
		if err := s.throttle(ctx, min(n, burst)); err != nil {
			return err
		}
	}
	return nil
}

// Stat implements store.Store.
func (s *Store) Stat(ctx context.Context, name string) (info store.Info, err error) {
	err = s.withRetry(ctx, func(w *stallTimer) (err error) { info, err = s.Store.Stat(w.ctx, name); return err })
	return info, err
}

// Protect implements store.Store.
func (s *Store) Protect(ctx context.Context, name string) error {
	return s.withRetry(ctx, func(w *stallTimer) error { return s.Store.Protect(w.ctx, name) })
}

// List implements store.Store.
func (s *Store) List(ctx context.Context, dir string) (infos []store.Info, err error) {
	err = s.withRetry(ctx, func(w *stallTimer) (err error) {
		infos, err = s.Store.List(w.ctx, dir)
		return err
	})
	return infos, err
}

// Folders implements store.Store.
func (s *Store) Folders(ctx context.Context, dir string) (names []string, err error) {
	err = s.withRetry(ctx, func(w *stallTimer) (err error) { names, err = s.Store.Folders(w.ctx, dir); return err })
	return names, err
}

// Remove implements store.Store.
func (s *Store) Remove(ctx context.Context, name string) error {
	return s.withRetry(ctx, func(w *stallTimer) error { return s.Store.Remove(w.ctx, name) })
}
