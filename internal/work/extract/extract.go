// Package extract copies files and tables out of an archive into a folder,
// without touching the site.
package extract

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/store"
	"revlet/internal/work/unpack"
)

// Job says what to copy out.
type Job struct {
	Archive *catalog.Held
	// Paths are relative to the webroot: files, folders with all below them,
	// or doublestar patterns. What is in another folder of the site's is asked for by the name that it has under roots:,
	// and the path in it, or by the links that lead there. Tables are names of tables.
	Paths, Tables []string
	// To is a folder; it is made when missing. Files in it are not replaced.
	To string
	// Salvage copies what damage has left, and names the rest: see Result.Lost.
	Salvage  bool
	Disk     *disk.Disk
	Observer progress.Observer
}

// Result says what was copied.
type Result struct {
	Paths  int64
	Tables []string
	// Lost is what was wanted and is damaged in every store.
	Lost []string
	// Renamed are paths that this system cannot have under their names, and what they are
	// called instead; Unmade are symbolic links that it does not let this account make, and
	// where they lead.
	Renamed, Unmade map[string]string
	// Behind are links that were copied, and where in the folder lies what they lead to on the site.
	Behind map[string]string
	// Disarmed are files that came without the rights that they give to whoever runs them.
	Disarmed []string
}

// Run copies. A path or table that the archive does not hold is an error, and
// nothing is copied then.
func Run(ctx context.Context, j Job) (*Result, error) {
	sel := &selection{j: j, links: map[string]bool{}, led: map[string]string{}, behind: map[string]string{}, hit: map[string]bool{}, some: map[string]bool{}, parts: map[string]bool{}}
	if err := sel.place(ctx); err != nil {
		return nil, catalog.BecauseDamaged(j.Archive, err)
	}
	if err := j.Archive.ReadList(ctx, sel.entry); err != nil {
		return nil, catalog.BecauseDamaged(j.Archive, err)
	}
	if err := sel.missing(); err != nil {
		return nil, err
	}
	into, err := j.open()
	if err != nil {
		return nil, fmt.Errorf("extract: %w", err)
	}
	defer into.Close()
	ix, err := j.Archive.ReadIndex(ctx)
	if err != nil {
		return nil, err
	}
	result := &Result{Renamed: map[string]string{}, Unmade: map[string]string{}, Behind: sel.behind}
	if len(j.Paths) > 0 {
		if err = j.files(ctx, sel, ix, into, result); err != nil {
			return nil, catalog.BecauseDamaged(j.Archive, fmt.Errorf("extract: %w", err))
		}
	}
	if len(j.Tables) > 0 {
		if result.Tables, err = j.tables(ctx, ix, into); err != nil {
			return nil, fmt.Errorf("extract: %w", err)
		}
	}
	return result, nil
}

// open makes and opens the folder. Root is led to it by nobody's links to what is somebody else's.
func (j Job) open() (*disk.Root, error) {
	real, err := disk.Way(j.To)
	if err != nil {
		return nil, err
	}
	if err := j.Disk.MkdirAll(real, 0o755); err != nil {
		return nil, err
	}
	return j.Disk.OpenRootNoLinks(real)
}

// tables writes one file for each table, after one with the definitions of all.
func (j Job) tables(ctx context.Context, ix *catalog.Index, into *disk.Root) ([]string, error) {
	var files []string
	for _, label := range slices.Sorted(maps.Keys(j.Archive.Origin.Databases)) {
		file, err := j.sql(ctx, ix, into, label+"-definitions", func(p archive.Part) bool { return p.Kind == archive.KindSchema && p.Database == label })
		if err != nil {
			return nil, err
		}
		files = append(files, file)
	}
	held := j.Archive.Tables()
	for _, typed := range j.Tables {
		label, table, err := j.Archive.FindTable(held, typed)
		if err != nil {
			return nil, err
		}
		name := table
		if len(held) > 1 {
			name = label + "." + table
		}
		file, err := j.sql(ctx, ix, into, name, func(p archive.Part) bool { return p.Database == label && p.Table == table })
		if err != nil {
			return nil, err
		}
		files = append(files, file)
	}
	return files, nil
}

