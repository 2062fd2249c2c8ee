package jobs

import (
	"slices"

	"revlet/internal/site"
)

// SharedFolders are the folders that a restore changes and that another site has, too.
func (a *Agent) SharedFolders(o RestoreOrder) []site.Shared {
	if !o.Files {
		return nil
	}
	return slices.DeleteFunc(o.Site.SharedWith(a.otherSites(o.Archive.Site)), func(s site.Shared) bool {
		if o.Selection != nil {
			return !slices.Contains(o.Selection.Folders(), s.Label)
		}
		return o.Archive.Origin.Roots[s.Label] == ""
	})
}
