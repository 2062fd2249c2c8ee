package disk

import (
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// ReadFolder returns the names in a folder, in order, and what lstat says of the
// first of them: most at most.
func (d *Disk) ReadFolder(dir string, most int) (names []string, infos []Info, err error) {
	if err := d.check("readdir", dir); err != nil {
		return nil, nil, err
	}
	fd, err := d.openFolder(dir)
	if err != nil {
		return nil, nil, err
	}
	defer unix.Close(fd)
	buf := make([]byte, 32<<10)
	for {
		n, err := unix.ReadDirent(fd, buf)
		if err != nil {
			return nil, nil, &fs.PathError{Op: "readdirent", Path: dir, Err: err}
		}
		if n == 0 {
			break
		}
		_, _, names = unix.ParseDirent(buf[:n], -1, names)
	}
	slices.Sort(names)
	return names, d.lstats(fd, dir, names[:min(len(names), most)]), nil
}

// openFolder opens a folder without what package os prepares for waiting on it.
func (d *Disk) openFolder(dir string) (fd int, err error) {
	if t, rel := d.below(dir); t != nil {
		if fd, err = t.open(rel, unix.O_RDONLY|unix.O_DIRECTORY); err != nil {
			return -1, &fs.PathError{Op: "open", Path: dir, Err: err}
		}
		return fd, nil
	}
	for {
		fd, err = unix.Open(dir, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
		if !errors.Is(err, unix.EINTR) {
			break
		}
	}
	if err != nil {
		return -1, &fs.PathError{Op: "open", Path: dir, Err: err}
	}
	return fd, nil
}

// Lstats is Lstat for names in one folder, which is looked up only once.
func (d *Disk) Lstats(dir string, names []string) []Info {
	fd, err := d.openFolder(dir)
	if err != nil {
		return slices.Repeat([]Info{{Err: err}}, len(names))
	}
	defer unix.Close(fd)
	return d.lstats(fd, dir, names)
}

func (d *Disk) lstats(fd int, dir string, names []string) []Info {
	all := make([]Info, len(names))
	for i, name := range names {
		if d != nil && d.Fault != nil {
			if all[i].Err = d.check("lstat", filepath.Join(dir, name)); all[i].Err != nil {
				continue
			}
		}
		all[i] = lstatAt(fd, dir, name)
	}
	return all
}

// lstatAt asks for a name in a folder that is open.
func lstatAt(fd int, dir, name string) Info {
	var st unix.Stat_t
	if err := unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return Info{Err: &fs.PathError{Op: "lstat", Path: filepath.Join(dir, name), Err: err}}
	}
	return Info{FileInfo: &stat{name: name, sys: syscall.Stat_t{Dev: st.Dev, Ino: st.Ino, Nlink: st.Nlink, Mode: st.Mode, Uid: st.Uid, Gid: st.Gid, Rdev: st.Rdev,
		Size: st.Size, Blksize: st.Blksize, Blocks: st.Blocks, Atim: syscall.Timespec(st.Atim), Mtim: syscall.Timespec(st.Mtim), Ctim: syscall.Timespec(st.Ctim)}}}
}

// stat implements fs.FileInfo as os.Lstat's does.
type stat struct {
	name string
	sys  syscall.Stat_t
}

func (s *stat) Name() string       { return s.name }
func (s *stat) Size() int64        { return s.sys.Size }
func (s *stat) ModTime() time.Time { return time.Unix(s.sys.Mtim.Unix()) }
func (s *stat) IsDir() bool        { return s.Mode().IsDir() }
func (s *stat) Sys() any           { return &s.sys }

// Mode implements fs.FileInfo.
func (s *stat) Mode() fs.FileMode {
	mode := fs.FileMode(s.sys.Mode & 0o777)
	switch s.sys.Mode & syscall.S_IFMT {
	case syscall.S_IFDIR:
		mode |= fs.ModeDir
	case syscall.S_IFLNK:
		mode |= fs.ModeSymlink
	case syscall.S_IFIFO:
		mode |= fs.ModeNamedPipe
	case syscall.S_IFSOCK:
		mode |= fs.ModeSocket
	case syscall.S_IFBLK:
		mode |= fs.ModeDevice
	case syscall.S_IFCHR:
		mode |= fs.ModeDevice | fs.ModeCharDevice
	}
	if s.sys.Mode&syscall.S_ISUID != 0 {
		mode |= fs.ModeSetuid
	}
	if s.sys.Mode&syscall.S_ISGID != 0 {
		mode |= fs.ModeSetgid
	}
	if s.sys.Mode&syscall.S_ISVTX != 0 {
		mode |= fs.ModeSticky
	}
	return mode
}
