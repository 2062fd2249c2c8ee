package jobs

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
)

// FileVersion is a file as some archives in a row have it.
type FileVersion struct {
	Size   int64     `json:"size"`
	MTime  time.Time `json:"mtime"`
	SHA256 string    `json:"sha256"`
	Mode   string    `json:"mode"`
	// First and Last are the oldest and the newest archive that have it so, Archives how many do.
	First    string `json:"first"`
	Last     string `json:"last"`
	Archives int    `json:"archives"`
}

// PathVersions is how a path changed over a site's archives, the newest version first.
type PathVersions struct {
	Path     string        `json:"path"`
	Versions []FileVersion `json:"versions"`
	// Gone tells that the newest archive of files does not have it.
	Gone bool `json:"gone"`
}

// Versions are how files changed over a site's archives.
type Versions struct {
	Site  string         `json:"site"`
	Paths []PathVersions `json:"paths"`
	// Looked are how many archives were looked into, NotRead those that could not be, and why: whether
	// they have the files is not known.
	Looked  int               `json:"looked"`
	NotRead map[string]string `json:"not_read"`
}

// mostPaths is of how many paths the versions are told.
const mostPaths = 2000

// Versions tells which archives of a site have files whose paths, relative to the webroot, match a pattern, and
// how they changed.
func (a *Agent) Versions(ctx context.Context, name string, patterns []string) (*Versions, error) {
	if _, err := a.SiteConfig(name); err != nil {
		return nil, err
	}
	for _, p := range patterns {
		if !doublestar.ValidatePattern(p) {
			return nil, reason.BadUsage("%q is no pattern; patterns are such as themes/**, or uploads/2026/*.pdf", p)
		}
	}
	l, err := a.listTelling(ctx, name)
	if err != nil {
		return nil, err
	}
	v := &Versions{Site: name, Paths: []PathVersions{}, NotRead: map[string]string{}}
	for _, b := range slices.Concat(l.Silent, l.Broken) {
		v.NotRead[strings.TrimSpace(b.Name+" in "+b.Store)] = b.Err.Error()
	}
	known := map[string]*PathVersions{}
	newest := ""
	for i := range slices.Backward(l.Archives) { // the oldest first
		h := &l.Archives[i]
		if !h.Scope.HasFiles() {
			continue
		}
		err := h.Unseal(h.Keys)
		if err == nil {
			err = v.look(ctx, h, known, patterns)
		}
		if err != nil {
			if ctx.Err() != nil || reason.Is(err, reason.Usage) {
				return nil, err
			}
			v.NotRead[h.Name] = err.Error()
			continue
		}
		v.Looked++
		newest = h.Name
	}
	for _, path := range slices.Sorted(maps.Keys(known)) {
		p := known[path]
		slices.Reverse(p.Versions)
		p.Gone = p.Versions[0].Last != newest
		v.Paths = append(v.Paths, *p)
	}
	return v, nil
}

// look notes the files of an archive that match; archives come the oldest first. Of a file with several names, all are
// looked at.
func (v *Versions) look(ctx context.Context, h *catalog.Held, known map[string]*PathVersions, patterns []string) error {
	patterns, err := h.Meaning(ctx, patterns)
	if err != nil {
		return err
	}
	names := map[string][]string{} // further names that match, by the first
	err = h.ReadList(ctx, func(e archive.Entry) error {
		rel := strings.TrimPrefix(e.Path, site.RootLabel+"/") // what is in another folder begins with that one's name
		if !Matches(patterns, rel) {
			return nil
		}
		switch e.Type {
		case archive.TypeFile:
			return v.see(known, rel, h.Name, e)
		case archive.TypeHardlink:
			names[e.Target] = append(names[e.Target], rel)
		}
		return nil
	})
	if err != nil || len(names) == 0 {
		return err
	}
	return h.ReadList(ctx, func(e archive.Entry) error {
		if e.Type != archive.TypeFile {
			return nil
		}
		for _, rel := range names[e.Path] {
			if err := v.see(known, rel, h.Name, e); err != nil {
				return err
			}
		}
		return nil
	})
}

