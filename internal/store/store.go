// Package store is what Revlet needs of a place that holds archives: a small
// interface that every protocol can keep.
package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"revlet/internal/platform/reason"
)

// ErrNotFound is wrapped when an object is not in the store.
var ErrNotFound = errors.New("not in the store")

// ErrRefused is wrapped by errors that trying again will not mend: a wrong
// password, no such bucket, a far end that is full.
var ErrRefused = errors.New("refused")

// ErrKeeper is wrapped when something would have to be deleted or overwritten in a store
// that another machine looks after.
var ErrKeeper = fmt.Errorf("%w: what is deleted or replaced there is its keeper's business (`keeper: elsewhere`)", ErrRefused)

// NoDeletion words that a probe could be written and not deleted: the account may add only.
func NoDeletion(err error) error {
	return reason.Because(reason.NoDeletion, nil, Refuse("the account may write there and not delete (%v)", err))
}

// ErrFull is wrapped when the far end has no room left.
var ErrFull = fmt.Errorf("%w: no room left", ErrRefused)

// Refuse words an error that trying again will not mend.
func Refuse(format string, args ...any) error {
	return &refusal{fmt.Errorf(format, args...)}
}

// refusal is an error that is ErrRefused without saying so.
type refusal struct{ error }

func (r *refusal) Unwrap() error { return r.error }

func (r *refusal) Is(target error) bool { return target == ErrRefused }

// Missing is the error about an object that is not there.
func Missing(name string) error { return fmt.Errorf("%s is %w", name, ErrNotFound) }

// Info describes one stored object.
type Info struct {
	// Name is the object's path in the store, with slashes.
	Name  string
	Bytes int64
	// Changed is when the object was written, as far as the store tells.
	Changed time.Time
}

// Store holds objects under slash-separated names. Implementations are safe
// for concurrent use.
type Store interface {
	// Check tells whether the store can be reached and written to.
	Check(ctx context.Context) error
	// Put stores the size bytes of src, from its start, under name: whole or
	// not at all. After an error it may be called again with the same content
	// and may then go on where it stopped.
	Put(ctx context.Context, name string, src io.ReadSeeker, size int64) error
	// Open reads an object from a byte on; a missing one gives an error that
	// wraps ErrNotFound. ctx must last until the reader is closed.
	Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error)
	// Stat describes an object; a missing one gives an error that wraps ErrNotFound.
	Stat(ctx context.Context, name string) (Info, error)
	// List describes every object at any depth below dir, in no order. A dir
	// that does not exist has none. Names that begin with a dot are left out.
	List(ctx context.Context, dir string) ([]Info, error)
	// Folders names the folders directly in dir.
	Folders(ctx context.Context, dir string) ([]string, error)
	// Remove deletes an object; one that is missing is no error.
	Remove(ctx context.Context, name string) error
	// Protect has the far end hold an object from now on for as long as is configured,
	// whatever this account asks for later; it does nothing where nothing is.
	Protect(ctx context.Context, name string) error
	// Where describes the store's address for people, without secrets.
	Where() string
	// Offsite tells whether the store is on another machine.
	Offsite() bool
	// Close lets go of connections.
	Close() error
}

// Unprotected is what stores share whose far end holds nothing.
type Unprotected struct{}

// Protect implements Store.
func (Unprotected) Protect(context.Context, string) error { return nil }

// Named is a store under its name in the configuration.
type Named struct {
	Name string
	Store
	// Lanes is how many objects may be sent to it at a time; 0 means 4.
	Lanes int
}

// Incoming is the folder in a store in which objects are prepared; nothing in
// it belongs to an archive.
const Incoming = ".incoming"

// Stale is the age at which what lies in Incoming was left by a run that died.
const Stale = 48 * time.Hour
