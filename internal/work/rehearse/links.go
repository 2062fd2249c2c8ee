package rehearse

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
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
		linked, err := j.behindLink(copied.FolderOf(label), rel)
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

// behindLink tells whether a link is on the way from a folder of the copy to what lies in it.
func (j Job) behindLink(folder, rel string) (bool, error) {
	tree, err := j.Disk.OpenRoot(folder)
	if errors.Is(err, fs.ErrNotExist) { // there are no files in the archive
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer tree.Close()
	_, _, is := restore.LinkOnWay(tree, rel)
	return is, nil
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

// ownLinks has links that named something in the site's folders by its whole path, or in another one of them, lead to the
// copy of that.
func (j Job) ownLinks(copied *site.Site) error {
	return j.eachLink(copied, func(room *disk.Root, at, name, target string) error {
		to := j.Archive.Origin.LinkTo(name, filepath.ToSlash(target))
		label, rel, _ := strings.Cut(to, "/")
		own, in, _ := strings.Cut(name, "/")
		folder := copied.Folders()[label]
		if to == "" || folder == "" || label == own && !filepath.IsAbs(target) && filepath.IsLocal(filepath.Join(filepath.Dir(in), target)) {
			return nil
		}
		return errors.Join(room.Remove(at), room.Symlink(filepath.Join(folder, filepath.FromSlash(rel)), at))
	})
}

// cutLinks takes the links off that lead out of the copy: what is served is what is in the archive, and nothing that is live
// is changed by it. It returns them, as they stood.
func (j Job) cutLinks(copied *site.Site) (cut []string, err error) {
	err = j.eachLink(copied, func(room *disk.Root, at, name, target string) error {
		if leadsNowhereElse(room, at) {
			return nil
		}
		cut = append(cut, strings.TrimPrefix(name, site.RootLabel+"/")+" → "+target)
		return room.Remove(at)
	})
	slices.Sort(cut)
	return cut, err
}

// eachLink visits the links of the copy: where they are in its room, their names in the archive, and where they lead.
func (j Job) eachLink(copied *site.Site, visit func(room *disk.Root, at, name, target string) error) error {
	room, err := j.Disk.OpenRoot(j.room)
	if err != nil {
		return err
	}
	defer room.Close()
	for label, folder := range copied.Folders() {
		top, err := filepath.Rel(j.room, folder)
		if err != nil {
			return err
		}
		err = room.WalkDir(filepath.ToSlash(top), func(at string, e fs.DirEntry, err error) error {
			if err != nil || e.Type()&fs.ModeSymlink == 0 {
				return err
			}
			target, err := room.Readlink(at)
			if err != nil {
				return err
			}
			rel, err := filepath.Rel(top, at)
			if err != nil {
				return err
			}
			return visit(room, at, path.Join(label, filepath.ToSlash(rel)), target)
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// leadsNowhereElse tells whether a link leads to something in the room, to nothing there, or to what is the system's.
func leadsNowhereElse(room *disk.Root, name string) bool {
	if _, err := room.Stat(name); err == nil || errors.Is(err, fs.ErrNotExist) {
		return true // the handle follows no link that leads out
	}
	real, err := filepath.EvalSymlinks(filepath.Join(room.Name(), name))
	if top, is := filepath.EvalSymlinks(room.Name()); is == nil && err == nil {
		if rel, err := filepath.Rel(top, real); err == nil && filepath.IsLocal(rel) {
			return true
		}
	}
	within := func(dir string) bool {
		rel, err := filepath.Rel(dir, real)
		return err == nil && filepath.IsLocal(rel)
	}
	return err == nil && slices.ContainsFunc(systems, within) && !within("/usr/local") && disk.OnlyRoots(real)
}
