package backup

import (
	"fmt"
	"maps"
	"slices"

	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/store"
)

// Exposed says why a folder must hold neither archives nor state of a site: it lies in
// one of the site's folders, or in that of another site; nothing if it may. others maps
// the folders of other sites to their names.
func Exposed(dir string, s *site.Site, others map[string]string) error {
	if state.Inside(dir, s.Root) {
		return ErrInsideWebroot
	}
	for _, label := range slices.Sorted(maps.Keys(s.Roots)) {
		if state.Inside(dir, s.Roots[label]) {
			return fmt.Errorf("lies inside the site's folder %s, and would be archived with it", s.Roots[label])
		}
	}
	for _, root := range slices.Sorted(maps.Keys(others)) {
		if state.Inside(dir, root) {
			return fmt.Errorf("lies inside a folder of site %s, where anyone could download it", others[root])
		}
	}
	return nil
}

// ExposedStore is Exposed for a store; one that is no folder on this machine is not.
func ExposedStore(n store.Named, s *site.Site, others map[string]string) (dir string, err error) {
	f, ok := n.Store.(interface{ Root() string })
	if !ok {
		return "", nil
	}
	return f.Root(), Exposed(f.Root(), s, others)
}
