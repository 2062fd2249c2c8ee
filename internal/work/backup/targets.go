package backup

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/storelock"
	"revlet/internal/platform/disk"
	"revlet/internal/store"
)

// adopter is a store on this machine that takes over a finished file from the
// folder it offers, without copying it.
type adopter interface {
	Incoming() string
	Root() string
	Adopt(ctx context.Context, name, file string) error
}

// takesOver tells whether files can be prepared in a store: as root, only where nobody else can put a link in the way.
func takesOver(s store.Named) (adopter, bool) {
	a, ok := s.Store.(adopter)
	return a, ok && (os.Geteuid() != 0 || disk.OnlyRoots(a.Incoming()))
}

// target is one of the stores that a run writes to. When something fails there
// the run goes on with the others, and the archive is pending in this one.
type target struct {
	store.Named
	own   adopter // set in the store that takes scratch files over
	sends errgroup.Group
	// waiting are bytes that have yet to go there.
	waiting atomic.Int64
	// has are the parts that were there when the run began, with their lengths.
	has map[string]int64
	// mark is the object that tells others of this run.
	mark string
	// renewing ends that it is written anew.
	renewing func()

	// damaged are objects that are there, but damaged.
	damaged map[string]bool

	// vanished are objects of the last archive that the store has no more, or of another length, and has its record still.
	vanished []string

	mu     sync.Mutex
	failed error
	mended []string
}

// sendsAtOnce is how many objects are sent to a store at a time, unless its
// configuration says otherwise: it bounds what waits on this machine's disk.
const sendsAtOnce = 4

func newTarget(s store.Named) *target {
	t := &target{Named: s}
	if s.Lanes == 0 {
		s.Lanes = sendsAtOnce
	}
	t.sends.SetLimit(s.Lanes)
	return t
}

func (t *target) err() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.failed
}

func (t *target) fail(err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.failed == nil {
		t.failed = err
	}
}

// live are the targets that nothing has failed in so far.
func (r *run) live() []*target {
	var all []*target
	for _, t := range r.targets {
		if t.err() == nil {
			all = append(all, t)
		}
	}
	return all
}

// allFailed words why no store is left to write to, or returns nil.
func (r *run) allFailed() error {
	var all error
	for _, t := range r.targets {
		err := t.err()
		if err == nil {
			return nil
		}
		all = errors.Join(all, fmt.Errorf("store %s: %w", t.Name, err))
	}
	return all
}

// object is a finished scratch file on its way to every store.
type object struct {
	name string
	size int64
	file *disk.File
	// adopted is set once the file has become part of a store.
	adopted atomic.Bool
	fresh   atomic.Bool
	// waits counts the stores that it has not come to yet.
	waits atomic.Int32
	done  func(fresh bool)
}

// send brings a finished scratch file into every store in the background. The
// ledger names it first, so that it can be found again if the run dies.
//
// It is the run's context that counts: what hands a file over may be done, and
// its context at an end, long before the file has arrived.
func (r *run) send(name string, size int64, f *disk.File, done func(fresh bool)) error {
	again, err := r.ledger.note(name)
	if err != nil || again {
		r.spool.discard(f)
		return err
	}
	targets := r.live()
	if len(targets) == 0 {
		r.spool.discard(f)
		return r.allFailed()
	}
	if r.own != nil {
		if err := f.Sync(); err != nil {
			r.spool.discard(f)
			return fmt.Errorf("write %s: %w", name, err)
		}
	}
	o := &object{name: name, size: size, file: f, done: done}
	o.waits.Store(int32(len(targets)))
	for _, t := range targets {
		t.waiting.Add(size)
		t.sends.Go(func() error {
			defer t.waiting.Add(-size)
			if t.err() == nil {
				if err := r.put(t, o); err != nil {
					t.fail(err)
				}
			}
			r.arrived(o)
			return nil
		})
	}
	return nil
}

