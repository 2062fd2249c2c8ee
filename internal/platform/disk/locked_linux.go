package disk

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// The flags of chattr(1) that keep everybody, root too, from renaming, replacing and
// deleting a file, or what is in a folder: FS_IMMUTABLE_FL and FS_APPEND_FL of
// ioctl_iflags(2).
const lockedFlags = 0x10 | 0x20

// flagsOf are the flags of an open file or folder; none where there are none.
func flagsOf(f *os.File) int {
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() && !info.IsDir() {
		return 0 // a device takes other calls
	}
	flags, err := unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS)
	if err != nil {
		return 0
	}
	return flags
}

func locked(name string) bool {
	if info, err := os.Lstat(name); err != nil || !info.Mode().IsRegular() && !info.IsDir() {
		return false
	}
	f, err := os.OpenFile(name, os.O_RDONLY|unix.O_NOFOLLOW|noWait, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return flagsOf(f)&lockedFlags != 0
}

// removeAll is os.RemoveAll. What is locked in what is to be deleted is unlocked, and folders
// that their owner may not enter are opened to him: an intruder leaves such, and it is kept
// aside like all else.
func removeAll(name string) error {
	err := os.RemoveAll(name)
	if !errors.Is(err, fs.ErrPermission) {
		return err
	}
	if failed := unlockAll(name); failed != nil {
		return errors.Join(err, failed)
	}
	return os.RemoveAll(name)
}

// unlockAll goes through the folder's handle: a process of the site's may still be in there,
// and put a link in the place of what was just looked at.
func unlockAll(name string) error {
	was, err := os.Lstat(name)
	if err != nil || !was.IsDir() {
		return err
	}
	root, err := os.OpenRoot(name)
	if err != nil {
		return err
	}
	defer root.Close()
	if now, err := root.Stat("."); err != nil || !os.SameFile(was, now) {
		return errors.Join(err, fs.ErrInvalid)
	}
	return fs.WalkDir(root.FS(), ".", func(p string, e fs.DirEntry, err error) error {
		if err != nil || !e.IsDir() && !e.Type().IsRegular() {
			return err
		}
		if info, err := e.Info(); err == nil && e.IsDir() && info.Mode()&0o700 != 0o700 && os.Geteuid() != 0 {
			_ = root.Chmod(p, 0o700)
		}
		f, err := root.OpenFile(p, os.O_RDONLY|unix.O_NOFOLLOW|noWait, 0)
		if err != nil {
			return nil // what cannot be opened is told by whoever cannot remove it
		}
		if flags := flagsOf(f); flags&lockedFlags != 0 {
			err = unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, flags&^lockedFlags)
		}
		return errors.Join(err, f.Close())
	})
}
