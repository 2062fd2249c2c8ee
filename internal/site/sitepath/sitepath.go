// Package sitepath handles paths on the machine of a site. They are separated by slashes
// and absolute when they begin with one, whatever system Revlet itself runs on. A copy of a
// site on this machine, as in a rehearsal, has paths of this system's, which are known by what
// they begin with. For paths of Revlet's own files there is path/filepath.
package sitepath

import (
	"errors"
	"path"
	"path/filepath"
	"strings"
)

// Longest is how many bytes a path inside a site's folder may have to be saved. The system
// takes 4095 (PATH_MAX); what is put back stands beside the webroot first, under a longer
// name, and so is what it replaces.
const Longest = 3500

// own tells a path that only this system takes for absolute.
func own(name string) bool { return !path.IsAbs(name) && filepath.IsAbs(name) }

// Join is path.Join.
func Join(elements ...string) string {
	if len(elements) > 0 && own(elements[0]) {
		return filepath.Join(elements...)
	}
	return path.Join(elements...)
}

// Dir is path.Dir.
func Dir(name string) string {
	if own(name) {
		return filepath.Dir(name)
	}
	return path.Dir(name)
}

// Base is path.Base.
func Base(name string) string {
	if own(name) {
		return filepath.Base(name)
	}
	return path.Base(name)
}

// Clean is path.Clean.
func Clean(name string) string {
	if own(name) {
		return filepath.Clean(name)
	}
	return path.Clean(name)
}

// IsAbs is path.IsAbs.
func IsAbs(name string) bool { return path.IsAbs(name) || filepath.IsAbs(name) }

// IsLocal tells whether a name leads to something below the folder that it is meant from, by
// its letters alone; see filepath.IsLocal.
func IsLocal(name string) bool {
	if name == "" || path.IsAbs(name) {
		return false
	}
	name = path.Clean(name)
	return name != ".." && !strings.HasPrefix(name, "../")
}

// ErrRel is returned where only looking would tell how one path leads from another.
var ErrRel = errors.New("no way from one path to the other")

// Rel is how target is called from base, as by filepath.Rel, but always with slashes.
func Rel(base, target string) (string, error) {
	if own(base) && own(target) {
		rel, err := filepath.Rel(base, target)
		return filepath.ToSlash(rel), err
	}
	base, target = path.Clean(base), path.Clean(target)
	if path.IsAbs(base) != path.IsAbs(target) {
		return "", ErrRel
	}
	from, to := parts(base), parts(target)
	for len(from) > 0 && len(to) > 0 && from[0] == to[0] {
		from, to = from[1:], to[1:]
	}
	if len(from) > 0 && from[0] == ".." {
		return "", ErrRel
	}
	return path.Join(append(strings.Split(strings.TrimSuffix(strings.Repeat("../", len(from)), "/"), "/"), append(to, ".")...)...), nil
}

func parts(name string) []string {
	name = strings.Trim(name, "/")
	if name == "" || name == "." {
		return nil
	}
	return strings.Split(name, "/")
}
