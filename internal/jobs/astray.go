package jobs

import (
	"context"
	"path"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/site/sitepath"
)

// Astray are folders of a site that lie elsewhere now than when an archive was taken, links to them resolved, so that
// links of the archive that lead out of them would lead somewhere else.
type Astray struct {
	// Named is a folder's path in the configuration, Was where it lay, Is where it would be put.
	Named string `json:"named"`
	Was   string `json:"was"`
	Is    string `json:"is"`
	// Links are those links, and where they lead; the first of them, of Count.
	Links []string `json:"links"`
	Count int      `json:"count"`
}

// astrayNamed is how many links an Astray names.
const astrayNamed = 5

// Astray finds them, for a restore of all files of a site on this machine.
func (a *Agent) Astray(ctx context.Context, o RestoreOrder) (all []*Astray, err error) {
	if !o.Files || o.Selection != nil || o.Site.Far() {
		return nil, nil
	}
	origin := &o.Archive.Origin
	moved, now := map[string]*Astray{}, map[string]string{}
	for label, dir := range o.Site.Folders() {
		was := origin.Real[label]
		if was == "" {
			was = origin.Roots[label]
		}
		is, err := disk.Way(dir)
		if err != nil || was == "" {
			continue
		}
		if now[label] = is; is != was {
			moved[label] = &Astray{Named: dir, Was: was, Is: is}
			all = append(all, moved[label])
		}
	}
	if len(all) == 0 {
		return nil, nil
	}
	err = o.Archive.ReadList(ctx, func(e archive.Entry) error {
		label, rel, _ := strings.Cut(e.Path, "/")
		at := moved[label]
		if e.Type != archive.TypeSymlink || at == nil || sitepath.IsAbs(e.Target) {
			return nil
		}
		// Where it led, as that is called now.
		to := path.Join(at.Was, path.Dir(rel), e.Target)
		if in, rest, _ := strings.Cut(origin.LinkTo(e.Path, e.Target), "/"); now[in] != "" {
			to = path.Join(now[in], rest)
		}
		if to == path.Join(at.Is, path.Dir(rel), e.Target) {
			return nil
		}
		if at.Count++; at.Count <= astrayNamed {
			at.Links = append(at.Links, rel+" → "+e.Target)
		}
		return nil
	})
	led := all[:0]
	for _, at := range all {
		if at.Count > 0 {
			led = append(led, at)
		}
	}
	return led, err
}
