// Package verify proves that archives are whole: that every part and list is there with
// the right length (quick), that every stored byte is the one that was written
// (digests), or that every file and every table is what was saved (full).
package verify

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"maps"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/progress"
	"revlet/internal/site"
	"revlet/internal/store"
)

// Level is how well archives are looked at.
type Level string

// The levels. Quick and Digests need no key for encrypted archives.
const (
	Quick   Level = "quick"
	Digests Level = "digests"
	Full    Level = "full"
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
	Archive string `json:"archive"`
	Store   string `json:"store"`
	// SignedBy is the fingerprint of the key that has signed the record.
	SignedBy string   `json:"signed_by"`
	Level    Level    `json:"level"`
	Parts    int      `json:"parts"`
	Bytes    int64    `json:"bytes"`
	Damage   []Damage `json:"damage"`
	// NotReached are objects that could not be read, so that nothing is known of
	// them: a store that is down, a connection that broke.
	NotReached []Missed      `json:"not_reached"`
	Took       time.Duration `json:"-"`
}

// Missed is an object that could not be read, and why.
type Missed struct {
	Object string `json:"object"`
	Why    string `json:"why"`
}

// Verdict is what is known of the archive in the store now.
func (r *Report) Verdict() catalog.Verdict {
	switch {
	case len(r.Damage) > 0:
		return catalog.Damaged
	case len(r.NotReached) > 0:
		return catalog.NotReached
	}
	return catalog.Sound
}

// Sound tells whether everything was reached and nothing found.
func (r *Report) Sound() bool { return r.Verdict() == catalog.Sound }

// note files what an object's check came to.
func (r *Report) note(object string, err error) {
	if catalog.VerdictOf(err) == catalog.Damaged {
		r.Damage = append(r.Damage, Damage{Store: r.Store, Object: object, Why: why(err), Held: []string{}})
	} else {
		r.NotReached = append(r.NotReached, Missed{Object: object, Why: err.Error()})
	}
}

// Verifier remembers parts that it has proved, so that those which archives
// share are read once. That saves most when older archives come first.
type Verifier struct {
	Observer progress.Observer
	// Workers is how many parts are read at a time; 0 means 2.
	Workers int

	mu     sync.Mutex
	proved map[proof]*proved
	// listed are the lengths of objects, by store and name, as listings gave them.
	listed map[string]map[string]int64
}

// worthListing is from how many objects on a listing of all is quicker than asking for each.
const worthListing = 500

// Survey looks at once what is there of a site's archives in a store, if they are made of so much that this is
// quicker than to ask for each object of theirs. What a listing does not have, or not so, is asked for all the same.
func (v *Verifier) Survey(ctx context.Context, s store.Named, site string, all []*catalog.Held) {
	objects := map[string]bool{}
	for _, h := range all {
		objects[h.ListPath()] = true
		for _, p := range h.Parts {
			for o := range p.Objects() {
				objects[o.Name] = true
			}
		}
	}
	if len(objects) < worthListing {
		return
	}
	if v.listed == nil {
		v.listed = map[string]map[string]int64{}
	}
	if v.listed[s.Name] == nil {
		v.listed[s.Name] = map[string]int64{}
	}
	for _, dir := range []string{archive.PartsDir(site), archive.ListsDir(site)} {
		found, err := s.List(ctx, dir)
		if err != nil {
			continue // then each is asked for, and that tells what is wrong
		}
		for _, info := range found {
			v.listed[s.Name][info.Name] = info.Bytes
		}
	}
}

// proof names a part that was looked at.
type proof struct {
	store, part string
	level       Level
}

// of names a part by all of its objects.
func (p proof) of(part archive.Part) proof {
	p.part = part.Name
	if len(part.Pieces) > 0 {
		digest := sha256.New()
		for o := range part.Objects() {
			_, _ = io.WriteString(digest, o.Name)
		}
		p.part = string(digest.Sum(nil))
	}
	return p
}

// faults is what is wrong with a part, by the object.
type faults map[string]error

// eachObject looks at a part's objects; behind one that cannot be reached at all no more are asked for.
func eachObject(p archive.Part, look func(archive.Part) error) faults {
	found := faults{}
	for o := range p.Objects() {
		if err := look(o); err != nil {
			found[o.Name] = err
			if !catalog.IsDamage(err) {
				break
			}
		}
	}
	return found
}

// proved is what came of it; in a full one, of the entries that were expected.
type proved struct {
	faults   faults
	expected []catalog.Expected
}

