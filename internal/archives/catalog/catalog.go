// Package catalog finds archives in a site's stores: it reads their records
// and lists and opens their parts, from whichever store has them sound.
package catalog

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/encryption"
	"revlet/internal/platform/memory"
	"revlet/internal/platform/reason"
	"revlet/internal/store"
)

// Held is an archive and the stores that hold its record.
type Held struct {
	*archive.Record
	Stores []store.Named
	// Keys open what is encrypted.
	Keys *encryption.Keys
	// rebuilt is the list, made anew because it is damaged everywhere: see Salvage.
	rebuilt []archive.Entry
}

// Options say how records that are sealed are opened.
type Options struct {
	Keys *encryption.Keys
	// Known returns the copy of an archive's record that this machine has kept
	// open, or nil.
	Known func(site, name string) *archive.Record
	// Trust refuses records that nobody known has signed: such a one is Broken, and stands
	// in no other's way. Nil takes all: for counting what objects are named at all.
	Trust func(*archive.Record) error
	// Cache, if set, spares reading records that were read before.
	Cache *Cache
}

// unseal opens a record if that can be done here; one that cannot stays sealed.
func (o Options) unseal(r *archive.Record) error {
	if len(r.Sealed) == 0 || o.Known != nil && r.UnsealFrom(o.Known(r.Site, r.Name)) || !o.Keys.Given() {
		return nil
	}
	if err := r.Unseal(o.Keys); !errors.Is(err, encryption.ErrWrongKey) {
		return err
	}
	return nil
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

// maxRecord bounds a record's size: it has room for some 75,000 parts, of 64 MiB each.
const maxRecord = 32 << 20

// recordsAtOnce is how many records are read side by side.
const recordsAtOnce = 8

// List reads every record of a site in its stores. A store that cannot be
// asked is reported in the listing; it is an error only when none can.
func List(ctx context.Context, stores []store.Named, site string, o Options) (*Listing, error) {
	l := &Listing{}
	found := map[string]int{}
	for _, s := range stores {
		names, infos, err := recordNames(ctx, s, site)
		if err != nil {
			l.Silent = append(l.Silent, Broken{Store: s.Name, Err: err})
			continue
		}
		records, errs := readRecords(ctx, s, site, names, infos, o)
		for i, name := range names {
			r, err := records[i], errs[i]
			if err == nil {
				err = o.unseal(r)
			}
			if err != nil {
				l.Broken = append(l.Broken, Broken{Store: s.Name, Name: name, Err: err})
				continue
			}
			at, known := found[name]
			if !known {
				found[name] = len(l.Archives)
				l.Archives = append(l.Archives, Held{Record: r, Stores: []store.Named{s}, Keys: o.Keys})
				continue
			}
			if l.Archives[at].Checksum != r.Checksum {
				l.Broken = append(l.Broken, Broken{Store: s.Name, Name: name, Err: fmt.Errorf("record %s: %w: it is another archive than store %s has under that name", name, archive.ErrRecord, l.Archives[at].Stores[0].Name)})
				continue
			}
			l.Archives[at].Stores = append(l.Archives[at].Stores, s)
		}
	}
	if len(stores) > 0 && len(l.Silent) == len(stores) {
		return nil, fmt.Errorf("store %s: %w", l.Silent[0].Store, l.Silent[0].Err)
	}
	slices.SortFunc(l.Archives, func(a, b Held) int { return strings.Compare(b.Name, a.Name) })
	for _, h := range l.Archives {
		slices.SortStableFunc(h.Stores, nearestFirst)
	}
	return l, ctx.Err()
}

// nearestFirst puts stores on this machine before others.
func nearestFirst(a, b store.Named) int {
	switch {
	case a.Offsite() == b.Offsite():
		return 0
	case a.Offsite():
		return 1
	default:
		return -1
	}
}

func recordNames(ctx context.Context, s store.Named, site string) (names []string, records []store.Info, err error) {
	infos, err := s.List(ctx, archive.RecordsDir(site))
	for _, info := range infos {
		if name, ok := strings.CutSuffix(path.Base(info.Name), ".json"); ok {
			names, records = append(names, name), append(records, info)
		}
	}
	return names, records, err
}

// smallRecord is the length up to which many records are read at once: those of sites with some hundred parts.
const smallRecord = 96 << 10

// readRecords reads some records side by side, and of large ones one at a time. What
// several have in common is kept once, and of those that are not trusted nothing.
func readRecords(ctx context.Context, s store.Named, site string, names []string, infos []store.Info, o Options) ([]*archive.Record, []error) {
	k := keeping{s: s, o: o, infos: infos, records: make([]*archive.Record, len(names)), errs: make([]error, len(names)), same: archive.Interner{}}
	var small, large []int
	for i, info := range infos {
		if r := o.Cache.get(s, info); r != nil {
			k.keep(i, r, nil, nil)
			continue
		}
		if info.Bytes <= smallRecord {
			small = append(small, i)
		} else {
			large = append(large, i)
		}
	}
	files := make([]string, len(small))
	for at, i := range small {
		files[at] = archive.RecordPath(site, names[i])
	}
	var mu sync.Mutex
	store.Gather(ctx, s.Store, files, smallRecord, func(at int, data []byte, err error) {
		i := small[at]
		if errors.Is(err, store.ErrLong) { // it has grown since, or the listing was wrong
			mu.Lock()
			defer mu.Unlock()
			large = append(large, i)
			return
		}
		var r *archive.Record
		if err == nil {
			r, err = decodeRecord(names[i], data)
		}
		k.keep(i, r, data, err)
	})
	room := semaphore.NewWeighted(maxRecord)
	var g errgroup.Group
	g.SetLimit(recordsAtOnce)
	for _, i := range large {
		name := names[i]
		weight := min(max(infos[i].Bytes, maxRecord/recordsAtOnce/8), maxRecord)
		if err := room.Acquire(ctx, weight); err != nil {
			k.keep(i, nil, nil, err)
			continue
		}
		g.Go(func() error {
			defer room.Release(weight)
			data, r, err := readRecord(ctx, s, site, name)
			k.keep(i, r, data, err)
			return nil
		})
	}
	_ = g.Wait() // each error is kept beside its record
	o.Cache.tidy(s, infos)
	return k.records, k.errs
}

// keeping gathers what is read of records. A store may have as many as it likes, of whoever can write there.
type keeping struct {
	s       store.Named
	o       Options
	infos   []store.Info
	mu      sync.Mutex
	records []*archive.Record
	errs    []error
	same    archive.Interner
	// bytes are those of the records that are kept, refused how many are not trusted.
	bytes   int64
	refused int
}

const (
	// lookEvery is after how many bytes of records is looked whether there is room for more, in bytes.
	lookEvery = 32 << 20
	// mostRefused is for how many records that are not trusted it is told what there is to do.
	mostRefused = 2000
)

// keep keeps record i, read from data, if it is trusted and there is room for it.
func (k *keeping) keep(i int, r *archive.Record, data []byte, err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if err == nil && k.o.Trust != nil {
		if err = k.o.Trust(r); err != nil {
			if k.refused++; k.refused > mostRefused && errors.Is(err, archive.ErrSigner) {
				err = fmt.Errorf("%s: %w", r.Name, archive.ErrSigner) // no more is kept of it
			}
		}
	}
	if before := k.bytes; err == nil {
		if k.bytes += k.infos[i].Bytes; k.bytes/lookEvery != before/lookEvery {
			err = memory.Room(0, memory.Left)
		}
	}
	if k.errs[i] = err; err != nil {
		return
	}
	k.same.Share(r)
	k.records[i] = r
	if data != nil {
		k.o.Cache.put(k.s, k.infos[i], r, data)
	}
}

// ReadRecord reads one record from one store.
func ReadRecord(ctx context.Context, s store.Store, site, name string) (*archive.Record, error) {
	_, r, err := readRecord(ctx, s, site, name)
	return r, err
}

// ReadRecordBytes reads one record as it is stored; one that is not sound gives an
// error that wraps archive.ErrRecord.
func ReadRecordBytes(ctx context.Context, s store.Store, site, name string) ([]byte, *archive.Record, error) {
	return readRecord(ctx, s, site, name)
}

func readRecord(ctx context.Context, s store.Store, site, name string) ([]byte, *archive.Record, error) {
	in, err := s.Open(ctx, archive.RecordPath(site, name), 0)
	if err != nil {
		return nil, nil, err
	}
	defer in.Close()
	data, err := io.ReadAll(io.LimitReader(in, maxRecord+1))
	if err != nil {
		return nil, nil, fmt.Errorf("record %s: %w", name, err)
	}
	if len(data) > maxRecord {
		return nil, nil, fmt.Errorf("record %s: %w: it is larger than any can be", name, archive.ErrRecord)
	}
	r, err := decodeRecord(name, data)
	return data, r, err
}

// decodeRecord reads the record that is to be called name.
func decodeRecord(name string, data []byte) (*archive.Record, error) {
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
		return reason.New(reason.NoArchives, reason.Names{"site": site}, "site %s: %w: it has none yet", site, ErrUnknown)
	case !before.IsZero():
		return fmt.Errorf("site %s: %w before %s; the oldest is %s", site, ErrUnknown, before.Format("2006-01-02 15:04 MST"), l.Archives[len(l.Archives)-1].Name)
	default:
		return reason.New(reason.UnknownArchive, reason.Names{"site": site}, "%s: %w", name, ErrUnknown)
	}
}

