package store

import (
	"path"
	"strings"
	"sync"
	"time"
)

// Uploads is what stores on other machines share: an object arrives under a temporary
// name in the folder Incoming, folders are made once for each run, and what runs that
// died have left is cleared away. It is safe for concurrent use. The zero value is
// not; use NewUploads.
type Uploads struct {
	// token tells this program's unfinished uploads from others'.
	token string
	mu    sync.Mutex
	made  map[string]bool
}

// NewUploads returns one for a store.
func NewUploads() *Uploads { return &Uploads{token: Token(), made: map[string]bool{}} }

// Temporary is the name under which an object arrives. It is the same for each try,
// so that an upload can go on where it was cut.
func (u *Uploads) Temporary(name string) string {
	return path.Join(Incoming, u.token+"-"+path.Base(name))
}

// Once is a temporary name that is used for one try only, where nothing can be overwritten.
func (u *Uploads) Once(name string) string { return u.Temporary(name) + "-" + Token() }

// Probe is a temporary name for a test of whether the store can be written to.
func (u *Uploads) Probe() string { return u.Temporary("probe-" + Token()) }

// Folder has make make a folder of the store, once; one that failed is tried again.
func (u *Uploads) Folder(dir string, make func() error) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.made[dir] {
		return nil
	}
	if err := make(); err != nil {
		return err
	}
	u.made[dir] = true
	return nil
}

// ClearStale removes what has lain in the folder Incoming for longer than Stale, given
// what is in it. What cannot be removed stays for the next time.
func (u *Uploads) ClearStale(left []Entry, remove func(name string) error) {
	for _, f := range left {
		if !f.Folder && !strings.HasPrefix(f.Name, u.token) && !f.Changed.IsZero() && time.Since(f.Changed) > Stale {
			_ = remove(path.Join(Incoming, f.Name))
		}
	}
}