// selection finds which parts hold what was asked for.
type selection struct {
	j Job
	// in are the paths as they were typed, by the folder of the site that they are looked for in, and by what they are in it.
	in map[string]map[string]string
	// links are those that are asked for, led is what they lead to in other folders, by its name in the list, and by what it
	// was asked for. behind is Result.Behind.
	links  map[string]bool
	led    map[string]string
	behind map[string]string
	// hit are the paths as they were typed of which there is something, some the folders of the site in which there is.
	hit   map[string]bool
	some  map[string]bool
	parts map[string]bool
}

// place finds out in which folders of the site the paths are to be looked for.
func (s *selection) place(ctx context.Context) error {
	s.in = map[string]map[string]string{}
	add := func(label, rel, typed string) {
		if s.in[label] == nil {
			s.in[label] = map[string]string{}
		}
		s.in[label][rel] = typed
	}
	links, err := s.j.Archive.Links(ctx)
	if err != nil {
		return err
	}
	origin := s.j.Archive.Origin
	meant := func(pattern, typed string) {
		add(site.RootLabel, pattern, typed)
		if label, rest, _ := strings.Cut(pattern, "/"); label != site.RootLabel && origin.Roots[label] != "" {
			add(label, cmp.Or(rest, "**"), typed)
		}
	}
	for _, typed := range s.j.Paths {
		meant(catalog.Trimmed(typed), typed)
		for _, m := range links.Meant(typed) {
			meant(m.Pattern, typed)
		}
	}
	s.follow(links)
	return nil
}

// mostFollowed is how many of the site's folders links can lead through, one after the other.
const mostFollowed = 10

// follow adds what links that are asked for lead to in other folders of the site: whoever asks for the uploads does not mean
// the link to them.
func (s *selection) follow(links *catalog.Links) {
	for range mostFollowed {
		found := false
		for _, name := range links.Names() {
			label, rel, _ := strings.Cut(name, "/")
			typed, asked := s.asked(label, rel)
			if !asked || s.links[name] {
				continue
			}
			s.links[name], found = true, true
			real, err := links.Real(name)
			in, _, _ := strings.Cut(real, "/")
			if err != nil || in == label || in == site.AboveLabel {
				continue
			}
			s.led[real] = typed
			if label == site.RootLabel && in != rel {
				s.behind[rel] = strings.TrimPrefix(real, site.RootLabel+"/")
			}
		}
		if !found {
			return
		}
	}
}

// asked tells whether a path of one of the site's folders was asked for, and by what.
func (s *selection) asked(label, rel string) (typed string, ok bool) {
	if p, matched := match(s.in[label], rel); matched {
		return s.in[label][p], true
	}
	for name := path.Join(label, rel); ; name = path.Dir(name) {
		if typed, ok = s.led[name]; ok || name == label {
			return typed, ok
		}
	}
}

func (s *selection) entry(e archive.Entry) error {
	label, rel, ok := strings.Cut(e.Path, "/")
	if !ok || !e.IsFileTree() {
		return nil
	}
	if typed, asked := s.asked(label, rel); asked {
		s.hit[typed], s.some[label] = true, true
		s.parts[e.Part] = true
	}
	return nil
}