// ReadList calls visit for every entry of an archive's list, from the first
// store that has it sound.
func (h *Held) ReadList(ctx context.Context, visit func(archive.Entry) error) error {
	return h.readListOf(ctx, func([]byte) bool { return true }, visit)
}

// ReadDatabaseList is ReadList for the entries of databases alone, which is quicker. Where the record knows of no part of one,
// there are none.
func (h *Held) ReadDatabaseList(ctx context.Context, visit func(archive.Entry) error) error {
	if !slices.ContainsFunc(h.Parts, func(p archive.Part) bool { return p.Database != "" }) {
		return nil
	}
	return h.readListOf(ctx, archive.OfDatabase, func(e archive.Entry) error {
		if e.IsFileTree() {
			return nil
		}
		return visit(e)
	})
}

func (h *Held) readListOf(ctx context.Context, wanted func(line []byte) bool, visit func(archive.Entry) error) error {
	for _, e := range h.rebuilt {
		if err := visit(e); err != nil {
			return err
		}
	}
	if h.rebuilt != nil {
		return nil
	}
	var failed error
	for _, s := range h.Stores {
		if err := CheckList(ctx, s, h.Record); err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		return h.readList(ctx, s, wanted, visit)
	}
	return failed
}

// readList reads the list in one store.
func (h *Held) readList(ctx context.Context, s store.Named, wanted func(line []byte) bool, visit func(archive.Entry) error) error {
	in, err := s.Open(ctx, h.ListPath(), 0)
	if err != nil {
		return fmt.Errorf("store %s: list of %s: %w", s.Name, h.Name, err)
	}
	defer in.Close()
	stored := &tap{in: in}
	var content io.Reader = bufio.NewReaderSize(stored, 1<<18)
	if h.Encrypted {
		if content, err = h.Keys.Reader(content); err != nil {
			return fmt.Errorf("archive %s: %w", h.Name, err)
		}
	}
	lines := int64(0)
	err = archive.ReadListOf(content, func(line []byte) (bool, error) {
		if lines++; lines > h.List.Lines {
			return false, fmt.Errorf("%w: it has more lines than the record says", archive.ErrList)
		}
		return wanted(line), nil
	}, visit)
	if stored.broke != nil && errors.Is(err, archive.ErrList) {
		// What a broken connection has cut is not damaged, whatever the decoder makes of it.
		return fmt.Errorf("store %s: list of %s: %w", s.Name, h.Name, stored.broke)
	}
	return err
}

