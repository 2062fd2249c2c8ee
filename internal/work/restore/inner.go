package restore

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
)

// needsInner tells whether a webroot has to be exchanged from inside.
func needsInner(d *disk.Disk, root string) (bool, error) {
	info, err := d.Lstat(root)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	above, err := d.Stat(filepath.Dir(root))
	if err != nil {
		return false, err
	}
	mine, ok1 := disk.AttributesOf(info)
	theirs, ok2 := disk.AttributesOf(above)
	mounted, err := d.IsMount(root) // of the same file system, too
	if err != nil {
		return false, err
	}
	mounted = mounted || ok1 && ok2 && mine.Dev != theirs.Dev
	return mounted || !disk.Writable(filepath.Dir(root)), nil
}

// NoMountsBelow refuses a folder in which something is mounted. It would go where the folder goes: out of the site with
// what is set aside, and what is deleted there later is what the other disk holds.
func NoMountsBelow(d *disk.Disk, site, dir string) error {
	return noMounts(d, reason.MountedInside, site, dir)
}

func noMounts(d *disk.Disk, what reason.Reason, site, dir string) error {
	mounts, err := d.MountsBelow(dir)
	if err != nil || len(mounts) == 0 {
		return err
	}
	text := strings.Join(mounts[:min(len(mounts), mountsShown)], ", ")
	if more := len(mounts) - mountsShown; more > 0 {
		text = fmt.Sprintf("%s and %d more", text, more)
	}
	return reason.New(what, reason.Names{"site": site, "mount": mounts[0]}, "something else is mounted inside %s: %s", dir, text)
}

// mountsShown is how many mount points are named.
const mountsShown = 3

// denyAll keeps web servers that read such files from showing the box.
const denyAll = "Require all denied\n"

// noteNames records what lies in both trees just before the exchange: told by
// these names, every step of it can be run again.
func (f *FilesPlan) noteNames(d *disk.Disk, s *site.Site) error {
	if !f.Inner {
		return nil
	}
	var err error
	if f.OldNames, err = d.ReadNames(f.Root); err != nil {
		return err
	}
	f.OldNames = slices.DeleteFunc(f.OldNames, func(name string) bool { return f.isBox(s, name) })
	if f.NewNames, err = d.ReadNames(f.staged()); err != nil {
		return err
	}
	// What is carried into the new tree at the exchange moves in with it.
	for _, rel := range f.Carried {
		for _, suffix := range databaseFiles {
			name, _, _ := strings.Cut(rel+suffix, "/")
			if slices.Contains(f.OldNames, name) && !slices.Contains(f.NewNames, name) {
				f.NewNames = append(f.NewNames, name)
			}
		}
	}
	slices.Sort(f.OldNames)
	slices.Sort(f.NewNames)
	return d.MkdirAll(f.aside(), 0o700)
}

// isBox tells whether a path in the folder is what this restore works in, or one before it. Whatever else is called so
// is the site's, or somebody's who would have it stay.
func (f *FilesPlan) isBox(s *site.Site, rel string) bool {
	return f.Inner && rel == filepath.Base(f.Box) || s.InBox(f.Label, rel)
}

// swapInner moves what is live aside and then what is staged in. A name whose
// old bearer is not aside yet still is the old one.
func (f *FilesPlan) swapInner(d *disk.Disk) error {
	if err := f.moveNames(d, f.OldNames, f.Root, f.aside()); err != nil {
		return err
	}
	for _, rel := range f.Carried {
		first, _, _ := strings.Cut(rel, "/")
		if !slices.Contains(f.OldNames, first) {
			continue
		}
		if err := f.carry(d, f.aside(), f.staged()); err != nil {
			return err
		}
	}
	return f.moveNames(d, f.NewNames, f.staged(), f.Root)
}

func (f *FilesPlan) revertInner(d *disk.Disk) error {
	if err := f.moveNames(d, f.NewNames, f.Root, f.staged()); err != nil {
		return err
	}
	if err := f.carry(d, f.staged(), f.aside()); err != nil {
		return err
	}
	return f.moveNames(d, f.OldNames, f.aside(), f.Root)
}

// moveNames moves each name unless that is done: out of the webroot while the
// other place lacks it, into it while the other place still has it.
func (f *FilesPlan) moveNames(d *disk.Disk, names []string, from, to string) error {
	for _, name := range names {
		box := to
		if to == f.Root {
			box = from
		}
		boxed, err := d.Exists(filepath.Join(box, name))
		if err != nil {
			return err
		}
		there, err := d.Exists(filepath.Join(from, name))
		if err != nil {
			return err
		}
		if !there || boxed == (from == f.Root) {
			continue
		}
		if err := d.RenameNoLinks(filepath.Join(from, name), filepath.Join(to, name)); err != nil {
			return fmt.Errorf("exchange %s: %w", name, err)
		}
	}
	return errors.Join(d.SyncDir(from), d.SyncDir(to))
}
