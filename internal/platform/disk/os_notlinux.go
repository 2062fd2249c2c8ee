//go:build !linux

package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
)

// Here what Linux does with openat2 and renameat2 is done by looking first: whoever can
// change the folders meanwhile is not kept out. So folders of others, such as the webroots of
// this machine, are not worked on here; see tree.Local.

// ErrLinkOnTheWay is wrapped when somebody else's link stands on the way to a name.
var ErrLinkOnTheWay = errors.New("a link of another account stands on the way")

// RenameNoLinks is os.Rename.
func (d *Disk) RenameNoLinks(from, to string) error { return d.Rename(from, to) }

// OpenRootNoLinks is OpenRoot for a folder that is no link itself.
func (d *Disk) OpenRootNoLinks(name string) (*Root, error) {
	info, err := d.Lstat(name)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: ErrLinkOnTheWay}
	}
	return d.OpenRoot(name)
}

// ExchangeNoLinks returns an error for which ExchangeUnsupported is true.
func (d *Disk) ExchangeNoLinks(a, b string) error {
	if err := d.check("exchange", a); err != nil {
		return err
	}
	return &os.LinkError{Op: "exchange", Old: a, New: b, Err: errors.ErrUnsupported}
}

func clone(*os.File, *os.File) error { return errors.ErrUnsupported }

// handle is what a folder is read through.
type handle = *os.Root

// openLed opens a path to which links may lead.
func openLed(path string, flags int) (*os.File, error) { return os.OpenFile(path, flags, 0) }

func openTree(folder string) (handle, error) { return os.OpenRoot(folder) }

// pass refuses a way in the tree on which a link stands.
func (t *tree) pass(name, rel string) error {
	for i, c := range rel {
		if c != filepath.Separator {
			continue
		}
		if info, err := t.dir.Lstat(rel[:i]); err != nil {
			return err
		} else if !info.IsDir() {
			return &fs.PathError{Op: "open", Path: name, Err: ErrLinkOnTheWay}
		}
	}
	return nil
}

// file opens a regular file or a folder in the tree for reading.
func (t *tree) file(name, rel string) (*os.File, error) {
	was, err := t.lstat(name, rel)
	if err != nil {
		return nil, err
	}
	if !was.Mode().IsRegular() && !was.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: ErrSpecial}
	}
	f, err := t.dir.OpenFile(rel, os.O_RDONLY|noWait, 0)
	if err != nil {
		return nil, err
	}
	if is, err := f.Stat(); err != nil || !os.SameFile(was, is) {
		return nil, errors.Join(err, &fs.PathError{Op: "open", Path: name, Err: ErrLinkOnTheWay}, f.Close())
	}
	return f, nil
}

func (t *tree) lstat(name, rel string) (fs.FileInfo, error) {
	if err := t.pass(name, rel); err != nil {
		return nil, err
	}
	return t.dir.Lstat(rel)
}

func (t *tree) readlink(name, rel string) (string, error) {
	if err := t.pass(name, rel); err != nil {
		return "", err
	}
	return t.dir.Readlink(rel)
}

// Handle calls use with the path itself.
func (d *Disk) Handle(name string, use func(path string) error) error { return use(name) }

// ReadFolder returns the names in a folder, in order, and what lstat says of the
// first of them: most at most.
func (d *Disk) ReadFolder(dir string, most int) (names []string, infos []Info, err error) {
	if names, err = d.ReadNames(dir); err != nil {
		return nil, nil, err
	}
	slices.Sort(names)
	return names, d.Lstats(dir, names[:min(len(names), most)]), nil
}

// Lstats is Lstat for names in one folder.
func (d *Disk) Lstats(dir string, names []string) []Info {
	all := make([]Info, len(names))
	for i, name := range names {
		all[i].FileInfo, all[i].Err = d.Lstat(filepath.Join(dir, name))
	}
	return all
}