// arrived counts a store off; the last one removes the scratch file.
func (r *run) arrived(o *object) {
	if o.waits.Add(-1) > 0 {
		return
	}
	if o.adopted.Load() {
		_ = o.file.Close()
	} else {
		r.spool.discard(o.file)
	}
	o.done(o.fresh.Load())
}

// take puts one object into the store unless it is there.
func (t *target) take(ctx context.Context, o *object) error {
	info, err := t.Stat(ctx, o.name)
	if err == nil && info.Bytes == o.size && !t.damaged[o.name] {
		return nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	o.fresh.Store(true)
	if t.own != nil {
		if err := t.own.Adopt(ctx, o.name, o.file.Name()); err != nil {
			return err
		}
		o.adopted.Store(true)
	} else if err := t.hand(ctx, o); err != nil {
		if t.damaged[o.name] && errors.Is(err, store.ErrKeeper) {
			return fmt.Errorf("%s is damaged there, and has to be removed first: %w", o.name, err)
		}
		return err
	}
	if t.damaged[o.name] {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.mended = append(t.mended, o.name)
	}
	return nil
}

// hand sends an object, and counts what of it was taken off this machine.
func (t *target) hand(ctx context.Context, o *object) error {
	h := &handing{ReadSeeker: io.NewSectionReader(o.file, 0, o.size), waiting: &t.waiting}
	defer func() { t.waiting.Add(h.most.Load()) }() // whoever has added it all takes it all off
	return t.Put(ctx, o.name, h, o.size)
}

// handing counts how far an object was read, however often it is begun anew. A client library may read on
// for a moment after its call has failed.
type handing struct {
	io.ReadSeeker
	waiting  *atomic.Int64
	at, most atomic.Int64
}

func (h *handing) Read(p []byte) (int, error) {
	n, err := h.ReadSeeker.Read(p)
	at := h.at.Add(int64(n))
	if further := at - h.most.Load(); further > 0 {
		h.most.Store(at)
		h.waiting.Add(-further)
	}
	return n, err
}

func (h *handing) Seek(offset int64, whence int) (int64, error) {
	at, err := h.ReadSeeker.Seek(offset, whence)
	h.at.Store(at)
	return at, err
}

// settleSends returns once everything sent so far has come to the stores, or
// when no store is left.
func (r *run) settleSends() error {
	for _, t := range r.targets {
		r.awaitSends(t)
	}
	return r.allFailed()
}

// worthShowing is from how many bytes on it is told that they are on their way, lookEvery how often it is
// looked how many have arrived.
const (
	worthShowing = 1 << 20
	lookEvery    = 200 * time.Millisecond
)

// awaitSends waits for what is on its way to a store, and tells how much of it the store has taken.
func (r *run) awaitSends(t *target) {
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_ = t.sends.Wait() // failures are kept in the target
	}()
	left := t.waiting.Load()
	show := left >= worthShowing
	if show {
		r.observer.Phase("sending to "+t.Name, left)
	}
	look := time.NewTicker(lookEvery)
	defer look.Stop()
	for {
		select {
		case <-ended:
			return
		case <-look.C:
			if now := t.waiting.Load(); now < left {
				if show {
					r.observer.Advance(left - now)
				}
				left = now
			}
		}
	}
}

// mark is what a run leaves in a store while it writes there.
type mark struct {
	Archive string    `json:"archive"`
	Host    string    `json:"host"`
	Began   time.Time `json:"began"`
}

// announce leaves a mark, so that nobody clears up what has no record yet, and
// tells whether another run has claimed the archive's name. Of two that see each
// other both give way: neither knows whether it was seen.
func (t *target) announce(ctx context.Context, site string, m mark, token, machine string, ledger *ledger) (taken bool, err error) {
	t.mark = path.Join(archive.RunningDir(site), m.Archive+"."+token)
	if _, err := ledger.note(t.mark); err != nil {
		return false, err
	}
	data, err := json.Marshal(m)
	if err != nil {
		return false, err
	}
	if err := putBytes(ctx, t, t.mark, data); err != nil {
		return false, err
	}
	t.stopRenewing()
	t.renewing = storelock.Renew(ctx, t.Named, t.mark, data, storelock.RenewEvery)
	running, err := t.List(ctx, archive.RunningDir(site))
	if err != nil {
		return false, err
	}
	for _, other := range storelock.Live(running) {
		if storelock.Archive(other.Name) == m.Archive && other.Name != t.mark {
			return true, nil
		}
	}
	return false, storelock.AwaitClear(ctx, t.Named, site, machine)
}

