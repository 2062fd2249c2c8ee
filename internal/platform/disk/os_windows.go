package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sys/windows"
)

const noWait = 0

// KeepsModes tells whether files keep the permissions that they are given, and links can be
// made by anybody.
const KeepsModes = false

// Ours tells whether a folder belongs to this account, and nobody else may enter it. Here a
// folder has the access list of the one above it, which is the account's own profile.
func Ours(info fs.FileInfo) bool { return info.IsDir() }

// Readable tells whether this account may read what name leads to.
func Readable(name string) bool {
	f, err := os.Open(name)
	if err != nil {
		return false
	}
	return f.Close() == nil
}

// Writable tells whether this account may write what name leads to: of a folder, whether it
// can make a file there.
func Writable(name string) bool {
	f, err := os.CreateTemp(name, ".revlet-*")
	if err != nil {
		return false
	}
	_ = f.Close()
	return os.Remove(f.Name()) == nil
}

// A folder cannot be flushed here: the file system journals its names.
func syncDir(string) error                       { return nil }
func syncFolder(*os.Root, string) error          { return nil }
func syncFS(string) error                        { return nil }
func startWriteback(*os.File)                    {}
func lchtimes(*os.Root, string, time.Time) error { return nil }

func setTimes(f *os.File, t time.Time) error {
	at := windows.NsecToFiletime(t.UnixNano())
	return windows.SetFileTime(windows.Handle(f.Fd()), nil, &at, &at)
}

func free(name string) (int64, error) {
	at, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return 0, err
	}
	var mine uint64
	err = windows.GetDiskFreeSpaceEx(at, &mine, nil, nil)
	return int64(mine), err
}

func moveBetween(r *os.Root, name string, to *os.Root, newName string) error {
	return os.Rename(filepath.Join(r.Name(), name), filepath.Join(to.Name(), newName))
}

func linkBetween(r *os.Root, name string, to *os.Root, newName string) error {
	return os.Link(filepath.Join(r.Name(), name), filepath.Join(to.Name(), newName))
}

// openFile is os.OpenFile, but that a file can be renamed and removed while it is open, as on
// other systems.
func openFile(name string, flag int, _ fs.FileMode) (*os.File, error) {
	fail := func(err error) (*os.File, error) { return nil, &fs.PathError{Op: "open", Path: name, Err: err} }
	at, err := windows.UTF16PtrFromString(longPath(name))
	if err != nil {
		return fail(err)
	}
	var access uint32 = windows.GENERIC_READ
	switch flag & (os.O_RDONLY | os.O_WRONLY | os.O_RDWR) {
	case os.O_WRONLY:
		access = windows.GENERIC_WRITE
	case os.O_RDWR:
		access |= windows.GENERIC_WRITE
	}
	if flag&os.O_APPEND != 0 {
		access = access&^windows.GENERIC_WRITE | windows.FILE_APPEND_DATA | windows.FILE_WRITE_ATTRIBUTES | windows.SYNCHRONIZE
	}
	var how uint32 = windows.OPEN_EXISTING
	switch {
	case flag&(os.O_CREATE|os.O_EXCL) == os.O_CREATE|os.O_EXCL:
		how = windows.CREATE_NEW
	case flag&(os.O_CREATE|os.O_TRUNC) == os.O_CREATE|os.O_TRUNC:
		how = windows.CREATE_ALWAYS
	case flag&os.O_CREATE != 0:
		how = windows.OPEN_ALWAYS
	case flag&os.O_TRUNC != 0:
		how = windows.TRUNCATE_EXISTING
	}
	h, err := windows.CreateFile(at, access, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, nil, how,
		windows.FILE_ATTRIBUTE_NORMAL|windows.FILE_FLAG_BACKUP_SEMANTICS, 0)
	if err != nil {
		return fail(err)
	}
	return os.NewFile(uintptr(h), name), nil
}

// longPath is a path for calls that take longer ones than MAX_PATH only with a prefix.
func longPath(name string) string {
	if len(name) < windows.MAX_PATH-12 || !filepath.IsAbs(name) || name[:2] == `\\` {
		return name
	}
	return `\\?\` + filepath.Clean(name)
}

// removeAll is os.RemoveAll, also on file systems that cannot delete what is open, which is
// how that does it.
func removeAll(name string) error {
	err := os.RemoveAll(name)
	if !errors.Is(err, windows.ERROR_INVALID_FUNCTION) {
		return err
	}
	var folders []string
	err = filepath.WalkDir(name, func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if e.IsDir() {
			folders = append(folders, p)
			return nil
		}
		return os.Remove(p)
	})
	for _, dir := range slices.Backward(folders) {
		if err == nil {
			err = os.Remove(dir)
		}
	}
	return err
}

func removeIn(r *os.Root, name string) error {
	err := r.Remove(name)
	if errors.Is(err, windows.ERROR_INVALID_FUNCTION) {
		return os.Remove(filepath.Join(r.Name(), name))
	}
	return err
}
