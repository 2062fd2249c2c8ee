// Package folder keeps archives in a folder on this machine. Another account may own it, or may once have: it is
// worked in through a handle, and no link in it leads anywhere else.
package folder

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"runtime"
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

// in does something in the folder: through a handle of it, to which no link of another account has led. A folder that is
// not there may be the mount point of a disk that is away, and is not the same as an empty one.
func (f *Folder) in(do func(r *disk.Root) error) error {
	open := f.d.OpenRootNoLinks
	if runtime.GOOS != "linux" { // the link is whoever's whose configuration names it
		open = f.d.OpenRoot
	}
	r, err := open(f.root)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("the store folder %s is not there; is its disk mounted? (%w)", f.root, fs.ErrNotExist)
	}
	if err != nil {
		return err
	}
	defer r.Close()
	return do(r)
}

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
	err = f.in(func(r *disk.Root) error {
		probe := path.Join(store.Incoming, "probe-"+store.Token())
		err := r.MkdirAll(store.Incoming, 0o700)
		if err == nil {
			var file *disk.File
			if file, err = r.Create(probe, 0o600); err == nil {
				_ = file.Close()
				err = r.Remove(probe)
			}
		}
		if err != nil {
			return fmt.Errorf("the store folder %s cannot be written to: %w", f.root, err)
		}
		return clearIncoming(r)
	})
	return err
}

// clearIncoming removes what runs that died have left in the folder for incoming.
func clearIncoming(r *disk.Root) error {
	names, err := r.ReadNames(store.Incoming)
	if err != nil {
		return err
	}
	for _, name := range names {
		file := path.Join(store.Incoming, name)
		if info, err := r.Lstat(file); err == nil && info.Mode().IsRegular() && time.Since(info.ModTime()) > store.Stale {
			_ = r.Remove(file)
		}
	}
	return nil
}

// local refuses names that would leave the store.
func local(name string) (string, error) {
	if !filepath.IsLocal(name) {
		return "", fmt.Errorf("%q is not a name in a store", name)
	}
	return filepath.FromSlash(name), nil
}

// at does something with a name in the folder.
func (f *Folder) at(name string, do func(r *disk.Root, rel string) error) error {
	rel, err := local(name)
	if err != nil {
		return err
	}
	return f.in(func(r *disk.Root) error { return do(r, rel) })
}

// Put implements store.Store.
func (f *Folder) Put(_ context.Context, name string, src io.ReadSeeker, size int64) error {
	err := f.at(name, func(r *disk.Root, rel string) error {
		if err := r.MkdirAll(store.Incoming, 0o700); err != nil {
			return err
		}
		temporary := filepath.Join(store.Incoming, "put-"+store.Token()+"-"+filepath.Base(rel))
		out, err := r.Create(temporary, 0o600)
		if err != nil {
			return err
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
			err = adopt(r, rel, temporary)
		}
		if err != nil {
			_ = r.Root.Remove(temporary)
		}
		return err
	})
	if err != nil {
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
	return f.at(name, func(r *disk.Root, rel string) error {
		from, err := local(first)
		if err != nil {
			return err
		}
		if err = r.Link(from, rel); err != nil && !errors.Is(err, fs.ErrExist) {
			return adopt(r, rel, from)
		}
		return errors.Join(r.Remove(from), r.SyncDir(filepath.Dir(rel)))
	})
}

// Adopt moves a finished and synced file that lies in Incoming to its place in the store.
func (f *Folder) Adopt(_ context.Context, name, file string) error {
	err := f.at(name, func(r *disk.Root, rel string) error {
		from, err := filepath.Rel(f.root, file)
		if err == nil {
			err = adopt(r, rel, from)
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	return nil
}

// adopt gives a file in the folder its name there, for good.
func adopt(r *disk.Root, name, from string) error {
	dir := filepath.Dir(name)
	if err := r.MkdirAllSynced(dir, 0o700); err != nil {
		return err
	}
	if err := r.Rename(from, name); err != nil {
		return err
	}
	return r.SyncDir(dir)
}

// Open implements store.Store.
func (f *Folder) Open(_ context.Context, name string, offset int64) (io.ReadCloser, error) {
	var file *disk.File
	err := f.at(name, func(r *disk.Root, rel string) (err error) {
		file, err = r.OpenRegular(rel)
		return err
	})
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
	var info fs.FileInfo
	err := f.at(name, func(r *disk.Root, rel string) (err error) {
		info, err = r.Stat(rel)
		return err
	})
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
func (f *Folder) List(ctx context.Context, dir string) (all []store.Info, err error) {
	err = f.at(path.Clean(dir), func(r *disk.Root, top string) error {
		top = filepath.ToSlash(top)
		var names store.Names
		return r.WalkDir(top, func(p string, entry fs.DirEntry, err error) error {
			switch {
			case errors.Is(err, fs.ErrNotExist):
				return nil
			case err != nil:
				return err
			case ctx.Err() != nil:
				return ctx.Err()
			case strings.HasPrefix(entry.Name(), ".") && entry.IsDir() && p != top:
				return fs.SkipDir
			case entry.IsDir() || strings.HasPrefix(entry.Name(), "."):
				return nil
			}
			info, err := entry.Info()
			if err != nil {
				return nil // removed while listing
			}
			all = append(all, store.Info{Name: p, Bytes: info.Size(), Changed: info.ModTime()})
			return names.Another(dir)
		})
	})
	if err != nil {
		return nil, fmt.Errorf("list %s: %w", dir, err)
	}
	return all, nil
}

// There tells whether the folder itself is.
func (f *Folder) There() error { return f.in(func(*disk.Root) error { return nil }) }

// Folders implements store.Store.
func (f *Folder) Folders(_ context.Context, dir string) (folders []string, err error) {
	err = f.at(path.Clean(dir), func(r *disk.Root, rel string) error {
		names, err := r.ReadNames(rel)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		for _, name := range names {
			if info, err := r.Stat(filepath.Join(rel, name)); err == nil && info.IsDir() && !strings.HasPrefix(name, ".") {
				folders = append(folders, name)
			}
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("list %s: %w", dir, err)
	}
	return folders, nil
}

// Close implements store.Store.
func (f *Folder) Close() error { return nil }

// Remove implements store.Store.
func (f *Folder) Remove(_ context.Context, name string) error {
	return f.at(name, func(r *disk.Root, rel string) error {
		if err := r.Remove(rel); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("remove %s: %w", name, err)
		}
		return nil
	})
}
