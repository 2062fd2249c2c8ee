// Package verify proves that archives are whole: that every part is there with
// the right length (quick), or that every stored byte, every file and every
// table is what was saved (full).
package verify

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archive"
	"revlet/internal/catalog"
	"revlet/internal/observe"
	"revlet/internal/site"
	"revlet/internal/store"
)

// Damage is one object of an archive that is missing or not what was written.
type Damage struct {
	Store string `json:"store"`
	// Object is the part's name, or `list`.
	Object string `json:"object"`
	Why    string `json:"why"`
	// Held are paths and tables that were in it, at most HeldShown of them;
	// HeldTotal counts all.
	Held      []string `json:"held"`
	HeldTotal int      `json:"held_total"`
}

// HeldShown is how many names a Damage lists.
const HeldShown = 10

// Report is the outcome for one archive in one store.
type Report struct {
	Archive string        `json:"archive"`
	Store   string        `json:"store"`
	Full    bool          `json:"full"`
	Parts   int           `json:"parts"`
	Bytes   int64         `json:"bytes"`
	Damage  []Damage      `json:"damage"`
	Took    time.Duration `json:"-"`
}

// Sound tells whether nothing was found.
func (r *Report) Sound() bool { return len(r.Damage) == 0 }

// Verifier remembers parts that it has proved, so that those which archives
// share are read once.
type Verifier struct {
	Full     bool
	Observer observe.Observer
	// Workers is how many parts are read at a time; 0 means 2.
	Workers int

	mu     sync.Mutex
	proved map[[2]string]error
}

// Archive checks one archive in one store.
func (v *Verifier) Archive(ctx context.Context, h *catalog.Held, s store.Named) (*Report, error) {
	start := time.Now()
	r := &Report{Archive: h.Name, Store: s.Name, Full: v.Full, Parts: len(h.Parts), Bytes: h.Totals.StoredBytes, Damage: []Damage{}}
	observe.Or(v.Observer).Phase("verifying "+h.Name+" in "+s.Name, h.Totals.StoredBytes)
	here := &catalog.Held{Record: h.Record, Stores: []store.Named{s}, Keys: h.Keys}
	if err := catalog.CheckList(ctx, s, h.Record); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		r.Damage = append(r.Damage, Damage{Store: s.Name, Object: "list", Why: why(err), Held: []string{}})
	}
	var check func(archive.Part) error
	if v.Full && r.Sound() {
		ix, err := here.ReadIndex(ctx)
		if err != nil {
			return nil, err
		}
		check = func(p archive.Part) error { return ix.Check(ctx, h, s, p, observe.Or(v.Observer).Advance) }
	} else {
		check = func(p archive.Part) error { return sized(ctx, s, h.Site, p) }
	}
	bad, err := v.parts(ctx, h, s, check)
	if err != nil {
		return nil, err
	}
	for _, p := range h.Parts {
		if err, isBad := bad[p.Name]; isBad {
			r.Damage = append(r.Damage, Damage{Store: s.Name, Object: p.Name, Why: why(err), Held: []string{}})
			delete(bad, p.Name)
		}
	}
	r.Took = time.Since(start)
	return r, nameHeld(ctx, h, r)
}

// parts checks each part once and returns the bad ones.
func (v *Verifier) parts(ctx context.Context, h *catalog.Held, s store.Named, check func(archive.Part) error) (map[string]error, error) {
	if v.proved == nil {
		v.proved = map[[2]string]error{}
	}
	workers := v.Workers
	if workers == 0 {
		workers = 2
	}
	bad := map[string]error{}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(workers)
	for _, p := range h.Parts {
		key := [2]string{s.Name, p.Name}
		v.mu.Lock()
		err, known := v.proved[key]
		v.proved[key] = err
		v.mu.Unlock()
		if known {
			if err != nil {
				v.mu.Lock()
				bad[p.Name] = err
				v.mu.Unlock()
			}
			continue
		}
		g.Go(func() error {
			err := check(p)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err != nil {
				v.mu.Lock()
				defer v.mu.Unlock()
				v.proved[key], bad[p.Name] = err, err
			}
			return nil
		})
	}
	return bad, g.Wait()
}

// sized tells whether a part is there with the right length.
func sized(ctx context.Context, s store.Named, site string, p archive.Part) error {
	info, err := s.Stat(ctx, archive.PartPath(site, p.Name))
	if err != nil {
		return err
	}
	if info.Bytes != p.Bytes {
		return fmt.Errorf("%w: it has %d bytes, %d were written", archive.ErrDamaged, info.Bytes, p.Bytes)
	}
	return nil
}

func why(err error) string {
	if errors.Is(err, store.ErrNotFound) {
		return "missing"
	}
	text := err.Error()
	if i := strings.Index(text, archive.ErrDamaged.Error()+": "); i >= 0 {
		text = text[i+len(archive.ErrDamaged.Error())+2:] // the object is named beside it
	}
	return text
}

// nameHeld fills in what the damaged parts held, from a list in any store that
// has it sound.
func nameHeld(ctx context.Context, h *catalog.Held, r *Report) error {
	at := map[string]*Damage{}
	for i := range r.Damage {
		at[r.Damage[i].Object] = &r.Damage[i]
	}
	if len(at) == 0 || len(at) == 1 && at["list"] != nil {
		return nil
	}
	err := h.ReadList(ctx, func(e archive.Entry) error {
		d := at[e.Part]
		if d == nil {
			return nil
		}
		d.HeldTotal++
		if len(d.Held) < HeldShown {
			d.Held = append(d.Held, describe(e))
		}
		return nil
	})
	if err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	return nil // without any sound list the names are not known
}

func describe(e archive.Entry) string {
	switch e.Type {
	case archive.TypeRows:
		return fmt.Sprintf("table %s of database %s (%d rows)", e.Table, e.Database, e.Rows)
	case archive.TypeSchema:
		return "table definitions of database " + e.Database
	case archive.TypeObjects:
		return "views, triggers and routines of database " + e.Database
	default:
		return strings.TrimPrefix(e.Path, site.RootLabel+"/")
	}
}
