// Package catalog finds archives in a site's stores: it reads their records
// and lists and opens their parts, from whichever store has them sound.
package catalog

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"revlet/internal/archive"
	"revlet/internal/store"
)

// Held is an archive and the stores that hold its record.
type Held struct {
	*archive.Record
	Stores []store.Named
}

// Broken is a record that cannot be used.
type Broken struct {
	Store string
	Name  string
	Err   error
}

// Listing is what a site's stores hold.
type Listing struct {
	// Archives are ordered newest first.
	Archives []Held
	Broken   []Broken
	// Silent are stores that could not be asked.
	Silent []Broken
}

// ErrUnknown is wrapped when no archive has the name that was asked for.
var ErrUnknown = errors.New("there is no such archive")

// maxRecord bounds a record's size: a million parts are well below it.
const maxRecord = 256 << 20

// List reads every record of a site in its stores. A store that cannot be
// asked is reported in the listing; it is an error only when none can.
func List(ctx context.Context, stores []store.Named, site string) (*Listing, error) {
	l := &Listing{}
	found := map[string]int{}
	for _, s := range stores {
		infos, err := s.List(ctx, archive.RecordsDir(site))
		if err != nil {
			l.Silent = append(l.Silent, Broken{Store: s.Name, Err: err})
			continue
		}
		for _, info := range infos {
			name, ok := strings.CutSuffix(path.Base(info.Name), ".json")
			if !ok {
				continue
			}
			r, err := ReadRecord(ctx, s, site, name)
			if err != nil {
				l.Broken = append(l.Broken, Broken{Store: s.Name, Name: name, Err: err})
				continue
			}
			if i, ok := found[name]; ok {
				l.Archives[i].Stores = append(l.Archives[i].Stores, s)
				continue
			}
			found[name] = len(l.Archives)
			l.Archives = append(l.Archives, Held{Record: r, Stores: []store.Named{s}})
		}
	}
	if len(stores) > 0 && len(l.Silent) == len(stores) {
		return nil, fmt.Errorf("store %s: %w", l.Silent[0].Store, l.Silent[0].Err)
	}
	slices.SortFunc(l.Archives, func(a, b Held) int { return strings.Compare(b.Name, a.Name) })
	return l, nil
}

// ReadRecord reads one record from one store.
func ReadRecord(ctx context.Context, s store.Store, site, name string) (*archive.Record, error) {
	in, err := s.Open(ctx, archive.RecordPath(site, name))
	if err != nil {
		return nil, err
	}
	defer in.Close()
	data, err := io.ReadAll(io.LimitReader(in, maxRecord))
	if err != nil {
		return nil, fmt.Errorf("record %s: %w", name, err)
	}
	r, err := archive.DecodeRecord(data)
	if err != nil {
		return nil, fmt.Errorf("record %s: %w", name, err)
	}
	if r.Name != name {
		return nil, fmt.Errorf("record %s: %w: it calls itself %s", name, archive.ErrRecord, r.Name)
	}
	return r, nil
}

// Pick chooses an archive by its name or an unambiguous beginning of it. An
// empty name, or the site's own, means the newest; before, if set, limits it
// to archives taken earlier.
func (l *Listing) Pick(site, name string, before time.Time) (*Held, error) {
	var match []*Held
	for i := range l.Archives {
		h := &l.Archives[i]
		if !before.IsZero() && !h.Taken.Before(before) {
			continue
		}
		if name == h.Name || name == "" || name == site {
			return h, nil
		}
		if strings.HasPrefix(h.Name, name) {
			match = append(match, h)
		}
	}
	switch len(match) {
	case 1:
		return match[0], nil
	case 0:
		return nil, l.unknown(site, name, before)
	}
	names := []string{}
	for _, h := range match[:min(len(match), 6)] {
		names = append(names, h.Name)
	}
	return nil, fmt.Errorf("%q could be any of %d archives: %s; give more of the name", name, len(match), strings.Join(names, ", "))
}

func (l *Listing) unknown(site, name string, before time.Time) error {
	for _, b := range l.Broken {
		if b.Name == name {
			return fmt.Errorf("archive %s in store %s: %w", name, b.Store, b.Err)
		}
	}
	trouble := append(slices.Clone(l.Broken), l.Silent...)
	switch {
	case len(l.Archives) == 0 && len(trouble) > 0:
		return fmt.Errorf("site %s: no archive can be read: store %s: %w", site, trouble[0].Store, trouble[0].Err)
	case len(l.Archives) == 0:
		return fmt.Errorf("site %s: %w: it has none yet; `revlet backup %s` takes one", site, ErrUnknown, site)
	case !before.IsZero():
		return fmt.Errorf("site %s: %w before %s; the oldest is %s", site, ErrUnknown, before.Format("2006-01-02 15:04"), l.Archives[len(l.Archives)-1].Name)
	default:
		return fmt.Errorf("%s: %w; `revlet archives %s` lists what there is", name, ErrUnknown, site)
	}
}

// ReadList calls visit for every entry of an archive's list, from the first
// store that has it sound.
func (h *Held) ReadList(ctx context.Context, visit func(archive.Entry) error) error {
	var failed error
	for _, s := range h.Stores {
		if err := CheckList(ctx, s, h.Record); err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		in, err := s.Open(ctx, archive.ListPath(h.Site, h.Name))
		if err != nil {
			return fmt.Errorf("store %s: list of %s: %w", s.Name, h.Name, err)
		}
		defer in.Close()
		return archive.ReadList(in, visit)
	}
	return failed
}

// CheckList compares a stored list's bytes with the record. They are read once
// for that and a second time for use, so that no damaged entry is ever used
// and the list need not fit into memory.
func CheckList(ctx context.Context, s store.Named, r *archive.Record) error {
	in, err := s.Open(ctx, archive.ListPath(r.Site, r.Name))
	if err != nil {
		return fmt.Errorf("store %s: list of %s: %w", s.Name, r.Name, err)
	}
	defer in.Close()
	digest := sha256.New()
	if _, err := io.Copy(digest, in); err != nil {
		return fmt.Errorf("store %s: list of %s: %w", s.Name, r.Name, err)
	}
	if hex.EncodeToString(digest.Sum(nil)) != r.List.SHA256 {
		return fmt.Errorf("store %s: list of %s: %w: its bytes are not the ones written", s.Name, r.Name, archive.ErrDamaged)
	}
	return nil
}

// OpenPart opens a part in the store given.
func OpenPart(ctx context.Context, s store.Named, site string, part archive.Part, pace func(int64)) (*Part, error) {
	in, err := s.Open(ctx, archive.PartPath(site, part.Name))
	if err != nil {
		return nil, fmt.Errorf("store %s: part %w", s.Name, err)
	}
	r, err := archive.NewPartReader(in, part, pace)
	if err != nil {
		return nil, errors.Join(err, in.Close())
	}
	return &Part{PartReader: r, in: in}, nil
}

// Part is an open part of an archive.
type Part struct {
	*archive.PartReader
	in io.Closer
}

// Close releases the part.
func (p *Part) Close() {
	p.PartReader.Close()
	_ = p.in.Close()
}

// EachStore tries work with every store that holds the archive until one
// succeeds; when none does it returns all their errors.
func (h *Held) EachStore(work func(store.Named) error) error {
	var failed error
	for _, s := range h.Stores {
		err := work(s)
		if err == nil {
			return nil
		}
		failed = errors.Join(failed, err)
	}
	return failed
}
