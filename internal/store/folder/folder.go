// Package folder keeps archives in a folder on this machine.
package folder

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/process"
	"revlet/internal/store"
)

// Folder is a store in a folder that exists already.
type Folder struct {
	store.Unprotected
	root string
	d    *disk.Disk
}

// New returns the store in the folder at root.
func New(d *disk.Disk, root string) *Folder { return &Folder{root: root, d: d} }

// Incoming is a folder, on the store's own file system, where an object can be
// prepared for Adopt.
func (f *Folder) Incoming() string { return filepath.Join(f.root, store.Incoming) }

// Root is the folder's path.
func (f *Folder) Root() string { return f.root }

// Where implements store.Store.
func (f *Folder) Where() string { return f.root }

// Offsite implements store.Store: a folder is on this machine.
func (f *Folder) Offsite() bool { return false }

// Check implements store.Store. A folder that does not exist is refused, for
// it may be the mount point of a disk that is not there.
func (f *Folder) Check(context.Context) error {
	info, err := f.d.Stat(f.root)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("the store folder %s does not exist; is its disk mounted? If it is new: mkdir -p %s", f.root, process.ShellQuote(f.root))
	case err != nil:
		return fmt.Errorf("the store folder: %w", err)
	case !info.IsDir():
		return fmt.Errorf("the store %s is not a folder", f.root)
	}
	if err := f.d.MkdirAll(f.Incoming(), 0o700); err != nil {
		return fmt.Errorf("the store folder %s cannot be written to: %w", f.root, err)
	}
	probe, err := os.CreateTemp(f.Incoming(), "probe-*")
	if err != nil {
		return fmt.Errorf("the store folder %s cannot be written to: %w", f.root, err)
	}
	_ = probe.Close()
	if err := f.d.Remove(probe.Name()); err != nil {
		return err
	}
	return f.clear()
}

// clear removes what runs that died have left in the folder for incoming.
func (f *Folder) clear() error {
	names, err := f.d.ReadNames(f.Incoming())
	if err != nil {
		return err
	}
	for _, name := range names {
		file := filepath.Join(f.Incoming(), name)
		if info, err := f.d.Lstat(file); err == nil && info.Mode().IsRegular() && time.Since(info.ModTime()) > store.Stale {
			_ = f.d.Remove(file)
		}
	}
	return nil
}

// path refuses names that would leave the store.
func (f *Folder) path(name string) (string, error) {
	if !filepath.IsLocal(name) {
		return "", fmt.Errorf("%q is not a name in a store", name)
	}
	return filepath.Join(f.root, filepath.FromSlash(name)), nil
}

// Put implements store.Store.
func (f *Folder) Put(ctx context.Context, name string, src io.ReadSeeker, size int64) error {
	if err := f.d.MkdirAll(f.Incoming(), 0o700); err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	temporary := filepath.Join(f.Incoming(), "put-"+store.Token()+"-"+filepath.Base(name))
	out, err := f.d.Create(temporary)
	if err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	_, err = src.Seek(0, io.SeekStart)
	var n int64
	if err == nil {
		n, err = io.Copy(out, src)
	}
	if err == nil && n != size {
		err = fmt.Errorf("%d bytes came, %d were promised", n, size)
	}
	if err == nil {
		err = out.Sync()
	}
	err = errors.Join(err, out.Close())
	if err == nil {
		err = f.Adopt(ctx, name, temporary)
	}
	if err != nil {
		_ = os.Remove(temporary)
		return fmt.Errorf("store %s: %w", name, err)
	}
	return nil
}

// PutFirst stores data under name unless there is something already: of several at the
// same time, one comes first. Where the file system has no hard links, the last does.
func (f *Folder) PutFirst(ctx context.Context, name string, data []byte) error {
	first := name + "." + store.Token()
	if err := f.Put(ctx, first, bytes.NewReader(data), int64(len(data))); err != nil {
		return err
	}
	from, err := f.path(first)
	if err != nil {
		return err
	}
	to, err := f.path(name)
	if err != nil {
		return err
	}
	err = f.d.Link(from, to)
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return f.Adopt(ctx, name, from)
	}
	return errors.Join(f.d.Remove(from), f.d.SyncDir(filepath.Dir(to)))
}