// see notes a version of a path.
func (v *Versions) see(known map[string]*PathVersions, rel, name string, e archive.Entry) error {
	p := known[rel]
	if p == nil {
		if len(known) == mostPaths {
			return reason.BadUsage("more than %d paths match; say more of the path", mostPaths)
		}
		p = &PathVersions{Path: rel}
		known[rel] = p
	}
	if n := len(p.Versions); n > 0 && p.Versions[n-1].SHA256 == e.SHA256 && p.Versions[n-1].Mode == e.Mode {
		p.Versions[n-1].Last = name
		p.Versions[n-1].Archives++
		return nil
	}
	p.Versions = append(p.Versions, FileVersion{Size: e.Size, MTime: e.MTime, SHA256: e.SHA256, Mode: e.Mode, First: name, Last: name, Archives: 1})
	return nil
}

// Matches tells whether a path is one of some, lies below it, or matches it as a pattern.
func Matches(patterns []string, rel string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		clean := strings.Trim(strings.TrimPrefix(p, "./"), "/")
		ok, err := doublestar.Match(clean, rel)
		return rel == clean || strings.HasPrefix(rel, clean+"/") || err == nil && ok
	})
}

// Space is what a site's archives take in one store.
type Space struct {
	Site  string `json:"site"`
	Store string `json:"store"`
	// Bytes are all that its archives take there, Shared what more than one of them has a share in.
	Bytes    int64          `json:"bytes"`
	Shared   int64          `json:"shared"`
	Archives []ArchiveSpace `json:"archives"`
}

// ArchiveSpace is what one archive takes, the newest first.
type ArchiveSpace struct {
	Name  string        `json:"name"`
	Scope archive.Scope `json:"scope"`
	// Bytes are what it is made of, Own what its removal alone would give back.
	Bytes int64 `json:"bytes"`
	Own   int64 `json:"own"`
}

// SiteSpace is where the bytes of a site are: in its stores, and in its newest archive by component and table.
type SiteSpace struct {
	Site       string      `json:"site"`
	Stores     []Space     `json:"stores"`
	Archive    string      `json:"archive"`
	Components []Component `json:"components"`
	Tables     []TableRows `json:"tables"`
	// NotReached are stores that did not answer, and why.
	NotReached map[string]string `json:"not_reached"`
}

// Space tells where the bytes of a site's archives are.
func (a *Agent) Space(ctx context.Context, name string) (*SiteSpace, error) {
	l, err := a.List(ctx, name)
	if err != nil {
		return nil, err
	}
	s := &SiteSpace{Site: name, Stores: []Space{}, Components: []Component{}, Tables: []TableRows{}, NotReached: map[string]string{}}
	for _, b := range slices.Concat(l.Silent, l.Broken) {
		s.NotReached[b.Store] = b.Err.Error()
	}
	for _, store := range a.Config.Sites[name].Stores {
		if one := spaceIn(l, store); len(one.Archives) > 0 {
			one.Site = name
			s.Stores = append(s.Stores, one)
		}
	}
	if len(l.Archives) == 0 {
		return s, nil
	}
	i := max(slices.IndexFunc(l.Archives, func(h catalog.Held) bool { return h.Scope == archive.Full }), 0)
	h := &l.Archives[i]
	s.Archive = h.Name
	if err = h.Unseal(h.Keys); err == nil {
		s.Components, s.Tables, err = a.summarise(ctx, h)
	}
	if err != nil {
		return s, fmt.Errorf("what %s is made of cannot be told: %w", h.Name, err)
	}
	slices.SortFunc(s.Components, func(x, y Component) int { return int(y.Bytes - x.Bytes) })
	slices.SortFunc(s.Tables, func(x, y TableRows) int { return int(y.Bytes - x.Bytes) })
	return s, nil
}

// spaceIn counts what archives take in a store; an object that several name is there once.
func spaceIn(l *catalog.Listing, store string) Space {
	s := Space{Store: store, Archives: []ArchiveSpace{}}
	type object struct {
		size  int64
		names int
	}
	objects := map[string]object{}
	var there []*catalog.Held
	for i := range l.Archives {
		if h := &l.Archives[i]; slices.Contains(StoreNames(h.Stores), store) {
			there = append(there, h)
			h.Objects(func(name string, size int64, _ string) {
				objects[name] = object{size, objects[name].names + 1}
			})
		}
	}
	for _, o := range objects {
		s.Bytes += o.size
		if o.names > 1 {
			s.Shared += o.size
		}
	}
	for _, h := range there {
		one := ArchiveSpace{Name: h.Name, Scope: h.Scope}
		h.Objects(func(name string, size int64, _ string) {
			one.Bytes += size
			if objects[name].names == 1 {
				one.Own += size
			}
		})
		s.Archives = append(s.Archives, one)
	}
	return s
}
