package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// Root confines writing to one folder: os.Root refuses names that climb out of
// it and links that lead out of it. Each call passes the fault hook.
type Root struct {
	*os.Root
	d *Disk
	// path is where it was, for the fault hook.
	path string
}

func (r *Root) check(op, name string) error { return r.d.check(op, filepath.Join(r.path, name)) }

// OpenRoot opens a folder to write in.
func (d *Disk) OpenRoot(name string) (*Root, error) {
	if err := d.check("open", name); err != nil {
		return nil, err
	}
	r, err := os.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	return &Root{r, d, name}, nil
}

// OpenRoot opens a folder inside the root as a root of its own.
func (r *Root) OpenRoot(name string) (*Root, error) {
	if err := r.check("open", name); err != nil {
		return nil, err
	}
	inner, err := r.Root.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	return &Root{inner, r.d, filepath.Join(r.path, name)}, nil
}

// Inode is Disk's, for a name inside the root.
func (r *Root) Inode(name string, info fs.FileInfo) (uint64, error) {
	return r.d.Inode(filepath.Join(r.Name(), name), info)
}

// Create creates a new file for writing, and for reading what was written; it must not exist.
func (r *Root) Create(name string, perm fs.FileMode) (*File, error) {
	if err := r.check("open", name); err != nil {
		return nil, err
	}
	f, err := r.Root.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, perm)
	if err != nil {
		return nil, err
	}
	return &File{f, r.d}, nil
}

// OpenRegular opens a file inside the root for reading, through links that stay in it, but nothing that one might wait
// for or that has no end.
func (r *Root) OpenRegular(name string) (*File, error) {
	if err := r.check("open", name); err != nil {
		return nil, err
	}
	f, err := r.Root.OpenFile(name, os.O_RDONLY|noWait, 0)
	if err != nil {
		return nil, err
	}
	return regular(&File{f, r.d}, name)
}

// WalkDir is fs.WalkDir inside the root.
func (r *Root) WalkDir(name string, visit fs.WalkDirFunc) error {
	if err := r.check("readdir", name); err != nil {
		return err
	}
	return fs.WalkDir(r.FS(), name, visit)
}

// ReadNames returns the names in a folder inside the root, unsorted.
func (r *Root) ReadNames(name string) ([]string, error) {
	if err := r.check("readdir", name); err != nil {
		return nil, err
	}
	f, err := r.Root.OpenFile(name, os.O_RDONLY|noWait, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.Readdirnames(-1)
}

// MkdirAllSynced is MkdirAll, and makes the names of the folders that it makes durable.
func (r *Root) MkdirAllSynced(name string, perm fs.FileMode) error {
	if info, err := r.Stat(name); err == nil && info.IsDir() || name == "." {
		return err
	}
	above := filepath.Dir(name)
	if err := r.MkdirAllSynced(above, perm); err != nil {
		return err
	}
	if err := r.Mkdir(name, perm); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return r.SyncDir(above)
}

// MkdirAll makes a folder and its parents.
func (r *Root) MkdirAll(name string, perm fs.FileMode) error {
	if err := r.check("mkdir", name); err != nil {
		return err
	}
	return r.Root.MkdirAll(name, perm)
}

// Mkdir makes a folder; it must not exist.
func (r *Root) Mkdir(name string, perm fs.FileMode) error {
	if err := r.check("mkdir", name); err != nil {
		return err
	}
	return r.Root.Mkdir(name, perm)
}

// Symlink makes a symbolic link. Its target may lead anywhere: nothing is
// written through it.
func (r *Root) Symlink(target, name string) error {
	if err := r.check("symlink", name); err != nil {
		return err
	}
	return r.Root.Symlink(target, name)
}

// Link makes a hard link between two names inside the root.
func (r *Root) Link(old, name string) error {
	if err := r.check("link", name); err != nil {
		return err
	}
	return r.Root.Link(old, name)
}

// Remove deletes a name inside the root, never what a link leads to.
func (r *Root) Remove(name string) error {
	if err := r.check("remove", name); err != nil {
		return err
	}
	return sayLocked(removeIn(r.Root, name), filepath.Join(r.Name(), name))
}

// Rename gives a name inside the root another one there, in the place of what has it.
func (r *Root) Rename(from, to string) error {
	if err := r.check("rename", to); err != nil {
		return err
	}
	return sayLocked(r.Root.Rename(from, to), filepath.Join(r.Name(), from), filepath.Join(r.Name(), to))
}

// LinkOrCopy makes a hard link between two names inside the root or, where a file can
// have no other name, a copy with its owner, permissions and time of modification.
func (r *Root) LinkOrCopy(old, name string) error {
	err := r.Link(old, name)
	if !LinkUnsupported(err) {
		return err
	}
	info, err := r.Lstat(old)
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return &os.LinkError{Op: "link", Old: old, New: name, Err: ErrSpecial}
	}
	from, err := r.Open(old)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := r.Create(name, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, from)
	if a, ok := AttributesOf(info); ok && err == nil && os.Geteuid() == 0 {
		err = to.Chown(a.UID, a.GID)
	}
	if err == nil {
		err = to.Chmod(info.Mode().Perm() | info.Mode()&(fs.ModeSetuid|fs.ModeSetgid|fs.ModeSticky))
	}
	if err = errors.Join(err, to.Close()); err != nil {
		return err
	}
	return r.Chtimes(name, info.ModTime(), info.ModTime())
}

// Chmod sets permissions, set-id and sticky bits included.
func (r *Root) Chmod(name string, mode fs.FileMode) error {
	if err := r.check("chmod", name); err != nil {
		return err
	}
	return r.Root.Chmod(name, mode)
}

// Lchown sets the owner without following a link.
func (r *Root) Lchown(name string, uid, gid int) error {
	if err := r.check("chown", name); err != nil {
		return err
	}
	return r.Root.Lchown(name, uid, gid)
}

// Chtimes sets the access and modification times.
func (r *Root) Chtimes(name string, atime, mtime time.Time) error {
	if err := r.check("chtimes", name); err != nil {
		return err
	}
	if y := mtime.Year(); y <= 1678 || y >= 2262 {
		return lchtimes(r.Root, name, mtime) // os counts nanoseconds in 64 bits
	}
	return r.Root.Chtimes(name, atime, mtime)
}

// LchtimesIfAble sets the times of a symbolic link itself, where the file system keeps
// any.
func (r *Root) LchtimesIfAble(name string, mtime time.Time) error {
	if err := r.check("chtimes", name); err != nil {
		return err
	}
	return lchtimes(r.Root, name, mtime)
}

// MoveTo renames a name inside the root to one inside another root on the same file
// system. Links in either way are followed only inside their root, as by os.Root;
// name itself is moved, whatever it is.
func (r *Root) MoveTo(name string, to *Root, newName string) error {
	if err := r.check("rename", name); err != nil {
		return err
	}
	return sayLocked(moveBetween(r.Root, name, to.Root, newName), filepath.Join(r.Name(), name), filepath.Join(to.Name(), newName))
}

// LinkTo gives a name inside the root another one inside another root, as MoveTo moves
// it. See LinkUnsupported for where it cannot.
func (r *Root) LinkTo(name string, to *Root, newName string) error {
	if err := r.check("link", name); err != nil {
		return err
	}
	return linkBetween(r.Root, name, to.Root, newName)
}

// SyncDir makes the names in a folder inside the root durable.
func (r *Root) SyncDir(name string) error {
	if err := r.check("sync", name); err != nil {
		return err
	}
	return syncFolder(r.Root, name)
}
