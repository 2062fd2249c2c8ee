package disk

import (
	"os"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

func startWriteback(f *os.File) {
	_ = unix.SyncFileRange(int(f.Fd()), 0, 0, unix.SYNC_FILE_RANGE_WRITE)
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
