package jobs

import (
	"errors"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"revlet/internal/config"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
)

// An archive says where its site was. Whoever holds the store could have written that, so
// that a site which was found in a store, or in a file, is not put where its archive says
// until a person has typed the webroot's path.

// placesOf are the paths that an entry of a site would have files written to.
func placesOf(s config.Site) []string {
	all := []string{s.Root}
	for _, label := range slices.Sorted(maps.Keys(s.Roots)) {
		all = append(all, s.Roots[label])
	}
	for _, label := range slices.Sorted(maps.Keys(s.Databases)) {
		if file := s.Databases[label].SQLite; file != "" {
			all = append(all, file)
		}
	}
	return all
}

// systemPlace is the first of an entry's paths that no site can have; empty if there is
// none.
func systemPlace(s config.Site) string {
	all := placesOf(s)
	if i := slices.IndexFunc(all, func(path string) bool { return site.SystemFolder(strings.TrimPrefix(path, s.Base())) }); i >= 0 {
		return all[i]
	}
	return ""
}

func (a *Agent) unconfirmedPath(name string) string {
	return filepath.Join(a.State.Dir, "unconfirmed", name+".json")
}

// noteUnconfirmed remembers that nobody has confirmed yet where sites lie.
func (a *Agent) noteUnconfirmed(sites map[string]config.Site) error {
	for name, s := range sites {
		if err := a.State.WriteNote(a.unconfirmedPath(name), placesOf(s), "that the place of site "+name+" is not confirmed"); err != nil {
			return err
		}
	}
	return nil
}

// Unconfirmed are the paths of a site that stand in the configuration because an archive
// said so, and that nobody has confirmed. A webroot that was changed there since is a
// person's word.
func (a *Agent) Unconfirmed(name string) (paths []string, err error) {
	if _, err := a.State.ReadNote(a.unconfirmedPath(name), &paths, "whether the place of site "+name+" was confirmed"); err != nil {
		return nil, err
	}
	if len(paths) == 0 || paths[0] != a.Config.Sites[name].Root {
		return nil, nil
	}
	return paths, nil
}

// confirmPlace refuses to write to where an archive has said that a site is, unless root
// is that webroot, as a person has typed it.
func (a *Agent) confirmPlace(name, root string) error {
	paths, err := a.Unconfirmed(name)
	if err != nil || len(paths) == 0 {
		return err
	}
	if root == "" {
		return reason.Because(reason.PlaceUnconfirmed, reason.Names{"site": name, "path": paths[0]}, reason.BadUsage("where site %s lies is known from its archive only, and nobody has confirmed it: %s", name, strings.Join(paths, ", ")))
	}
	typed := root
	if !a.Config.Sites[name].Far() {
		abs, err := filepath.Abs(root)
		if err != nil {
			return err
		}
		typed = abs
	}
	if typed != paths[0] {
		return reason.Because(reason.PlaceUnconfirmed, reason.Names{"site": name, "path": paths[0]}, reason.BadUsage("the configuration has %s at %s, not at %s", name, paths[0], root))
	}
	return nil
}

// placeConfirmed forgets that a site's place was not confirmed.
func (a *Agent) placeConfirmed(name string) {
	if err := a.Disk.Remove(a.unconfirmedPath(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		a.warnf("note that the place of site %s is confirmed: %w", name, err)
	}
}
