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

// foldersAtOnce is how many folders are read side by side.
const foldersAtOnce = 4

// Walk gathers every object below dir for stores that can only read one folder
// at a time. read gives a folder's entries, named by their last element, and an
// error that wraps ErrNotFound for one that is not there.
func Walk(ctx context.Context, dir string, read func(ctx context.Context, dir string) ([]Entry, error)) ([]Info, error) {
	w := &walk{read: read}
	var group *errgroup.Group
	group, ctx = errgroup.WithContext(ctx)
	w.slots = make(chan struct{}, foldersAtOnce)
	w.group = group
	w.folder(ctx, dir)
	if err := group.Wait(); err != nil {
		return nil, fmt.Errorf("list %s: %w", dir, err)
	}
	return w.all, nil
}

type walk struct {
	read  func(ctx context.Context, dir string) ([]Entry, error)
	slots chan struct{}
	group *errgroup.Group
	mu    sync.Mutex
	all   []Info
}

func (w *walk) folder(ctx context.Context, dir string) {
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
			if strings.HasPrefix(e.Name, ".") {
				continue
			}
			e.Name = path.Join(dir, e.Name)
			if e.Folder {
				w.folder(ctx, e.Name)
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
	return Walk(ctx, dir, b.Read)
}

// Folders implements Store.
func (b ByFolder) Folders(ctx context.Context, dir string) ([]string, error) {
	entries, err := b.Read(ctx, dir)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	var names []string
	for _, e := range entries {
		if e.Folder && !strings.HasPrefix(e.Name, ".") {
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
