// Package store is what Revlet needs of a place that holds archives: a small
// interface that every protocol can keep.
package store

import (
	"context"
	"errors"
	"io"
)

// ErrNotFound is wrapped when an object is not in the store.
var ErrNotFound = errors.New("not in the store")

// Info describes one stored object.
type Info struct {
	// Name is the object's path in the store, with slashes.
	Name  string
	Bytes int64
}

// Store holds objects under slash-separated names. Implementations are safe
// for concurrent use.
type Store interface {
	// Check tells whether the store can be reached and written to.
	Check(ctx context.Context) error
	// Put stores size bytes from src under name: whole or not at all.
	Put(ctx context.Context, name string, src io.Reader, size int64) error
	// Open reads an object; a missing one gives an error that wraps ErrNotFound.
	Open(ctx context.Context, name string) (io.ReadCloser, error)
	// Stat describes an object; a missing one gives an error that wraps ErrNotFound.
	Stat(ctx context.Context, name string) (Info, error)
	// List describes every object at any depth below dir, in no order. A dir
	// that does not exist has none.
	List(ctx context.Context, dir string) ([]Info, error)
	// Remove deletes an object; one that is missing is no error.
	Remove(ctx context.Context, name string) error
	// Where describes the store's address for people, without secrets.
	Where() string
	// Offsite tells whether the store is on another machine.
	Offsite() bool
}

// Named is a store under its name in the configuration.
type Named struct {
	Name string
	Store
}
