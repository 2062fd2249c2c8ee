// Package removal takes archives out of a store and gives back the space that
// no other archive needs.
package removal

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/storelock"
	"revlet/internal/store"
)

// Job is the removal of archives of one site from one store. The caller holds
// the site's lock.
type Job struct {
	Site  string
	Store store.Named
	// Archives are the names of those that go.
	Archives []string
	// Recent are archives that this machine knows to be there, whatever a listing
	// that lags behind says.
	Recent []string
	// Machine tells this machine's marks from others'.
	Machine string
	// Records, if not nil, are those that were read already.
	Records *catalog.Cache
}

// Result is what was removed.
type Result struct {
	Archives []string
	Objects  int
	Bytes    int64
	// Left says why space was not given back this time, or is empty.
	Left string
}

// grace is how old an object that no record names must be to be taken for a
// leftover: a run on another machine may be about to name it.
const grace = 48 * time.Hour

// Run removes the archives: of each first the record, so that it does not exist
// any more, and when all are gone the parts and lists that no record names.
// What it does not come to, the next call does. An object is only ever removed
// when every record in the store could be read and nobody writes there.
func (j Job) Run(ctx context.Context) (Result, error) {
	var r Result
	done, err := storelock.Clear(ctx, j.Store, j.Site, j.Machine)
	if errors.Is(err, storelock.ErrBusy) {
		r.Left = err.Error()
		return r, nil
	}
	if err != nil {
		return r, err
	}
	defer func() { _ = done(context.WithoutCancel(ctx)) }()
	listing, err := j.list(ctx)
	if err != nil {
		return r, err
	}
	if why := unread(listing); why != "" {
		r.Left = why
		return r, nil
	}
	goes := map[string]bool{}
	for _, name := range j.Archives {
		goes[name] = true
	}
	freed, named := map[string]bool{}, map[string]bool{}
	for _, h := range listing.Archives {
		if !goes[h.Name] {
			h.Objects(func(name string, _ int64, _ string) { named[name] = true })
			continue
		}
		if err := j.Store.Remove(ctx, h.Path()); err != nil {
			return r, fmt.Errorf("remove %s from store %s: %w", h.Name, j.Store.Name, err)
		}
		if err := catalog.RemoveHold(ctx, j.Store, j.Site, h.Name); err != nil {
			return r, fmt.Errorf("store %s: %w", j.Store.Name, err)
		}
		r.Archives = append(r.Archives, h.Name)
		h.Objects(func(name string, _ int64, _ string) { freed[name] = true })
	}
	return r, j.clear(ctx, freed, named, &r)
}

// list reads every record in the store, those included that a listing does not
// show yet.
func (j Job) list(ctx context.Context) (*catalog.Listing, error) {
	listing, err := catalog.List(ctx, []store.Named{j.Store}, j.Site, catalog.Options{Cache: j.Records})
	if err != nil {
		return nil, err
	}
	listed := map[string]bool{}
	for _, h := range listing.Archives {
		listed[h.Name] = true
	}
	for _, name := range j.Recent {
		if listed[name] {
			continue
		}
		rec, err := catalog.ReadRecord(ctx, j.Store, j.Site, name)
		switch {
		case err == nil:
			listing.Archives = append(listing.Archives, catalog.Held{Record: rec, Stores: []store.Named{j.Store}})
		case !errors.Is(err, store.ErrNotFound):
			listing.Broken = append(listing.Broken, catalog.Broken{Store: j.Store.Name, Name: name, Err: err})
		}
	}
	return listing, nil
}

// unread says that there is a record that cannot be read, so that nobody knows
// what it names.
func unread(l *catalog.Listing) string {
	for _, b := range append(l.Silent, l.Broken...) {
		return fmt.Sprintf("store %s: %v; nothing is removed while a record cannot be read", b.Store, b.Err)
	}
	return ""
}

// clear removes what no record names: what the archives that went have named,
// and leftovers that are old enough.
func (j Job) clear(ctx context.Context, freed, named map[string]bool, r *Result) error {
	for _, dir := range []string{"lists", "parts"} {
		infos, err := j.Store.List(ctx, path.Join(j.Site, dir))
		if err != nil {
			return fmt.Errorf("store %s: %w", j.Store.Name, err)
		}
		for _, info := range infos {
			old := !info.Changed.IsZero() && time.Since(info.Changed) > grace
			if named[info.Name] || !ours(dir, info.Name) || !freed[info.Name] && !old {
				continue
			}
			if err := j.Store.Remove(ctx, info.Name); err != nil {
				return fmt.Errorf("remove %s from store %s: %w", info.Name, j.Store.Name, err)
			}
			r.Objects++
			r.Bytes += info.Bytes
		}
	}
	return nil
}

// ours tells whether an object is one that archives consist of: what else a
// person has put there is left alone.
func ours(dir, name string) bool {
	base := path.Base(name)
	if dir == "parts" {
		return archive.IsPartName(base)
	}
	stem, _, _ := strings.Cut(base, ".jsonl.zst")
	_, _, ok := archive.SplitName(stem)
	return ok && stem != base
}
