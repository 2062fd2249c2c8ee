package site

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
)

// Apart makes sure that none of a site's folders lies in another: they are put back one by one. They are given by label,
// as absolute paths with links resolved.
func Apart(folders map[string]string) error {
	labels := slices.Sorted(maps.Keys(folders))
	for i, one := range labels {
		for _, other := range labels[i+1:] {
			a, b := path.Clean(folders[one]), path.Clean(folders[other])
			if a == b || strings.HasPrefix(a+"/", strings.TrimSuffix(b, "/")+"/") || strings.HasPrefix(b+"/", strings.TrimSuffix(a, "/")+"/") {
				return fmt.Errorf("the site's folders %s (%s) and %s (%s) lie one inside the other", one, a, other, b)
			}
		}
	}
	return nil
}

// Folders are the site's folders by label, the webroot among them, as the configuration has them.
func (s *Site) Folders() map[string]string {
	all := map[string]string{RootLabel: s.Root}
	maps.Copy(all, s.Roots)
	return all
}
