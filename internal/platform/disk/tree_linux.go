package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// handle is what a folder is read through.
type handle = *os.File

// openTree opens a folder. Root is led there by nobody's links but those that Way follows.
func openTree(folder string) (handle, error) { return openLed(folder, unix.O_RDONLY|unix.O_DIRECTORY) }

// openLed opens a path to which links may lead; root those only that Way follows, and none that came since.
func openLed(path string, flags int) (*os.File, error) {
	if os.Geteuid() != 0 {
		return os.OpenFile(path, flags|unix.O_CLOEXEC, 0)
	}
	real, makers, err := follow(path, 0)
	if err != nil {
		return nil, err
	}
	fd, err := openNoLinks(real, flags)
	if err != nil {
		return nil, err
	}
	f := os.NewFile(uintptr(fd), path)
	info, err := f.Stat()
	if err == nil {
		err = rightful(path, info, makers)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// mostRenames is how often a path is looked up again because something was renamed
// meanwhile.
const mostRenames = 1000

// open opens a path in the tree without following links and without waiting.
func (t *tree) open(rel string, flags int) (int, error) {
	how := unix.OpenHow{Flags: uint64(flags | unix.O_NOFOLLOW | unix.O_NONBLOCK | unix.O_CLOEXEC),
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS}
	for tries := 0; ; tries++ {
		fd, err := unix.Openat2(int(t.dir.Fd()), rel, &how)
		switch {
		case errors.Is(err, unix.EINTR), errors.Is(err, unix.EAGAIN) && tries < mostRenames:
			continue
		case errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EPERM):
			return t.openByParts(rel, flags)
		}
		return fd, err
	}
}

// openByParts does the same on kernels before 5.6, or where openat2 is forbidden.
func (t *tree) openByParts(rel string, flags int) (int, error) {
	at, err := unix.Openat(int(t.dir.Fd()), ".", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, err
	}
	parts := strings.Split(rel, "/")
	for i, part := range parts {
		how := unix.O_PATH | unix.O_DIRECTORY
		if i == len(parts)-1 {
			how = flags | unix.O_NONBLOCK
		}
		next, err := -1, error(unix.EXDEV)
		if part != ".." {
			next, err = unix.Openat(at, part, how|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		}
		_ = unix.Close(at)
		if err != nil {
			return -1, err
		}
		at = next
	}
	return at, nil
}

// file opens a regular file or a folder in the tree for reading.
func (t *tree) file(name, rel string) (*os.File, error) {
	fd, err := t.open(rel, unix.O_RDONLY)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	f := os.NewFile(uintptr(fd), name)
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		err = &fs.PathError{Op: "open", Path: name, Err: ErrSpecial}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// parent opens the folder that a path lies in, and gives the last element.
func (t *tree) parent(name, rel string) (int, string, error) {
	fd, err := t.open(filepath.Dir(rel), unix.O_RDONLY|unix.O_DIRECTORY)
	if err != nil {
		return -1, "", &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return fd, filepath.Base(rel), nil
}

// lstat is Lstat in the tree.
func (t *tree) lstat(name, rel string) (fs.FileInfo, error) {
	if rel == "." {
		return t.dir.Stat()
	}
	fd, base, err := t.parent(name, rel)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	info := lstatAt(fd, filepath.Dir(name), base)
	return info.FileInfo, info.Err
}

// mostTarget bounds a link's target: PATH_MAX.
const mostTarget = 4096

func (t *tree) readlink(name, rel string) (string, error) {
	fd, base, err := t.parent(name, rel)
	if err != nil {
		return "", err
	}
	defer unix.Close(fd)
	buf := make([]byte, mostTarget)
	n, err := unix.Readlinkat(fd, base, buf)
	if err != nil {
		return "", &fs.PathError{Op: "readlink", Path: name, Err: err}
	}
	return string(buf[:n]), nil
}

// Handle calls use with a path by which a name can be reached without looking up its
// parents again: in a confined folder nothing can be put between. It is valid during
// the call.
func (d *Disk) Handle(name string, use func(path string) error) error {
	t, rel := d.below(name)
	if t == nil || rel == "." {
		return use(name)
	}
	fd, base, err := t.parent(name, rel)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	return use(fmt.Sprintf("/proc/self/fd/%d/%s", fd, base))
}
