// Package disk is the core's only way to the local file system. Every call
// passes a hook first, so that a test can make any single one of them fail.
package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"
)

// Disk is a file system with an optional fault hook. The zero value and the
// nil pointer are the plain file system.
type Disk struct {
	// Fault is asked before each call; a non-nil error is returned in its place.
	Fault func(op, path string) error
	// MountTable is a file that says what is mounted where, in place of the system's own.
	MountTable string
	// trees are the folders that are read through a handle; see Confined.
	trees []tree
}

func (d *Disk) check(op, path string) error {
	if d == nil || d.Fault == nil {
		return nil
	}
	if err := d.Fault(op, path); err != nil {
		return &fs.PathError{Op: op, Path: path, Err: err}
	}
	return nil
}

// File is an open file whose reads, writes, syncs and closes pass the hook.
type File struct {
	*os.File
	d *Disk
}

// Read implements io.Reader.
func (f *File) Read(p []byte) (int, error) {
	if err := f.d.check("read", f.Name()); err != nil {
		return 0, err
	}
	return f.File.Read(p)
}

// Write implements io.Writer.
func (f *File) Write(p []byte) (int, error) {
	if err := f.d.check("write", f.Name()); err != nil {
		return 0, err
	}
	return f.File.Write(p)
}

// Chmod sets the file's permissions.
func (f *File) Chmod(mode fs.FileMode) error {
	if err := f.d.check("chmod", f.Name()); err != nil {
		return err
	}
	return f.File.Chmod(mode)
}

// Chown sets the file's owner.
func (f *File) Chown(uid, gid int) error {
	if err := f.d.check("chown", f.Name()); err != nil {
		return err
	}
	return f.File.Chown(uid, gid)
}

// StartWriteback asks the kernel to begin writing the file's content to disk, where it can
// be asked, so that a later sync of the whole file system finds little left to do.
func (f *File) StartWriteback() { startWriteback(f.File) }

// CloneOf makes the file's content that of another, of which the two then share the blocks until either is written to
// (FICLONE, ioctl_ficlone(2)). The error is errors.ErrUnsupported wherever that cannot be done: on other file systems than
// those that share blocks, across two of them, on other systems. After any error the file is empty.
func (f *File) CloneOf(from *File) error {
	if err := f.d.check("write", f.Name()); err != nil {
		return err
	}
	return clone(f.File, from.File)
}

// SetTimes sets the access and modification times.
func (f *File) SetTimes(t time.Time) error {
	if err := f.d.check("chtimes", f.Name()); err != nil {
		return err
	}
	return setTimes(f.File, t)
}

// Sync flushes the file to stable storage.
func (f *File) Sync() error {
	if err := f.d.check("sync", f.Name()); err != nil {
		return err
	}
	return f.File.Sync()
}

// Close closes the file. The descriptor is released even when the hook fails.
func (f *File) Close() error {
	err := f.File.Close()
	return errors.Join(f.d.check("close", f.Name()), err)
}

// OpenFile is os.OpenFile.
func (d *Disk) OpenFile(name string, flag int, perm fs.FileMode) (*File, error) {
	if err := d.check("open", name); err != nil {
		return nil, err
	}
	open := func() (*os.File, error) { return openFile(name, flag, perm) }
	if t, rel := d.below(name); t != nil && flag == os.O_RDONLY {
		open = func() (*os.File, error) { return t.file(name, rel) }
	}
	f, err := open()
	if err != nil {
		return nil, err
	}
	return &File{f, d}, nil
}

// Open opens a file for reading.
func (d *Disk) Open(name string) (*File, error) { return d.OpenFile(name, os.O_RDONLY, 0) }

// OpenRegular opens a file that somebody else may have put there, through links, but nothing that one might wait for
// or that has no end: a named pipe, a device.
func (d *Disk) OpenRegular(name string) (*File, error) {
	f, err := d.OpenFile(name, os.O_RDONLY|noWait, 0)
	if err != nil {
		return nil, err
	}
	return regular(f, name)
}

// regular closes what is no regular file.
func regular(f *File, name string) (*File, error) {
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "read", Path: name, Err: ErrSpecial}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// Create creates a file that only its owner can read; it must not exist.
func (d *Disk) Create(name string) (*File, error) {
	return d.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
}

// ReadFile is os.ReadFile.
func (d *Disk) ReadFile(name string) ([]byte, error) {
	if err := d.check("open", name); err != nil {
		return nil, err
	}
	return os.ReadFile(name)
}

// Lstat is os.Lstat.
func (d *Disk) Lstat(name string) (fs.FileInfo, error) {
	if err := d.check("lstat", name); err != nil {
		return nil, err
	}
	if t, rel := d.below(name); t != nil {
		return t.lstat(name, rel)
	}
	return os.Lstat(name)
}

// Stat is os.Stat.
func (d *Disk) Stat(name string) (fs.FileInfo, error) {
	if err := d.check("stat", name); err != nil {
		return nil, err
	}
	return os.Stat(name)
}

