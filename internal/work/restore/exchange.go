package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"

	"revlet/internal/platform/disk"
)

// swap puts the staged tree in the webroot's place and the live one aside.
func (f *FilesPlan) swap(ctx context.Context, d *disk.Disk, j *Journal) error {
	if f.On != "" {
		return f.swapFar(ctx, j)
	}
	if f.Inner {
		if err := f.swapInner(d); err != nil {
			return err
		}
	} else if err := f.put(d, f.StagedInode, f.LiveInode, f.aside()); err != nil {
		return err
	}
	return errors.Join(f.moveCarried(d, f.aside()), f.bringKept(d, f.aside()))
}

// revert puts the tree that was live back and the restored one where it was
// staged.
func (f *FilesPlan) revert(ctx context.Context, d *disk.Disk, j *Journal) error {
	if f.On != "" {
		return f.revertFar(ctx, j)
	}
	if f.Inner {
		if err := f.revertInner(d); err != nil {
			return err
		}
	} else if err := f.put(d, f.LiveInode, f.StagedInode, f.staged()); err != nil {
		return err
	}
	return errors.Join(f.moveCarried(d, f.staged()), f.bringKept(d, f.staged()))
}

// put makes the tree with the inode want the webroot and moves the other one to
// a place in the box. An inode of 0 stands for no tree at all. The trees are
// told apart by their inodes, so that it can be called again wherever an
// earlier call has stopped.
func (f *FilesPlan) put(d *disk.Disk, want, other uint64, place string) error {
	now, err := inode(d, f.Root)
	if err != nil {
		return err
	}
	switch {
	case now == want:
	case want == 0:
		if err := d.RenameNoLinks(f.Root, place); err != nil {
			return err
		}
	default:
		from, err := f.find(d, want)
		if err != nil {
			return err
		}
		if err := f.carry(d, f.Root, from); err != nil {
			return err
		}
		if err := f.exchange(d, from, now != 0); err != nil {
			return err
		}
	}
	for _, at := range []string{f.staged(), f.aside()} {
		now, err := inode(d, at)
		if err != nil {
			return err
		}
		if at != place && now != 0 && now == other {
			if err := d.RenameNoLinks(at, place); err != nil {
				return err
			}
		}
	}
	return errors.Join(d.SyncDir(f.Box), d.SyncDir(filepath.Dir(f.Root)))
}

// find returns where in the box the tree with an inode is.
func (f *FilesPlan) find(d *disk.Disk, want uint64) (string, error) {
	for _, at := range []string{f.staged(), f.aside(), f.spare()} {
		now, err := inode(d, at)
		if err != nil || now == want {
			return at, err
		}
	}
	return "", fmt.Errorf("the tree that belongs at %s is no longer in %s", f.Root, f.Box)
}

// exchange lets a tree in the box and the webroot change places: in one atomic
// step where the file system can, else by renames.
func (f *FilesPlan) exchange(d *disk.Disk, from string, occupied bool) error {
	if !occupied {
		return d.RenameNoLinks(from, f.Root)
	}
	err := d.ExchangeNoLinks(from, f.Root)
	if err == nil || !disk.ExchangeUnsupported(err) {
		return err
	}
	if err := d.RenameNoLinks(from, f.spare()); err != nil {
		return err
	}
	if err := d.RenameNoLinks(f.Root, from); err != nil {
		return err
	}
	return d.RenameNoLinks(f.spare(), f.Root)
}

// databaseFiles are the endings of a database file and its logs, itself last.
var databaseFiles = []string{"-wal", "-journal", "-shm", ""}

// trees opens the tree that a database file is taken from and the one that it goes to.
// Whoever the site belongs to may change both meanwhile: no link leads out of them.
func trees(d *disk.Disk, from, to string, work func(from, to *disk.Root) error) error {
	a, err := openTree(d, from)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer a.Close()
	b, err := openTree(d, to)
	if err != nil {
		return err
	}
	defer b.Close()
	if err := work(a, b); err != nil {
		return fmt.Errorf("keep the database file: %w", err)
	}
	return nil
}

