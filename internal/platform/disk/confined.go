package disk

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// ErrSpecial is wrapped when what was to be read as a file is a named pipe, a device or
// a socket, which might never give an answer.
var ErrSpecial = errors.New("it is no regular file")

// tree is a folder that is read through its handle.
type tree struct {
	path string
	dir  handle
}

// Confined returns a Disk on which some folders are read as if somebody hostile could
// change them at any moment: whatever lies below one of them is looked up from a handle
// of that folder, no symbolic link is followed on the way or at the end, and nothing is
// opened that one might wait for. A link that takes the place of a file or folder, at
// whatever moment, gives an error. Other paths are as on d. Only reading is confined;
// Root confines writing.
//
// The folders themselves may be reached through links; those that are not there are
// passed over. They are held open until done is called.
func (d *Disk) Confined(folders ...string) (confined *Disk, done func(), err error) {
	t := &Disk{}
	if d != nil {
		t.Fault = d.Fault
	}
	done = func() {
		for _, r := range t.trees {
			_ = r.dir.Close()
		}
	}
	for _, folder := range folders {
		if err := d.check("open", folder); err != nil {
			done()
			return nil, nil, err
		}
		dir, err := openTree(folder)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			done()
			return nil, nil, err
		}
		t.trees = append(t.trees, tree{filepath.Clean(folder), dir})
	}
	// The longest first: one may lie in another.
	slices.SortFunc(t.trees, func(a, b tree) int { return len(b.path) - len(a.path) })
	return t, done, nil
}

// below finds the tree that a path lies in, and the rest of the path. One that begins with a tree's and climbs out of it is
// that tree's, and refused there.
func (d *Disk) below(name string) (*tree, string) {
	if d == nil || len(d.trees) == 0 {
		return nil, ""
	}
	const separator = string(filepath.Separator)
	for _, as := range []string{name, filepath.Clean(name)} {
		for i := range d.trees {
			t := &d.trees[i]
			if as == t.path {
				return t, "."
			}
			if rel, ok := strings.CutPrefix(as, strings.TrimSuffix(t.path, separator)+separator); ok && rel != "" {
				return t, cmp.Or(strings.TrimLeft(rel, separator), ".")
			}
		}
	}
	return nil, ""
}

// ReadRegular reads a file of at most most bytes, through links, but nothing that one
// might wait for.
func ReadRegular(name string, most int64) ([]byte, error) {
	f, err := os.OpenFile(name, os.O_RDONLY|noWait, 0)
	return readRegular(f, err, name, most)
}

// ReadLed is ReadRegular for what lies where others may put links: root follows those only that Way does.
func ReadLed(name string, most int64) ([]byte, error) {
	f, err := openLed(name, os.O_RDONLY|noWait)
	return readRegular(f, err, name, most)
}

func readRegular(f *os.File, err error, name string, most int64) ([]byte, error) {
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "read", Path: name, Err: ErrSpecial}
	}
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(data)) > most {
		err = &fs.PathError{Op: "read", Path: name, Err: fmt.Errorf("it is larger than %d bytes", most)}
	}
	return data, err
}
