package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// ErrLinkOnTheWay is wrapped when somebody else's link stands on the way to a name.
var ErrLinkOnTheWay = errors.New("a link of another account stands on the way")

// RenameNoLinks is os.Rename for names that lie in folders of others: no symbolic link on
// the way to either is followed, but those of root and of this account. Whoever owns a
// folder on the way cannot lead it elsewhere, whenever he tries.
func (d *Disk) RenameNoLinks(from, to string) error {
	return d.renameNoLinks("rename", from, to, 0)
}

// OpenRootNoLinks is OpenRoot for a folder that lies in folders of others, or belongs to
// another account: no symbolic link on the way to it, itself included, is followed but
// those of root and of this account.
func (d *Disk) OpenRootNoLinks(name string) (*Root, error) {
	if err := d.check("open", name); err != nil {
		return nil, err
	}
	fd, err := openNoLinks(name, unix.O_PATH|unix.O_DIRECTORY)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	r, err := os.OpenRoot(fmt.Sprintf("/proc/self/fd/%d", fd))
	if errors.Is(err, fs.ErrNotExist) { // there is no /proc here
		r, err = os.OpenRoot(name)
		if err == nil {
			err = sameFolder(r, fd)
		}
	}
	if err != nil {
		return nil, err
	}
	return &Root{r, d, name}, nil
}

// sameFolder makes sure that a root is the folder that is open already.
func sameFolder(r *os.Root, fd int) error {
	var was unix.Stat_t
	if err := unix.Fstat(fd, &was); err != nil {
		return errors.Join(err, r.Close())
	}
	info, err := r.Stat(".")
	if st, ok := sysStat(info); err == nil && (!ok || st.Ino != was.Ino || uint64(st.Dev) != uint64(was.Dev)) {
		err = ErrLinkOnTheWay
	}
	if err != nil {
		return errors.Join(err, r.Close())
	}
	return nil
}

func sysStat(info fs.FileInfo) (*syscall.Stat_t, bool) {
	if info == nil {
		return nil, false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	return st, ok
}

// ExchangeNoLinks swaps two names in one atomic step; they are looked up as by
// RenameNoLinks. It returns an error for which ExchangeUnsupported is true where the file
// system cannot do that.
func (d *Disk) ExchangeNoLinks(a, b string) error {
	return d.renameNoLinks("exchange", a, b, unix.RENAME_EXCHANGE)
}

func (d *Disk) renameNoLinks(op, from, to string, flags uint) error {
	if err := d.check(op, from); err != nil {
		return err
	}
	fromDir, err := openNoLinks(filepath.Dir(from), unix.O_PATH|unix.O_DIRECTORY)
	if err != nil {
		return err
	}
	defer unix.Close(fromDir)
	toDir, err := openNoLinks(filepath.Dir(to), unix.O_PATH|unix.O_DIRECTORY)
	if err != nil {
		return err
	}
	defer unix.Close(toDir)
	if flags == 0 {
		err = unix.Renameat(fromDir, filepath.Base(from), toDir, filepath.Base(to))
	} else {
		err = unix.Renameat2(fromDir, filepath.Base(from), toDir, filepath.Base(to), flags)
	}
	if err != nil {
		return &os.LinkError{Op: op, Old: from, New: to, Err: err}
	}
	return nil
}

// openNoLinks opens a folder to look names up in it.
func openNoLinks(dir string, flags int) (fd int, err error) {
	way, err := trustedWay(dir)
	if err != nil {
		return -1, err
	}
	root, err := os.OpenFile("/", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, err
	}
	defer root.Close()
	rel := strings.TrimPrefix(way, "/")
	if rel == "" {
		rel = "."
	}
	how := unix.OpenHow{Flags: uint64(flags | unix.O_CLOEXEC), Resolve: unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS}
	fd, err = unix.Openat2(int(root.Fd()), rel, &how)
	for tries := 0; tries < mostRenames && (errors.Is(err, unix.EINTR) || errors.Is(err, unix.EAGAIN)); tries++ {
		fd, err = unix.Openat2(int(root.Fd()), rel, &how)
	}
	if errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EPERM) {
		fd, err = (&tree{"/", root}).openByParts(rel, flags)
	}
	if err != nil {
		if errors.Is(err, unix.ELOOP) || errors.Is(err, unix.ENOTDIR) {
			err = fmt.Errorf("%w: %w", ErrLinkOnTheWay, err)
		}
		return -1, &fs.PathError{Op: "open", Path: dir, Err: err}
	}
	return fd, nil
}

// mostLinks bounds how many links a way may have.
const mostLinks = 40

// trustedWay is a path with those links replaced by where they lead that root or this
// account has made. What it finds may have changed a moment later: whoever uses the path
// follows no links on it.
func trustedWay(path string) (string, error) {
	path = filepath.Clean(path)
	if !filepath.IsAbs(path) {
		return "", fmt.Errorf("%s is no absolute path", path)
	}
	for range mostLinks {
		at, rest, target := "", strings.Split(strings.TrimPrefix(path, "/"), "/"), ""
		for i, part := range rest {
			at += "/" + part
			info, err := os.Lstat(at)
			if err != nil || info.Mode()&fs.ModeSymlink == 0 {
				if err != nil && !errors.Is(err, fs.ErrNotExist) {
					return "", err
				}
				continue
			}
			if st, ok := info.Sys().(*syscall.Stat_t); !ok || st.Uid != 0 && int(st.Uid) != os.Geteuid() {
				return "", &fs.PathError{Op: "open", Path: at, Err: ErrLinkOnTheWay}
			}
			if target, err = os.Readlink(at); err != nil {
				return "", err
			}
			if !filepath.IsAbs(target) {
				target = filepath.Join(filepath.Dir(at), target)
			}
			target = filepath.Join(append([]string{target}, rest[i+1:]...)...)
			break
		}
		if target == "" {
			return path, nil
		}
		path = target
	}
	return "", &fs.PathError{Op: "open", Path: path, Err: unix.ELOOP}
}