// there tells whether a path is in a tree, whatever it is.
func there(tree *disk.Root, rel string) (bool, error) {
	_, err := tree.Lstat(filepath.FromSlash(rel))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// carry links database files that stay what they are from the tree that is
// live into the one that is about to be.
func (f *FilesPlan) carry(d *disk.Disk, live, next string) error {
	if f.CarryByMove || len(f.Carried) == 0 {
		return nil
	}
	return trees(d, live, next, func(live, next *disk.Root) error {
		for _, rel := range f.Carried {
			// Without it there is nothing to carry, and what is in the other tree may
			// be the only one.
			if is, err := there(live, rel); err != nil || !is {
				if err != nil {
					return err
				}
				continue
			}
			for _, suffix := range databaseFiles {
				if err := carryOne(live, next, rel+suffix); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// carryOne gives a file a name in the tree that is about to be live, instead of what
// has that name now.
func carryOne(live, next *disk.Root, rel string) error {
	if err := next.Remove(filepath.FromSlash(rel)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if is, err := there(live, rel); err != nil || !is {
		return err
	}
	if err := next.MkdirAll(path.Dir(rel), 0o755); err != nil {
		return err
	}
	return live.LinkTo(filepath.FromSlash(rel), next, filepath.FromSlash(rel))
}

// moveCarried moves database files that stay what they are, and can have only one name,
// out of the tree that was live. In the moment before, the site may have made an empty
// one in their place.
func (f *FilesPlan) moveCarried(d *disk.Disk, from string) error {
	if !f.CarryByMove || len(f.Carried) == 0 {
		return nil
	}
	return trees(d, from, f.Root, func(was, is *disk.Root) error {
		for _, rel := range f.Carried {
			if still, err := there(was, rel); err != nil || !still {
				if err != nil {
					return err
				}
				continue // done
			}
			stray, err := there(is, rel)
			if err != nil {
				return err
			}
			for _, suffix := range databaseFiles {
				if !stray {
					break
				}
				if err := is.Remove(filepath.FromSlash(rel + suffix)); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
			}
			for _, suffix := range databaseFiles {
				if err := moveOne(was, is, rel+suffix); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

func moveOne(was, is *disk.Root, rel string) error {
	if still, err := there(was, rel); err != nil || !still {
		return err
	}
	if err := is.MkdirAll(path.Dir(rel), 0o755); err != nil {
		return err
	}
	if err := was.MoveTo(filepath.FromSlash(rel), is, filepath.FromSlash(rel)); err != nil {
		return err
	}
	return is.SyncDir(path.Dir(rel))
}

// noteCarried finds out how database files that stay are carried over: a file may be
// one that can have only one name. What is staged must have room for them where they are.
func (f *FilesPlan) noteCarried(d *disk.Disk) error {
	if len(f.Carried) == 0 {
		return nil
	}
	if err := d.MkdirAll(filepath.Join(f.Box, "probe"), 0o700); err != nil {
		return err
	}
	var live []string
	err := trees(d, f.Root, filepath.Join(f.Box, "probe"), func(tree, probe *disk.Root) error {
		for _, rel := range f.Carried {
			if is, err := there(tree, rel); err != nil || !is {
				if err != nil {
					return err
				}
				continue
			}
			live = append(live, rel)
			err := tree.LinkTo(filepath.FromSlash(rel), probe, "file")
			switch {
			case disk.LinkUnsupported(err):
				f.CarryByMove = true
				continue
			case errors.Is(err, fs.ErrNotExist):
				continue
			case err == nil:
				err = probe.Remove("file")
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return trees(d, f.staged(), f.staged(), func(staged, _ *disk.Root) error {
		for _, rel := range live {
			if err := staged.MkdirAll(path.Dir(rel), 0o755); err != nil {
				return fmt.Errorf("the archive has no folder for %s: %w", rel, err)
			}
		}
		return nil
	})
}
