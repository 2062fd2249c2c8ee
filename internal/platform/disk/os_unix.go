//go:build unix

package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// noWait is a flag for opening what might be a named pipe.
const noWait = unix.O_NONBLOCK

// KeepsModes tells whether files keep the permissions that they are given, and links can be
// made by anybody.
const KeepsModes = true

// Ours tells whether a folder belongs to this account, and nobody else may enter it.
func Ours(info fs.FileInfo) bool {
	a, ok := AttributesOf(info)
	return ok && info.IsDir() && a.UID == os.Geteuid() && info.Mode().Perm() == 0o700
}

// Readable tells whether this account may read what name leads to.
func Readable(name string) bool { return unix.Access(name, unix.R_OK) == nil }

// Writable tells whether this account may write what name leads to.
func Writable(name string) bool { return unix.Access(name, unix.W_OK) == nil }

func syncDir(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

func syncFolder(r *os.Root, name string) error {
	f, err := r.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

func lchtimes(r *os.Root, name string, mtime time.Time) error {
	dir, err := r.Open(filepath.Dir(name))
	if err != nil {
		return err
	}
	defer dir.Close()
	at, err := unix.TimeToTimespec(mtime)
	if err == nil {
		err = unix.UtimesNanoAt(int(dir.Fd()), filepath.Base(name), []unix.Timespec{at, at}, unix.AT_SYMLINK_NOFOLLOW)
	}
	if err != nil && !errors.Is(err, unix.ENOTSUP) && !errors.Is(err, unix.ENOSYS) && !errors.Is(err, unix.EPERM) {
		return &os.PathError{Op: "chtimes", Path: name, Err: err}
	}
	return nil
}

func moveBetween(r *os.Root, name string, to *os.Root, newName string) error {
	return between(r, "rename", name, to, newName, func(from, dest int) error {
		return unix.Renameat(from, filepath.Base(name), dest, filepath.Base(newName))
	})
}

func linkBetween(r *os.Root, name string, to *os.Root, newName string) error {
	return between(r, "link", name, to, newName, func(from, dest int) error {
		return unix.Linkat(from, filepath.Base(name), dest, filepath.Base(newName), 0)
	})
}

// between does something with the last elements of two names, in folders that are open.
func between(r *os.Root, op, name string, to *os.Root, newName string, do func(from, dest int) error) error {
	from, err := r.Open(filepath.Dir(name))
	if err != nil {
		return err
	}
	defer from.Close()
	dest, err := to.Open(filepath.Dir(newName))
	if err != nil {
		return err
	}
	defer dest.Close()
	if err := do(int(from.Fd()), int(dest.Fd())); err != nil {
		return &os.LinkError{Op: op, Old: name, New: newName, Err: err}
	}
	return nil
}
func free(name string) (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(name, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * int64(st.Bsize), nil
}

func openFile(name string, flag int, perm fs.FileMode) (*os.File, error) {
	return os.OpenFile(name, flag, perm)
}

func removeIn(r *os.Root, name string) error { return r.Remove(name) }
