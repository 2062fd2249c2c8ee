package store

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"path"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"
)

type aliveKey struct{}

// WithAlive has Alive call f for this context.
func WithAlive(ctx context.Context, f func()) context.Context {
	return context.WithValue(ctx, aliveKey{}, f)
}

// Alive tells whoever watches over ctx that the far end has answered.
func Alive(ctx context.Context) {
	if f, ok := ctx.Value(aliveKey{}).(func()); ok {
		f()
	}
}

// Entry is one name in a folder of a store.
type Entry struct {
	Info
	Folder bool
}

// FoldersAtOnce is how many folders are read side by side, each over a connection of its own.
const FoldersAtOnce = 4

// Walk gathers every object below dir for stores that can only read one folder
// at a time; atOnce of them are read side by side. read gives a folder's entries, named by their last element, and an
// error that wraps ErrNotFound for one that is not there. A far end that names more
// objects than any store has, or folders in folders without end, is refused with
// ErrEndless.
func Walk(ctx context.Context, dir string, atOnce int, read func(ctx context.Context, dir string) ([]Entry, error)) ([]Info, error) {
	w := &walk{read: read}
	var group *errgroup.Group
	group, ctx = errgroup.WithContext(ctx)
	w.slots = make(chan struct{}, atOnce)
	w.group = group
	w.folder(ctx, dir, 0)
	if err := group.Wait(); err != nil {
		return nil, fmt.Errorf("list %s: %w", dir, err)
	}
	return w.all, nil
}

// ours tells whether a name that a far end gives may be one of a store's: a single path
// element, and no hidden one.
func ours(name string) bool {
	return name != "" && !strings.HasPrefix(name, ".") && !strings.ContainsAny(name, "/\\\x00")
}

type walk struct {
	read  func(ctx context.Context, dir string) ([]Entry, error)
	slots chan struct{}
	group *errgroup.Group
	mu    sync.Mutex
	all   []Info
	names Names
}

func (w *walk) folder(ctx context.Context, dir string, depth int) {
	w.group.Go(func() error {
		select {
		case w.slots <- struct{}{}:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		entries, err := w.read(ctx, dir)
		<-w.slots
		if errors.Is(err, ErrNotFound) {
			return nil // never made, or removed while listing
		}
		if err != nil {
			return err
		}
		Alive(ctx)
		w.mu.Lock()
		defer w.mu.Unlock()
		for _, e := range entries {
			if !ours(e.Name) {
				continue
			}
			e.Name = path.Join(dir, e.Name)
			if err := w.names.Another(dir); err != nil {
				return err
			}
			if e.Folder && depth == deepest {
				return endless(dir)
			}
			if e.Folder {
				w.folder(ctx, e.Name, depth+1)
			} else {
				w.all = append(w.all, e.Info)
			}
		}
		return nil
	})
}

// ByFolder lists a store that can only be read one folder at a time.
type ByFolder struct {
	Read func(ctx context.Context, dir string) ([]Entry, error)
}

// List implements Store.
func (b ByFolder) List(ctx context.Context, dir string) ([]Info, error) {
	return Walk(ctx, dir, FoldersAtOnce, b.Read)
}

// Folders implements Store.
func (b ByFolder) Folders(ctx context.Context, dir string) ([]string, error) {
	entries, err := b.Read(ctx, dir)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	var names []string
	for _, e := range entries {
		if e.Folder && ours(e.Name) {
			names = append(names, e.Name)
		}
	}
	return names, err
}

// Token makes up what tells one program's unfinished uploads from others'.
func Token() string {
	raw := make([]byte, 6)
	_, _ = rand.Read(raw)
	return hex.EncodeToString(raw)
}
