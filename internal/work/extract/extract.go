// Package extract copies files and tables out of an archive into a folder,
// without touching the site.
package extract

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
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
	// or doublestar patterns. Tables are names of tables.
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
	// Disarmed are files that came without the rights that they give to whoever runs them.
	Disarmed []string
}

// Run copies. A path or table that the archive does not hold is an error, and
// nothing is copied then.
func Run(ctx context.Context, j Job) (*Result, error) {
	sel := &selection{j: j, hit: map[string]bool{}, parts: map[string]bool{}}
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
	result := &Result{Renamed: map[string]string{}, Unmade: map[string]string{}}
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
	j     Job
	hit   map[string]bool
	parts map[string]bool
}

func (s *selection) entry(e archive.Entry) error {
	rel, ok := strings.CutPrefix(e.Path, site.RootLabel+"/")
	if !ok || !e.IsFileTree() {
		return nil
	}
	if p, matched := match(s.j.Paths, rel); matched {
		s.hit[p] = true
		s.parts[e.Part] = true
	}
	return nil
}

// match returns the pattern that a path falls under.
func match(patterns []string, rel string) (string, bool) {
	for _, p := range patterns {
		clean := strings.Trim(strings.TrimPrefix(p, "./"), "/")
		if rel == clean || strings.HasPrefix(rel, clean+"/") {
			return p, true
		}
		if ok, err := doublestar.Match(clean, rel); err == nil && ok {
			return p, true
		}
	}
	return "", false
}

func (s *selection) missing() error {
	var errs []error
	for _, p := range s.j.Paths {
		if !s.hit[p] {
			errs = append(errs, reason.New(reason.PathNotHeld, reason.Names{"archive": s.j.Archive.Name}, "archive %s holds no %q; paths are relative to the webroot", s.j.Archive.Name, p))
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

// files unpacks the parts that are needed, keeping what matches.
func (j Job) files(ctx context.Context, sel *selection, ix *catalog.Index, into *disk.Root, result *Result) error {
	keep := func(rel string) bool {
		_, ok := match(j.Paths, rel)
		return ok
	}
	_, needed, err := unpack.FindStandIns(ctx, j.Archive, site.RootLabel, keep)
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
	for label := range some.Origin.Roots {
		if label != site.RootLabel {
			others = append(others, label)
		}
	}
	t := &unpack.Tree{Disk: j.Disk, Others: others, Pace: watch.Advance, KeepExisting: true, Salvage: j.Salvage, Keep: keep}
	held := *j.Archive
	held.Record = &some
	err = t.Write(ctx, &held, ix, into)
	result.Paths, result.Lost = t.Written()-int64(len(t.Unmade())), t.Lost()
	result.Renamed, result.Unmade, result.Disarmed = t.Renamed(), t.Unmade(), t.Disarmed()
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
