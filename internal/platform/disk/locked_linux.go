package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// The flags of chattr(1) that keep everybody, root too, from renaming, replacing and
// deleting a file, or what is in a folder: FS_IMMUTABLE_FL and FS_APPEND_FL of
// ioctl_iflags(2).
const lockedFlags = 0x10 | 0x20

// flagsOf are the flags of a file or folder; false where it has none.
func flagsOf(name string) (f *os.File, flags int, ok bool) {
	f, err := os.OpenFile(name, os.O_RDONLY|unix.O_NOFOLLOW|noWait, 0)
	if err != nil {
		return nil, 0, false
	}
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() && !info.IsDir() {
		_ = f.Close()
		return nil, 0, false // a device takes other calls
	}
	flags, err = unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS)
	if err != nil {
		_ = f.Close()
		return nil, 0, false
	}
	return f, flags, true
}

func locked(name string) bool {
	f, flags, ok := flagsOf(name)
	if ok {
		_ = f.Close()
	}
	return ok && flags&lockedFlags != 0
}

// removeAll is os.RemoveAll. What is locked in what is to be deleted is unlocked, and folders
// that their owner may not enter are opened to him: an intruder leaves such, and it is kept
// aside like all else.
func removeAll(name string) error {
	err := os.RemoveAll(name)
	if !errors.Is(err, fs.ErrPermission) {
		return err
	}
	failed := filepath.WalkDir(name, func(p string, e fs.DirEntry, err error) error {
		if err != nil || !e.IsDir() && !e.Type().IsRegular() {
			return err
		}
		if info, err := e.Info(); err == nil && e.IsDir() && info.Mode()&0o700 != 0o700 {
			_ = os.Chmod(p, 0o700)
		}
		f, flags, ok := flagsOf(p)
		if !ok {
			return nil
		}
		if flags&lockedFlags != 0 {
			err = unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, flags&^lockedFlags)
		}
		return errors.Join(err, f.Close())
	})
	if failed != nil {
		return errors.Join(err, failed)
	}
	return os.RemoveAll(name)
}
