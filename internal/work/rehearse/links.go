package rehearse

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/work/restore"
)

// A copy has the links that its site has, and those that lead out of the site lead to what is live: to a folder that
// several releases share, to another disk. This file sees to it that nothing goes there through the copy.

// keepApart puts database files of the copy somewhere else that would lie behind a link.
func (j Job) keepApart(copied *site.Site) error {
	for i, db := range copied.Databases {
		label, rel, inside := copied.LiesIn(db)
		if !inside {
			continue
		}
		linked, err := behindLink(copied.FolderOf(label), rel)
		if err != nil {
			return err
		}
		if !linked {
			continue
		}
		copied.Databases[i].Path = filepath.Join(j.room, databases, db.Label+".sqlite")
		if err := j.Disk.MkdirAll(filepath.Dir(copied.Databases[i].Path), 0o700); err != nil {
			return err
		}
	}
	return nil
}

// behindLink tells whether a link is on the way from a folder to what lies in it.
func behindLink(root, rel string) (bool, error) {
	at := root
	for _, part := range strings.Split(rel, "/") {
		at = filepath.Join(at, part)
		info, err := os.Lstat(at)
		if errors.Is(err, fs.ErrNotExist) {
			return false, nil
		}
		if err != nil || info.Mode()&fs.ModeSymlink != 0 {
			return true, err
		}
	}
	return false, nil
}

// writeSettings writes the settings of the copy: in the copy, wherever its links lead.
func (j Job) writeSettings(copied *site.Site, pointed site.Pointed) error {
	root, err := j.Disk.OpenRoot(copied.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	rel := filepath.FromSlash(pointed.Rel)
	like, err := root.Stat(rel)
	if err != nil { // a link that leads out is replaced by what it leads to
		if like, err = root.Stat("."); err != nil {
			return err
		}
	}
	if err := restore.Put(root, rel, pointed.Content, like); err != nil {
		return fmt.Errorf("%w: its settings lie behind a link that leads out of it: %w", ErrUnserved, err)
	}
	return nil
}

// systems are folders of the system's own, which links of a site may lead to while a copy of it is served.
var systems = []string{"/usr", "/etc", "/lib", "/lib64", "/bin", "/sbin"}

// cutLinks takes the links off that lead out of the copy: what is served is what is in the archive, and nothing that is live
// is changed by it. It returns them, as they stood.
func (j Job) cutLinks(copied *site.Site) (cut []string, err error) {
	room, err := j.Disk.OpenRoot(j.room)
	if err != nil {
		return nil, err
	}
	defer room.Close()
	for label, top := range allRoots(copied) {
		top, err := filepath.Rel(j.room, top)
		if err != nil {
			return nil, err
		}
		err = room.WalkDir(filepath.ToSlash(top), func(name string, e fs.DirEntry, err error) error {
			if err != nil || e.Type()&fs.ModeSymlink == 0 || leadsNowhereElse(room, name) {
				return err
			}
			to, err := room.Readlink(name)
			if err != nil {
				return err
			}
			rel, err := filepath.Rel(top, name)
			cut = append(cut, filepath.ToSlash(filepath.Join(label, rel))+" → "+to)
			return errors.Join(err, room.Remove(name))
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	slices.Sort(cut)
	return cut, nil
}

// allRoots are the folders of a site, by label; the webroot has none.
func allRoots(s *site.Site) map[string]string {
	all := map[string]string{"": s.Root}
	for label, dir := range s.Roots {
		all[label] = dir
	}
	return all
}

// leadsNowhereElse tells whether a link leads to something in the room, to nothing there, or to what is the system's.
func leadsNowhereElse(room *disk.Root, name string) bool {
	if _, err := room.Stat(name); err == nil || errors.Is(err, fs.ErrNotExist) {
		return true // the handle follows no link that leads out
	}
	real, err := filepath.EvalSymlinks(filepath.Join(room.Name(), name))
	within := func(dir string) bool {
		rel, err := filepath.Rel(dir, real)
		return err == nil && filepath.IsLocal(rel)
	}
	return err == nil && slices.ContainsFunc(systems, within) && !within("/usr/local") && disk.OnlyRoots(real)
}
