// Package marked makes sure that a store is the one it was. An empty mount point, a
// bucket of another account or a fresh disk in the place of a full one would otherwise
// read as "there were never any archives", and take the next one without a word.
//
// A store carries a mark: an object named Name with a random identity. Whoever uses a
// store remembers its identity (Memory). Wrap returns a store that reads the mark
// before anything else: one that is missing or another gives an error that wraps
// ErrNotThatStore, for reading and for writing alike. A store that is not remembered
// yet, such as on a fresh machine, is taken as it is; one without a mark gets one with
// the first object that is put there.
//
// On this machine the mark is read before each call, for a disk can be taken off at any
// moment; elsewhere every CheckEvery. It is no protection against somebody who may
// write to the store. A marked store is safe for concurrent use.
package marked

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"revlet/internal/platform/reason"
	"revlet/internal/store"
	"revlet/internal/store/folder"
)

// Name is the object that holds a store's mark.
const Name = "STORE.json"

// CheckEvery is how often a store elsewhere is asked for its mark.
const CheckEvery = 30 * time.Second

// ErrNotThatStore is wrapped when a store is not the one that is remembered.
var ErrNotThatStore = errors.New("this is not the store that it was")

// Memory remembers identities by the address of a store.
type Memory interface {
	// Known returns the identity that was remembered, or nothing.
	Known(where string) (id string, err error)
	// Remember keeps an identity.
	Remember(where, id string) error
}

// gone is a store's folder that is not there: not the store that it was, and told as what it is.
type gone struct{ error }

// Is implements errors.Is.
func (gone) Is(target error) bool { return target == ErrNotThatStore }

func (g gone) Unwrap() error { return g.error }

// mark is what a store says of itself.
type mark struct {
	ID   string    `json:"id"`
	Made time.Time `json:"made"`
	What string    `json:"what"`
}

// largest bounds what is read of a mark.
const largest = 4 << 10

// guard reads the mark of a store.
type guard struct {
	name   string
	inner  store.Store
	memory Memory

	mu sync.Mutex
	// checked is when the mark was last found right; written tells that there is one.
	checked time.Time
	written bool
}

// Wrap returns a store that is used only while it is the one that memory knows.
func Wrap(s store.Named, memory Memory) store.Named {
	g := &guard{name: s.Name, inner: s.Store, memory: memory}
	s.Store = &Store{Store: g.inner, guard: g}
	if f, ok := g.inner.(*folder.Folder); ok {
		s.Store = &Folder{Store: &Store{Store: f, guard: g}, folder: f}
	}
	return s
}

// check finds out whether the store is the one that is remembered. write makes a mark
// where none is remembered.
func (g *guard) check(ctx context.Context, write bool) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.inner.Offsite() && time.Since(g.checked) < CheckEvery && (g.written || !write) {
		return nil
	}
	known, err := g.memory.Known(g.inner.Where())
	if err != nil {
		return err
	}
	found, err := g.read(ctx)
	switch {
	case errors.Is(err, store.ErrNotFound) && known != "":
		if at, ok := g.inner.(interface{ There() error }); ok && at.There() != nil {
			return reason.Because(reason.StoreGone, nil, gone{at.There()})
		}
		return reason.New(reason.OtherStore, reason.Names{"store": g.name}, "%w: the mark that Revlet left at %s is missing; is its disk mounted, is it the right place?", ErrNotThatStore, g.inner.Where())
	case errors.Is(err, store.ErrNotFound) && write:
		if err := g.make(ctx); err != nil {
			return err
		}
	case errors.Is(err, store.ErrNotFound):
		g.checked, g.written = time.Now(), false
		return nil
	case err != nil:
		if !g.inner.Offsite() && !errors.Is(err, ErrNotThatStore) {
			return errors.Join(g.inner.Check(ctx), err) // it says in words what is wrong with a folder
		}
		return err
	case known == "":
		if err := g.memory.Remember(g.inner.Where(), found.ID); err != nil {
			return err
		}
	case found.ID != known:
		return reason.New(reason.OtherStore, reason.Names{"store": g.name}, "%w: at %s another is now, made %s", ErrNotThatStore, g.inner.Where(), found.Made.Local().Format("2 January 2006 15:04"))
	}
	g.checked, g.written = time.Now(), true
	return nil
}

