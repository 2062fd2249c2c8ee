package engine

import (
	"context"
	"errors"
	"io/fs"
	"time"

	"golang.org/x/sys/unix"

	"revlet/internal/site/tree"
)

// The bytes that SQLite locks: those of a database file ("File Locking And Concurrency In SQLite Version 3", os.h), and that
// of the index of its write-ahead log which keeps pages from being carried over into the database ("WAL-mode File Format",
// 2.3.1: WAL_READ_LOCK(0)).
const (
	pendingByte  = 0x40000000
	reservedByte = pendingByte + 1
	sharedFirst  = pendingByte + 2
	sharedBytes  = 510
	readLock0    = 123
)

const (
	// holdWait is how long a writer is waited for.
	holdWait  = 30 * time.Second
	holdPause = 20 * time.Millisecond
)

// hold keeps a database file as it is while it is copied, as a reader that is SQLite itself does: nobody else writes into the
// database, only behind the end of its log. writing tells that somebody is about to, so that a journal beside it is one of a
// transaction that nothing has come of yet, indexed that there is an index of a log, which is held too. Where the file has no
// handle here there is no hold.
func hold(ctx context.Context, in tree.Folder, name string) (release func(), writing, indexed bool, err error) {
	main, fd, err := openHandle(in, name)
	if err != nil || main == nil {
		return nil, false, false, err
	}
	release = func() { _ = main.Close() }
	if err := readLock(ctx, fd, pendingByte, 1); err != nil {
		release()
		return nil, false, false, err
	}
	err = readLock(ctx, fd, sharedFirst, sharedBytes)
	unlock := unix.Flock_t{Type: unix.F_UNLCK, Start: pendingByte, Len: 1}
	if err = errors.Join(err, unix.FcntlFlock(fd, unix.F_OFD_SETLK, &unlock)); err != nil {
		release()
		return nil, false, false, err
	}
	reserved := unix.Flock_t{Type: unix.F_WRLCK, Start: reservedByte, Len: 1}
	err = unix.FcntlFlock(fd, unix.F_OFD_GETLK, &reserved)
	writing = reserved.Type != unix.F_UNLCK
	index, fd, shmErr := openHandle(in, name+"-shm")
	if indexed = shmErr == nil && index != nil; indexed {
		was := release
		release = func() { _ = index.Close(); was() }
		err = errors.Join(err, readLock(ctx, fd, readLock0, 1))
	} else if !errors.Is(shmErr, fs.ErrNotExist) {
		err = errors.Join(err, shmErr)
	}
	if err != nil {
		release()
		return nil, false, false, err
	}
	return release, writing, indexed, nil
}

// openHandle opens a file of this machine.
func openHandle(in tree.Folder, name string) (tree.File, uintptr, error) {
	f, err := in.Open(name)
	if err != nil {
		return nil, 0, err
	}
	if h, ok := f.(interface{ Fd() uintptr }); ok {
		return f, h.Fd(), nil
	}
	return nil, 0, f.Close()
}

// readLock waits for the right to read some bytes of an open file (fcntl(2), open file description locks).
func readLock(ctx context.Context, fd uintptr, start, length int64) error {
	for end := time.Now().Add(holdWait); ; {
		lock := unix.Flock_t{Type: unix.F_RDLCK, Start: start, Len: length}
		err := unix.FcntlFlock(fd, unix.F_OFD_SETLK, &lock)
		if !errors.Is(err, unix.EAGAIN) && !errors.Is(err, unix.EACCES) {
			return err
		}
		if time.Now().After(end) {
			return errWritten
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(holdPause):
		}
	}
}