// stopRenewing ends that the mark is written anew, and waits for it.
func (t *target) stopRenewing() {
	if t.renewing != nil {
		t.renewing()
		t.renewing = nil
	}
}

// withdraw takes the mark away.
func (t *target) withdraw(ctx context.Context) error {
	t.stopRenewing()
	if t.mark == "" {
		return nil
	}
	err := t.Remove(ctx, t.mark)
	if err == nil {
		t.mark = ""
	}
	return err
}

// lookForVanished compares what the store has with what the last archive consists of, if the store is to have that. A listing
// that lags behind is asked about single objects again.
func (t *target) lookForVanished(ctx context.Context, last ...*previous) error {
	seen := map[string]bool{}
	for _, p := range last {
		if p == nil || seen[p.Record.Name] {
			continue
		}
		seen[p.Record.Name] = true
		lacking := map[string]int64{}
		p.Record.Objects(func(name string, bytes int64, _ string) {
			if has, ok := t.has[name]; (!ok || has != bytes) && strings.HasPrefix(name, archive.PartsDir(p.Record.Site)+"/") && !t.damaged[name] {
				lacking[name] = bytes
			}
		})
		if len(lacking) == 0 {
			continue
		}
		if _, err := t.Stat(ctx, archive.RecordPath(p.Record.Site, p.Record.Name)); err != nil {
			if errors.Is(err, store.ErrNotFound) {
				continue // it never came here
			}
			return err
		}
		for _, name := range slices.Sorted(maps.Keys(lacking)) {
			info, err := t.Stat(ctx, name)
			switch {
			case err == nil && info.Bytes == lacking[name]:
				t.has[name] = info.Bytes
			case err == nil || errors.Is(err, store.ErrNotFound):
				t.vanished = append(t.vanished, name)
			default:
				return err
			}
		}
	}
	return nil
}

// complete makes sure that the store has every part of the archive before the
// record says so. A listing that lags behind is asked about single parts again.
func (t *target) complete(ctx context.Context, rec *archive.Record) error {
	has, err := partsIn(ctx, t, rec.Site)
	if err != nil {
		return err
	}
	var missing error
	rec.Objects(func(name string, bytes int64, _ string) {
		if missing != nil || has[name] == bytes && bytes > 0 {
			return
		}
		info, err := t.Stat(ctx, name)
		if err == nil && info.Bytes != bytes {
			err = fmt.Errorf("%s has %d bytes there, %d were sent", name, info.Bytes, bytes)
		}
		missing = err
	})
	return missing
}

// protect has the far end hold everything that the archive consists of from now on: what
// earlier archives have brought may be held for less long.
func (t *target) protect(ctx context.Context, rec *archive.Record) error {
	var g errgroup.Group
	g.SetLimit(max(t.Lanes, 1))
	rec.Objects(func(name string, _ int64, _ string) {
		g.Go(func() error { return t.Protect(ctx, name) })
	})
	if err := g.Wait(); err != nil {
		return fmt.Errorf("have the far end hold the archive (`lock:`): %w", err)
	}
	return nil
}

// partsIn maps the parts in a store to their lengths.
func partsIn(ctx context.Context, s store.Store, site string) (map[string]int64, error) {
	infos, err := s.List(ctx, path.Join(site, "parts"))
	has := make(map[string]int64, len(infos))
	for _, info := range infos {
		has[info.Name] = info.Bytes
	}
	return has, err
}