func (g *guard) read(ctx context.Context) (m mark, err error) {
	in, err := g.inner.Open(ctx, Name, 0)
	if err != nil {
		return m, err
	}
	defer in.Close()
	data, err := io.ReadAll(io.LimitReader(in, largest))
	if err != nil {
		return m, err
	}
	if json.Unmarshal(data, &m) != nil || m.ID == "" {
		return m, fmt.Errorf("%w: the mark at %s is not one of Revlet's", ErrNotThatStore, g.inner.Where())
	}
	return m, nil
}

func (g *guard) make(ctx context.Context) error {
	m := mark{ID: store.Token(), Made: time.Now().UTC().Truncate(time.Second), What: "By this file Revlet knows this store again. Leave it here."}
	data, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	if f, ok := g.inner.(interface {
		PutFirst(ctx context.Context, name string, data []byte) error
	}); ok {
		err = f.PutFirst(ctx, Name, data)
	} else {
		err = g.inner.Put(ctx, Name, bytes.NewReader(data), int64(len(data)))
	}
	if err != nil {
		return err
	}
	// Another machine may have been quicker: what is there now counts.
	found, err := g.read(ctx)
	if err != nil {
		return err
	}
	return g.memory.Remember(g.inner.Where(), found.ID)
}

// Store is a store that is used only while it is the one that is remembered.
type Store struct {
	store.Store
	guard *guard
}

// Check implements store.Store. It leaves a mark where there is none.
func (s *Store) Check(ctx context.Context) error {
	if err := s.guard.check(ctx, false); err != nil {
		return err
	}
	if err := s.Store.Check(ctx); err != nil {
		return err
	}
	return s.guard.check(ctx, true)
}

// Put implements store.Store.
func (s *Store) Put(ctx context.Context, name string, src io.ReadSeeker, size int64) error {
	if err := s.guard.check(ctx, true); err != nil {
		return err
	}
	return s.Store.Put(ctx, name, src, size)
}

// Open implements store.Store.
func (s *Store) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	if err := s.guard.check(ctx, false); err != nil {
		return nil, err
	}
	return s.Store.Open(ctx, name, offset)
}

// Gather implements store.Gatherer.
func (s *Store) Gather(ctx context.Context, names []string, most int64, visit func(i int, data []byte, err error)) {
	if err := s.guard.check(ctx, false); err != nil {
		for i := range names {
			visit(i, nil, err)
		}
		return
	}
	store.Gather(ctx, s.Store, names, most, visit)
}

// Stat implements store.Store.
func (s *Store) Stat(ctx context.Context, name string) (store.Info, error) {
	if err := s.guard.check(ctx, false); err != nil {
		return store.Info{}, err
	}
	return s.Store.Stat(ctx, name)
}

// Protect implements store.Store.
func (s *Store) Protect(ctx context.Context, name string) error {
	if err := s.guard.check(ctx, false); err != nil {
		return err
	}
	return s.Store.Protect(ctx, name)
}

// List implements store.Store.
func (s *Store) List(ctx context.Context, dir string) ([]store.Info, error) {
	if err := s.guard.check(ctx, false); err != nil {
		return nil, err
	}
	return s.Store.List(ctx, dir)
}

// Folders implements store.Store.
func (s *Store) Folders(ctx context.Context, dir string) ([]string, error) {
	if err := s.guard.check(ctx, false); err != nil {
		return nil, err
	}
	return s.Store.Folders(ctx, dir)
}

// Remove implements store.Store.
func (s *Store) Remove(ctx context.Context, name string) error {
	if err := s.guard.check(ctx, false); err != nil {
		return err
	}
	return s.Store.Remove(ctx, name)
}

// Folder is a folder on this machine that is used only while it is the one that is
// remembered. Like a plain one, it takes finished files over.
type Folder struct {
	*Store
	folder *folder.Folder
}

// Incoming is where an object can be prepared for Adopt.
func (f *Folder) Incoming() string { return f.folder.Incoming() }

// Root is the folder's path.
func (f *Folder) Root() string { return f.folder.Root() }

// Adopt moves a finished file to its place in the store.
func (f *Folder) Adopt(ctx context.Context, name, file string) error {
	if err := f.guard.check(ctx, true); err != nil {
		return err
	}
	return f.folder.Adopt(ctx, name, file)
}
