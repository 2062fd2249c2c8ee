package jobs

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/config"
	"revlet/internal/site"
	"revlet/internal/site/tree"
	"revlet/internal/work/backup"
)

// LinksOut is what links of a webroot lead out to: no archive holds it until its folder is named under `roots:`.
type LinksOut struct {
	// Links are the links; More are those that are not named.
	Links []archive.Outside `json:"links"`
	More  int64             `json:"more"`
	// Roots are folders that would take it all along, as far as such can be told.
	Roots []RootFolder `json:"roots"`
}

// RootFolder is a further folder of a site, as an entry may name it.
type RootFolder struct {
	Label string `json:"label"`
	Path  string `json:"path"`
}

// mostLookedInto is how many folders of a webroot are looked into for links, and mostLookedAt how many names of each are looked
// at.
const mostLookedInto, mostLookedAt = 40, 10_000

// linksOut looks at what lies in a webroot and in its folders: deeper links are told by preflight and by every backup.
func (a *Agent) linksOut(ctx context.Context, s *site.Site) (*LinksOut, error) {
	in, err := s.At(a.Disk).Folder(ctx, s.PathAt(s.Root))
	if err != nil {
		return nil, err
	}
	defer in.Close()
	out := backup.NewOutside(ctx, a.Disk, s)
	dirs := []string{"."}
	for i := 0; i < len(dirs) && i <= mostLookedInto; i++ {
		names, infos, err := in.ReadFolder(dirs[i], mostLookedAt)
		if err != nil && i == 0 {
			return nil, err
		}
		for k := range min(len(names), len(infos)) {
			rel := tree.Join(dirs[i], names[k])
			switch {
			case infos[k].Err != nil:
			case infos[k].Mode()&fs.ModeSymlink != 0:
				if target, err := in.Readlink(rel); err == nil {
					out.Meet(site.RootLabel+"/"+rel, target)
				}
			case infos[k].IsDir() && i == 0:
				dirs = append(dirs, rel)
			}
		}
	}
	found := &LinksOut{Links: out.Origin.Outside, More: out.Origin.OutsideMore, Roots: []RootFolder{}}
	if len(found.Links) == 0 {
		return nil, nil
	}
	if root, err := s.At(a.Disk).Absolute(ctx, s.PathAt(s.Root)); err == nil && found.More == 0 {
		found.Roots = rootsFor(root, found.Links, a.ofTheSameOwner(ctx, s, root))
	}
	return found, nil
}

// ofTheSameOwner tells of paths at a site's machine whether they are folders, and of the account that the webroot belongs to:
// a link may lead to anybody's.
func (a *Agent) ofTheSameOwner(ctx context.Context, s *site.Site, root string) func(path string) bool {
	all := s.At(a.Disk).Anywhere(ctx)
	owner := func(path string) (uid int, folder bool) {
		info, err := all.Lstat(path)
		if err != nil || !info.IsDir() {
			return 0, false
		}
		st, known := tree.StatOf(info)
		return st.UID, known
	}
	own, known := owner(root)
	return func(path string) bool {
		uid, folder := owner(path)
		return known && folder && uid == own
	}
}

// rootsFor are folders that what links of a webroot lead to lies in: one for all of it, if there is such a one that is no
// folder of the system and does not hold the webroot, or one for each link to a folder; none where neither takes everything
// along. ours tells of a path whether it is a folder that may be taken for the site's.
func rootsFor(webroot string, links []archive.Outside, ours func(path string) bool) []RootFolder {
	var each, all []string
	common := ""
	for _, l := range links {
		dir := path.Dir(l.To)
		if site.SystemFolder(dir) && site.SystemFolder(l.To) {
			continue // certificates of the system, or what a package has put into /etc
		}
		if ours(l.To) {
			each = append(each, l.To)
		}
		all = append(all, l.To)
		for common = cmp.Or(common, dir); common != "/" && common != dir && !strings.HasPrefix(dir, common+"/"); {
			common = path.Dir(common)
		}
	}
	if len(all) == 0 {
		return []RootFolder{}
	}
	slices.Sort(each)
	each = slices.Compact(each)
	if len(each) == 1 && len(all) == 1 {
		common = each[0]
	}
	fits := func(dir string) bool {
		return !site.SystemFolder(dir) && ours(dir) && site.Apart(map[string]string{site.RootLabel: webroot, "other": dir}) == nil
	}
	if fits(common) {
		return []RootFolder{{labelFor(common, 0), common}}
	}
	var roots []RootFolder
	apart := map[string]string{site.RootLabel: webroot}
	for i, dir := range each {
		label := labelFor(dir, 0)
		if apart[label] != "" {
			label = labelFor(dir, i+1)
		}
		apart[label] = dir
		roots = append(roots, RootFolder{label, dir})
	}
	if len(each) < len(all) || slices.ContainsFunc(each, site.SystemFolder) || site.Apart(apart) != nil {
		return []RootFolder{}
	}
	return roots
}

// labelFor calls a folder by its own name, if that may be the name of one of a site's.
func labelFor(dir string, number int) string {
	label := path.Base(dir)
	if !config.ValidName(label) || slices.Contains([]string{site.RootLabel, site.AboveLabel, "database"}, label) {
		label = "more"
	}
	if number > 0 {
		label += fmt.Sprint(number)
	}
	return label
}
