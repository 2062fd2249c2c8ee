package site

import (
	"maps"
	"slices"
	"strings"

	"revlet/internal/platform/disk"
)

// Shared is a folder of a site that another site has, too: what is put back there is put back for both.
type Shared struct {
	Label  string `json:"label"`
	Folder string `json:"folder"`
	Site   string `json:"site"`
}

// SharedWith finds the site's folders that others have, whose folders are mapped to their names. On this machine they are compared
// by where they really lie, elsewhere by how they are written.
func (s *Site) SharedWith(others map[string]string) (all []Shared) {
	real := func(dir string) string {
		if s.Place == nil {
			if way, err := disk.Way(dir); err == nil {
				return way
			}
		}
		return strings.TrimSuffix(dir, "/")
	}
	theirs := map[string]string{}
	for _, dir := range slices.Sorted(maps.Keys(others)) {
		theirs[real(dir)] = others[dir]
	}
	for _, label := range s.labels() {
		if name, ok := theirs[real(s.FolderOf(label))]; ok {
			all = append(all, Shared{label, s.FolderOf(label), name})
		}
	}
	return all
}