// tap remembers why a reader could not be read to its end.
type tap struct {
	in    io.Reader
	broke error
}

func (t *tap) Read(b []byte) (int, error) {
	n, err := t.in.Read(b)
	if err != nil && !errors.Is(err, io.EOF) {
		t.broke = err
	}
	return n, err
}

// CheckList compares a stored list's bytes with the record. They are read once
// for that and a second time for use, so that no damaged entry is ever used
// and the list need not fit into memory.
func CheckList(ctx context.Context, s store.Named, r *archive.Record) error {
	err := CheckBytes(ctx, s, r.ListPath(), r.List.Bytes, r.List.SHA256, nil)
	if err != nil {
		return fmt.Errorf("store %s: list of %s: %w", s.Name, r.Name, err)
	}
	return nil
}

// CheckBytes reads an object and compares its stored bytes with what was
// written. A difference gives an error that wraps archive.ErrDamaged. No key is
// needed.
func CheckBytes(ctx context.Context, s store.Store, name string, bytes int64, sum string, pace func(int64)) error {
	in, err := s.Open(ctx, name, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	digest := sha256.New()
	out := io.Writer(digest)
	if pace != nil {
		out = io.MultiWriter(digest, pacer(pace))
	}
	n, err := io.CopyBuffer(out, io.LimitReader(in, bytes+1), make([]byte, 1<<18)) // what does not end is not read to its end
	if err != nil {
		return err
	}
	switch {
	case n != bytes:
		if n > bytes {
			return fmt.Errorf("%w: it has more than the %d bytes that were written", archive.ErrDamaged, bytes)
		}
		return fmt.Errorf("%w: it has %d bytes, %d were written", archive.ErrDamaged, n, bytes)
	case hex.EncodeToString(digest.Sum(nil)) != sum:
		return fmt.Errorf("%w: its bytes are not the ones written", archive.ErrDamaged)
	}
	return nil
}

type pacer func(int64)

func (p pacer) Write(b []byte) (int, error) { p(int64(len(b))); return len(b), nil }

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