// Exists reports whether name exists, without following a final link.
func (d *Disk) Exists(name string) (bool, error) {
	_, err := d.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// Readlink is os.Readlink.
func (d *Disk) Readlink(name string) (string, error) {
	if err := d.check("readlink", name); err != nil {
		return "", err
	}
	if t, rel := d.below(name); t != nil && rel != "." {
		return t.readlink(name, rel)
	}
	return os.Readlink(name)
}

// ReadNames returns the names in a folder, unsorted.
func (d *Disk) ReadNames(name string) ([]string, error) {
	if err := d.check("readdir", name); err != nil {
		return nil, err
	}
	open := func(name string) (*os.File, error) { return os.OpenFile(name, os.O_RDONLY|noWait, 0) }
	if t, rel := d.below(name); t != nil {
		open = func(name string) (*os.File, error) { return t.file(name, rel) }
	}
	f, err := open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.Readdirnames(-1)
}

// WalkDir is filepath.WalkDir.
func (d *Disk) WalkDir(name string, visit fs.WalkDirFunc) error {
	if err := d.check("readdir", name); err != nil {
		return err
	}
	return filepath.WalkDir(name, visit)
}

// MkdirAll is os.MkdirAll.
func (d *Disk) MkdirAll(name string, perm fs.FileMode) error {
	if err := d.check("mkdir", name); err != nil {
		return err
	}
	return os.MkdirAll(name, perm)
}

// MkdirAllSynced is MkdirAll, and makes the names of the folders that it makes durable.
func (d *Disk) MkdirAllSynced(name string, perm fs.FileMode) error {
	there, err := d.Exists(name)
	if err != nil || there {
		return err
	}
	above := filepath.Dir(name)
	if err := d.MkdirAllSynced(above, perm); err != nil {
		return err
	}
	if err := d.Mkdir(name, perm); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return d.SyncDir(above)
}

// Mkdir is os.Mkdir.
func (d *Disk) Mkdir(name string, perm fs.FileMode) error {
	if err := d.check("mkdir", name); err != nil {
		return err
	}
	return os.Mkdir(name, perm)
}

// Rename is os.Rename.
func (d *Disk) Rename(from, to string) error {
	if err := d.check("rename", from); err != nil {
		return err
	}
	return sayLocked(os.Rename(from, to), from, to)
}

// Link is os.Link.
func (d *Disk) Link(old, name string) error {
	if err := d.check("link", name); err != nil {
		return err
	}
	return os.Link(old, name)
}

// LinkUnsupported tells whether err, of Link, says that a file can have no other name
// there: the file system has no hard links, this file may have no more of them, or it
// belongs to somebody else (Linux's fs.protected_hardlinks).
func LinkUnsupported(err error) bool {
	return slices.ContainsFunc([]error{syscall.EPERM, syscall.EACCES, syscall.ENOTSUP, syscall.ENOSYS, syscall.EMLINK, syscall.EXDEV}, func(e error) bool { return errors.Is(err, e) })
}

// ExchangeUnsupported tells whether err says that the file system or kernel
// has no atomic exchange.
func ExchangeUnsupported(err error) bool {
	return errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.ENOSYS) || errors.Is(err, syscall.ENOTSUP)
}

// Remove is os.Remove.
func (d *Disk) Remove(name string) error {
	if err := d.check("remove", name); err != nil {
		return err
	}
	return os.Remove(name)
}

// RemoveAll is os.RemoveAll.
func (d *Disk) RemoveAll(name string) error {
	if err := d.check("remove", name); err != nil {
		return err
	}
	return removeAll(name)
}

// SyncDir flushes a folder's entries, so that a rename in it is durable.
func (d *Disk) SyncDir(name string) error {
	if err := d.check("sync", name); err != nil {
		return err
	}
	return syncDir(name)
}

// SyncFS flushes the whole file system that holds name.
func (d *Disk) SyncFS(name string) error {
	if err := d.check("sync", name); err != nil {
		return err
	}
	return syncFS(name)
}

// WriteFile puts data under name whole or not at all: a neighbouring temporary
// file, a sync, a rename and a sync of the folder. The temporary file is always a new
// one: whatever has its name, such as a link that somebody else has put there, is
// removed, and is not written through.
func (d *Disk) WriteFile(name string, data []byte, perm fs.FileMode) error {
	temporary := filepath.Join(filepath.Dir(name), ".new-"+filepath.Base(name))
	f, err := d.CreateAnew(temporary, perm)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	err = errors.Join(err, f.Close())
	if err == nil {
		err = d.Rename(temporary, name)
	}
	if err != nil {
		_ = os.Remove(temporary)
		return err
	}
	return d.SyncDir(filepath.Dir(name))
}

// CreateAnew creates a file in place of what has its name, never through a link that somebody has put there.
func (d *Disk) CreateAnew(name string, perm fs.FileMode) (f *File, err error) {
	for range 3 { // somebody may put something there again
		if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		if f, err = d.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, perm); !errors.Is(err, fs.ErrExist) {
			return f, err
		}
	}
	return nil, err
}

// Free returns the bytes that an ordinary user may still write below name.
func (d *Disk) Free(name string) (int64, error) {
	if err := d.check("statfs", name); err != nil {
		return 0, err
	}
	n, err := free(name)
	if err != nil {
		return 0, &fs.PathError{Op: "statfs", Path: name, Err: err}
	}
	return n, nil
}