// Archive checks one archive in one store.
func (v *Verifier) Archive(ctx context.Context, h *catalog.Held, s store.Named, level Level) (*Report, error) {
	start := time.Now()
	r := &Report{Archive: h.Name, Store: s.Name, Level: level, Parts: len(h.Parts), Bytes: h.Totals.StoredBytes, Damage: []Damage{}, NotReached: []Missed{}}
	progress.Or(v.Observer).Phase("verifying "+h.Name+" in "+s.Name, h.Totals.StoredBytes)
	here := &catalog.Held{Record: h.Record, Stores: []store.Named{s}, Keys: h.Keys}
	if err := v.list(ctx, s, h.Record, level); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		r.note("list", err)
	}
	var ix *catalog.Index
	if level == Full && r.Sound() {
		var err error
		if ix, err = here.ReadIndex(ctx); err != nil {
			if ctx.Err() != nil || errors.Is(err, encryption.ErrNoKey) || errors.Is(err, encryption.ErrWrongKey) {
				return nil, err
			}
			r.note("list", err)
		}
	}
	bad, err := v.parts(ctx, h, proof{store: s.Name, level: level}, ix, func(p archive.Part) faults {
		pace := progress.Or(v.Observer).Advance
		whole := func(o archive.Part) error {
			return catalog.CheckBytes(ctx, s, archive.PartPath(h.Site, o.Name), o.Bytes, o.SHA256, pace)
		}
		switch {
		case level == Quick:
			return eachObject(p, func(o archive.Part) error {
				return v.sized(ctx, s, archive.PartPath(h.Site, o.Name), o.Bytes)
			})
		case ix == nil:
			return eachObject(p, whole)
		}
		err := ix.Check(ctx, h, s, p, pace)
		if err == nil {
			return nil
		}
		if len(p.Pieces) > 0 && catalog.IsDamage(err) { // it could not be read on behind the first that is damaged
			if found := eachObject(p, whole); len(found) > 0 {
				return found
			}
		}
		return faults{p.Name: err}
	})
	if err != nil {
		return nil, err
	}
	for _, p := range h.Parts {
		for o := range p.Objects() {
			if err, isBad := bad[o.Name]; isBad {
				r.note(o.Name, err)
				delete(bad, o.Name)
			}
		}
	}
	r.Took = time.Since(start)
	return r, nameHeld(ctx, h, r)
}

// parts checks each part once and returns the bad objects.
func (v *Verifier) parts(ctx context.Context, h *catalog.Held, key proof, ix *catalog.Index, check func(archive.Part) faults) (faults, error) {
	workers := v.Workers
	if workers == 0 {
		workers = 2
	}
	bad := faults{}
	note := func(some faults) {
		v.mu.Lock()
		defer v.mu.Unlock()
		maps.Copy(bad, some)
	}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(workers)
	for _, p := range h.Parts {
		now := &proved{}
		if ix != nil {
			now.expected = ix.Expects(p.Name)
		}
		known, done := v.claim(key.of(p), now)
		if done {
			note(known)
			continue
		}
		g.Go(func() error {
			found := check(p)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			note(found)
			v.mu.Lock()
			defer v.mu.Unlock()
			now.faults = found
			return nil
		})
	}
	return bad, g.Wait()
}

// claim tells what is known of a part; when nothing is, or not about all that is
// expected of it now, it notes that now will be.
func (v *Verifier) claim(key proof, now *proved) (known faults, done bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	before := v.proved[key]
	if before != nil && (len(before.faults) > 0 || catalog.Within(now.expected, before.expected)) {
		return before.faults, true
	}
	if v.proved == nil {
		v.proved = map[proof]*proved{}
	}
	v.proved[key] = now
	return nil, false
}

// list checks an archive's list.
func (v *Verifier) list(ctx context.Context, s store.Named, r *archive.Record, level Level) error {
	if level == Quick {
		return v.sized(ctx, s, r.ListPath(), r.List.Bytes)
	}
	return catalog.CheckList(ctx, s, r)
}

// sized tells whether an object is there with the right length.
func (v *Verifier) sized(ctx context.Context, s store.Named, object string, bytes int64) error {
	if is, listed := v.listed[s.Name][object]; listed && is == bytes {
		return nil
	}
	info, err := s.Stat(ctx, object)
	if err != nil {
		return err
	}
	if info.Bytes != bytes {
		return fmt.Errorf("%w: it has %d bytes, %d were written", archive.ErrDamaged, info.Bytes, bytes)
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
	damaged := map[string]*Damage{}
	for i := range r.Damage {
		damaged[r.Damage[i].Object] = &r.Damage[i]
	}
	at := map[string][]*Damage{}
	for _, p := range h.Parts {
		for o := range p.Objects() {
			if d := damaged[o.Name]; d != nil {
				at[p.Name] = append(at[p.Name], d)
			}
		}
	}
	if len(at) == 0 {
		return nil
	}
	err := h.ReadList(ctx, func(e archive.Entry) error {
		for _, d := range at[e.Part] {
			d.HeldTotal++
			if len(d.Held) < HeldShown {
				d.Held = append(d.Held, describe(e))
			}
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
