package store

import (
	"context"
	"io"
)

// Unusable stands for a store that cannot be opened: every call gives the
// reason.
type Unusable struct {
	Unprotected
	Err     error
	Address string
}

// Check implements Store.
func (u Unusable) Check(context.Context) error { return u.Err }

// Put implements Store.
func (u Unusable) Put(context.Context, string, io.ReadSeeker, int64) error { return u.Err }

// Open implements Store.
func (u Unusable) Open(context.Context, string, int64) (io.ReadCloser, error) { return nil, u.Err }

// Stat implements Store.
func (u Unusable) Stat(context.Context, string) (Info, error) { return Info{}, u.Err }

// List implements Store.
func (u Unusable) List(context.Context, string) ([]Info, error) { return nil, u.Err }

// Folders implements Store.
func (u Unusable) Folders(context.Context, string) ([]string, error) { return nil, u.Err }

// Remove implements Store.
func (u Unusable) Remove(context.Context, string) error { return u.Err }

// Where implements Store.
func (u Unusable) Where() string { return u.Address }

// Offsite implements Store.
func (u Unusable) Offsite() bool { return true }

// Close implements Store.
func (u Unusable) Close() error { return nil }
