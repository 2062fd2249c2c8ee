package disk

import (
	"errors"
	"io/fs"
	"os"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

func startWriteback(f *os.File) {
	_ = unix.SyncFileRange(int(f.Fd()), 0, 0, unix.SYNC_FILE_RANGE_WRITE)
}

// clone leaves the file empty if it fails: what was shared before an interruption is part of it.
func clone(to, from *os.File) error {
	err := unix.IoctlFileClone(int(to.Fd()), int(from.Fd()))
	if err == nil {
		return nil
	}
	if cut := to.Truncate(0); cut != nil {
		return cut
	}
	for _, never := range []error{unix.EOPNOTSUPP, unix.EXDEV, unix.EINVAL, unix.ENOTTY, unix.ENOSYS, unix.EPERM} {
		if errors.Is(err, never) {
			return errors.ErrUnsupported
		}
	}
	return &fs.PathError{Op: "clone", Path: to.Name(), Err: err}
}

func setTimes(f *os.File, t time.Time) error {
	at, err := unix.TimeToTimespec(t)
	if err != nil {
		return err
	}
	return unix.UtimesNanoAt(unix.AT_FDCWD, "/proc/self/fd/"+strconv.Itoa(int(f.Fd())), []unix.Timespec{at, at}, 0)
}

func syncFS(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.Syncfs(int(f.Fd()))
}