// match returns the pattern that a path falls under.
func match(patterns map[string]string, rel string) (string, bool) {
	for p := range patterns {
		if rel == p || strings.HasPrefix(rel, p+"/") {
			return p, true
		}
		if ok, err := doublestar.Match(p, rel); err == nil && ok {
			return p, true
		}
		if ok, err := doublestar.Match(p+"/**", rel); strings.Contains(p, `\`) && err == nil && ok {
			return p, true // the folder that a quoted name means
		}
	}
	return "", false
}

func (s *selection) missing() error {
	var errs []error
	for _, p := range s.j.Paths {
		if !s.hit[p] {
			errs = append(errs, reason.New(reason.PathNotHeld, reason.Names{"archive": s.j.Archive.Name}, "archive %s holds no %q; paths are relative to the webroot%s", s.j.Archive.Name, p, s.others()))
		}
	}
	held := s.j.Archive.Tables()
	for _, t := range s.j.Tables {
		if _, _, err := s.j.Archive.FindTable(held, t); err != nil {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// others names the other folders of the site, if it has any.
func (s *selection) others() string {
	labels := s.j.Archive.Origin.Others(site.RootLabel)
	if len(labels) == 0 {
		return ""
	}
	return ", or begin with one of its other folders: " + strings.Join(labels, ", ")
}

// files unpacks what matches: that of the webroot into the folder, and that of others into folders of their names in it.
func (j Job) files(ctx context.Context, sel *selection, ix *catalog.Index, into *disk.Root, result *Result) error {
	for _, label := range slices.Sorted(maps.Keys(sel.some)) {
		to := into
		if label != site.RootLabel {
			if err := into.MkdirAll(label, 0o755); err != nil {
				return err
			}
			var err error
			if to, err = into.OpenRoot(label); err != nil {
				return err
			}
		}
		err := j.folder(ctx, sel, ix, label, to, result)
		if to != into {
			err = errors.Join(err, to.Close())
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// folder unpacks what matches of one of the site's folders, from the parts that are needed.
func (j Job) folder(ctx context.Context, sel *selection, ix *catalog.Index, label string, into *disk.Root, result *Result) error {
	keep := func(rel string) bool {
		_, ok := sel.asked(label, rel)
		// Where a link stands that is called as a folder that comes, too, that folder is what it leads to.
		return ok && !(label == site.RootLabel && sel.links[label+"/"+rel] && sel.some[rel])
	}
	_, needed, err := unpack.FindStandIns(ctx, j.Archive, label, keep)
	if err != nil {
		return err
	}
	maps.Copy(sel.parts, needed)
	some := *j.Archive.Record
	some.Parts = slices.DeleteFunc(slices.Clone(some.Parts), func(p archive.Part) bool { return !sel.parts[p.Name] })
	var total int64
	for _, p := range some.Parts {
		total += p.StoredBytes()
	}
	watch := progress.Or(j.Observer)
	watch.Phase("extracting from "+some.Name, total)
	var others []string
	for other := range some.Origin.Roots {
		if other != label {
			others = append(others, other)
		}
	}
	t := &unpack.Tree{Disk: j.Disk, Label: label, Others: others, Pace: watch.Advance, KeepExisting: true, Salvage: j.Salvage, Keep: keep}
	held := *j.Archive
	held.Record = &some
	err = t.Write(ctx, &held, ix, into)
	result.Paths += t.Written() - int64(len(t.Unmade()))
	result.Lost, result.Disarmed = append(result.Lost, t.Lost()...), append(result.Disarmed, t.Disarmed()...)
	maps.Copy(result.Renamed, t.Renamed())
	maps.Copy(result.Unmade, t.Unmade())
	return err
}

// sql writes the parts that are wanted as one SQL file.
func (j Job) sql(ctx context.Context, ix *catalog.Index, into *disk.Root, name string, wanted func(archive.Part) bool) (string, error) {
	file := url.PathEscape(name) + ".sql"
	out, err := into.Create(file, 0o600)
	if err != nil {
		return "", err
	}
	for _, p := range j.Archive.Parts {
		if wanted(p) && err == nil {
			err = j.slice(ctx, ix, p, out)
		}
	}
	return filepath.Join(j.To, file), errors.Join(err, out.Close())
}

func (j Job) slice(ctx context.Context, ix *catalog.Index, p archive.Part, out io.Writer) error {
	return j.Archive.EachStore(func(s store.Named) error {
		if err := ix.Check(ctx, j.Archive, s, p, nil); err != nil {
			return err
		}
		in, err := j.Archive.OpenPart(ctx, s, p, nil)
		if err != nil {
			return err
		}
		defer in.Close()
		_, err = io.Copy(out, in)
		return err
	})
}