// Adopt moves a finished and synced file on the store's file system to its
// place in the store.
func (f *Folder) Adopt(_ context.Context, name, file string) error {
	to, err := f.path(name)
	if err != nil {
		return err
	}
	if err := f.d.MkdirAllSynced(filepath.Dir(to), 0o700); err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	if err := f.d.Rename(file, to); err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	return f.d.SyncDir(filepath.Dir(to))
}

// Open implements store.Store.
func (f *Folder) Open(_ context.Context, name string, offset int64) (io.ReadCloser, error) {
	p, err := f.path(name)
	if err != nil {
		return nil, err
	}
	file, err := f.d.OpenRegular(p)
	if err != nil {
		return nil, notFound(name, err)
	}
	if _, err := file.Seek(offset, io.SeekStart); err != nil {
		return nil, errors.Join(fmt.Errorf("read %s: %w", name, err), file.Close())
	}
	return file, nil
}

// Stat implements store.Store.
func (f *Folder) Stat(_ context.Context, name string) (store.Info, error) {
	file, err := f.path(name)
	if err != nil {
		return store.Info{}, err
	}
	info, err := f.d.Stat(file)
	if err != nil {
		return store.Info{}, notFound(name, err)
	}
	return store.Info{Name: name, Bytes: info.Size(), Changed: info.ModTime()}, nil
}

func notFound(name string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return store.Missing(name)
	}
	return fmt.Errorf("read %s: %w", name, err)
}

// List implements store.Store.
func (f *Folder) List(ctx context.Context, dir string) ([]store.Info, error) {
	top, err := f.path(path.Clean(dir))
	if err != nil {
		return nil, err
	}
	if err := f.There(); err != nil {
		return nil, fmt.Errorf("list %s: %w", dir, err)
	}
	var all []store.Info
	var names store.Names
	err = f.d.WalkDir(top, func(p string, entry fs.DirEntry, err error) error {
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if strings.HasPrefix(entry.Name(), ".") && entry.IsDir() && p != top {
			return fs.SkipDir
		}
		if entry.IsDir() || strings.HasPrefix(entry.Name(), ".") {
			return nil
		}
		info, err := entry.Info()
		if err != nil {
			return nil // removed while listing
		}
		rel, err := filepath.Rel(f.root, p)
		if err != nil {
			return err
		}
		all = append(all, store.Info{Name: filepath.ToSlash(rel), Bytes: info.Size(), Changed: info.ModTime()})
		return names.Another(dir)
	})
	if err != nil {
		return nil, fmt.Errorf("list %s: %w", dir, err)
	}
	return all, nil
}

// There tells whether the folder itself is: one that is not may be the mount point of
// a disk that is away, and is not the same as an empty one.
func (f *Folder) There() error {
	_, err := f.d.Stat(f.root)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("the store folder %s does not exist; is its disk mounted?", f.root)
	}
	return err
}

// Folders implements store.Store.
func (f *Folder) Folders(_ context.Context, dir string) ([]string, error) {
	p, err := f.path(path.Clean(dir))
	if err != nil {
		return nil, err
	}
	if err := f.There(); err != nil {
		return nil, fmt.Errorf("list %s: %w", dir, err)
	}
	names, err := f.d.ReadNames(p)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("list %s: %w", dir, err)
	}
	var folders []string
	for _, name := range names {
		if info, err := f.d.Stat(filepath.Join(p, name)); err == nil && info.IsDir() && !strings.HasPrefix(name, ".") {
			folders = append(folders, name)
		}
	}
	return folders, nil
}

// Close implements store.Store.
func (f *Folder) Close() error { return nil }

// Remove implements store.Store.
func (f *Folder) Remove(_ context.Context, name string) error {
	p, err := f.path(name)
	if err != nil {
		return err
	}
	if err := f.d.Remove(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("remove %s: %w", name, err)
	}
	return nil
}
