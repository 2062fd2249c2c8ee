// Package appendonly wraps a store.Store in which this machine's account may neither
// delete nor overwrite, so that whoever takes the machine over cannot destroy what is
// there. Another machine, or the far end itself, decides what goes.
//
//   - An object that is there already is not written again: the same content counts as
//     written, other content gives an error that wraps store.ErrKeeper.
//   - Nothing is removed: that gives the same error. A lock object (see storelock) that
//     is to be taken away gets a companion that says that it is over.
//   - A lock object that is renewed gets a younger companion.
//
// The stores themselves have to be opened with their AppendOnly option, so that they ask
// the far end for nothing that it refuses, and for atomic creation where the protocol
// knows it. This wrapper keeps promises that the account's rights are there to enforce:
// it is no protection by itself. It is safe for concurrent use.
package appendonly

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"revlet/internal/store"
)

// Store writes each object once.
type Store struct{ store.Store }

// Over ends the name of an object that says of a lock object that it is over.
const Over = ".over"

// Wrap returns a store that adds to inner and changes nothing.
func Wrap(inner store.Store) *Store { return &Store{inner} }

// lock tells whether an object is a lock object: <site>/running/<name>.
func lock(name string) bool { return path.Base(path.Dir(name)) == "running" }

// Put implements store.Store.
func (s *Store) Put(ctx context.Context, name string, src io.ReadSeeker, size int64) error {
	info, err := s.Store.Stat(ctx, name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return s.Store.Put(ctx, name, src, size)
	case err != nil:
		return err
	case lock(name):
		return s.Store.Put(ctx, name+"."+store.Token(), src, size)
	case info.Bytes == size:
		same, err := s.same(ctx, name, src, size)
		if same || err != nil {
			return err
		}
	}
	return fmt.Errorf("%s is there already, with other content: %w", name, store.ErrKeeper)
}

// same tells whether an object's content is that of src.
func (s *Store) same(ctx context.Context, name string, src io.ReadSeeker, size int64) (bool, error) {
	in, err := s.Store.Open(ctx, name, 0)
	if err != nil {
		return false, err
	}
	there := sha256.New()
	_, err = io.Copy(there, io.LimitReader(in, size+1))
	if err = errors.Join(err, in.Close()); err != nil {
		return false, err
	}
	if _, err := src.Seek(0, io.SeekStart); err != nil {
		return false, err
	}
	here := sha256.New()
	_, err = io.Copy(here, src)
	return bytes.Equal(here.Sum(nil), there.Sum(nil)), err
}

// Gather implements store.Gatherer.
func (s *Store) Gather(ctx context.Context, names []string, most int64, visit func(i int, data []byte, err error)) {
	store.Gather(ctx, s.Store, names, most, visit)
}

// Remove implements store.Store; only lock objects can be taken away.
func (s *Store) Remove(ctx context.Context, name string) error {
	if !lock(name) || strings.HasSuffix(name, Over) {
		return fmt.Errorf("%s stays: %w", name, store.ErrKeeper)
	}
	if _, err := s.Store.Stat(ctx, name+Over); !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return s.Store.Put(ctx, name+Over, bytes.NewReader(nil), 0)
}
