package backup

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/storelock"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/signing"
	"revlet/internal/platform/state"
	"revlet/internal/store"
)

// ledger notes what a run writes to stores, until its record is there. Its file
// is called like the archive.
type ledger struct {
	disk *disk.Disk
	file *disk.File
	mu   sync.Mutex
	seen map[string]bool
}

func openLedger(st *state.State, site, archive string) (*ledger, error) {
	name := filepath.Join(st.Ledgers(site), archive)
	if err := st.Disk.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return nil, fmt.Errorf("open the ledger: %w", err)
	}
	f, err := st.Disk.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the ledger: %w", err)
	}
	return &ledger{disk: st.Disk, file: f, seen: map[string]bool{}}, nil
}

// note writes a name down before the object is written, and tells whether that
// was done before.
func (l *ledger) note(name string) (again bool, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.seen[name] {
		return true, nil
	}
	if _, err := fmt.Fprintln(l.file, name); err != nil {
		return false, fmt.Errorf("note %s in the ledger: %w", name, err)
	}
	l.seen[name] = true
	return false, nil
}

// close ends a run that has written its record.
func (l *ledger) close() error { return errors.Join(l.file.Close(), l.disk.Remove(l.file.Name())) }

// sweep removes what earlier runs of the site have written without coming to
// their record: the objects in their ledgers that no record names. What cannot
// be cleared up now is left for the next run.
func sweep(ctx context.Context, st *state.State, site string, signer signing.Public, stores []store.Named, records *catalog.Cache) error {
	names, err := st.Disk.ReadNames(st.Ledgers(site))
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(names) == 0 {
		return nil
	}
	if err != nil {
		return fmt.Errorf("read the ledgers of earlier runs: %w", err)
	}
	listing, err := catalog.List(ctx, stores, site, catalog.Options{Cache: records})
	if err != nil || len(listing.Broken)+len(listing.Silent) > 0 {
		return ctx.Err() // what a record that cannot be read names is not known
	}
	named := map[string]bool{}
	for _, h := range listing.Archives {
		named[h.Path()] = true
		h.Objects(func(name string, _ int64, _ string) { named[name] = true })
	}
	dead := make([]deadRun, len(names))
	for i, name := range names {
		if dead[i], err = readDead(st, site, name, named); err != nil {
			return err
		}
	}
	if err := adoptDead(st, site, signer, dead, listing); err != nil {
		return err
	}
	for _, s := range stores {
		if err := dropMarks(ctx, st, s, site, dead); err != nil {
			return err
		}
	}
	for _, d := range dead {
		if err := d.sweep(ctx, st, site, stores); err != nil {
			return err
		}
	}
	return nil
}

// deadRun is what a ledger tells of a run that did not come to its record.
type deadRun struct {
	// name is that of its archive and of its ledger.
	name           string
	objects, marks []string
	// undone is set when something could not be cleared up.
	undone *bool
}

func readDead(st *state.State, site, name string, named map[string]bool) (deadRun, error) {
	data, err := st.Disk.ReadFile(filepath.Join(st.Ledgers(site), name))
	if err != nil {
		return deadRun{}, fmt.Errorf("read the ledger of an earlier run: %w", err)
	}
	d := deadRun{name: name, undone: new(bool)}
	for object := range strings.FieldsSeq(string(data)) {
		switch {
		case !strings.HasPrefix(object, site+"/"):
		case path.Dir(object) == archive.RunningDir(site):
			d.marks = append(d.marks, object)
		case !named[object]:
			d.objects = append(d.objects, object)
		}
	}
	return d, nil
}

// dropMarks takes the marks of all dead runs away, and what lies in the folder
// of a store that takes scratch files over.
func dropMarks(ctx context.Context, st *state.State, s store.Named, site string, dead []deadRun) error {
	for _, d := range dead {
		for _, m := range d.marks {
			if s.Remove(ctx, m) != nil {
				*d.undone = true
			}
		}
	}
	if a, ok := takesOver(s); ok && len(dead) > 0 {
		if err := st.Disk.RemoveAll(scratchFolder(a, site, st)); err != nil {
			return fmt.Errorf("store %s: clear up after an earlier run: %w", s.Name, err)
		}
	}
	return ctx.Err()
}

// sweep clears up after one run, and forgets it when that is done everywhere.
func (d deadRun) sweep(ctx context.Context, st *state.State, site string, stores []store.Named) error {
	for _, s := range stores {
		cleared, err := sweepStore(ctx, s, site, d.name, d.objects)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if !cleared || err != nil {
			*d.undone = true
		}
	}
	if *d.undone {
		return nil
	}
	return st.Disk.Remove(filepath.Join(st.Ledgers(site), d.name))
}

// sweepStore clears up in one store, unless another run is writing there: what
// it has found there already is no longer only the dead run's.
func sweepStore(ctx context.Context, s store.Named, site, name string, objects []string) (cleared bool, err error) {
	// The record is asked for by name: a listing may lag behind.
	rec, err := catalog.ReadRecord(ctx, s, site, name)
	if err == nil {
		keep := map[string]bool{rec.Path(): true}
		rec.Objects(func(object string, _ int64, _ string) { keep[object] = true })
		left := objects[:0:0]
		for _, o := range objects {
			if !keep[o] {
				left = append(left, o)
			}
		}
		objects = left
	} else if !errors.Is(err, store.ErrNotFound) {
		return false, err
	}
	running, err := s.List(ctx, archive.RunningDir(site))
	if err != nil {
		return false, err
	}
	if len(storelock.Live(running)) > 0 {
		return false, nil
	}
	for _, o := range objects {
		if err := s.Remove(ctx, o); err != nil && !errors.Is(err, store.ErrKeeper) {
			return false, err
		}
	}
	return true, nil
}
