package backup

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/storelock"
	"revlet/internal/platform/state"
	"revlet/internal/store"
)

// withdraw takes the run's marks away. The ledger names them until that is done.
func (r *run) withdraw(ctx context.Context) error {
	var err error
	for _, t := range r.targets {
		err = errors.Join(err, t.withdraw(ctx))
	}
	return err
}

// prepare refuses what cannot work before anything is written.
func (r *run) prepare(ctx context.Context) error {
	for _, s := range r.Stores {
		if dir, err := ExposedStore(s, r.Site, r.Others); err != nil {
			return fmt.Errorf("store %s (%s) %w; move it elsewhere", s.Name, dir, err)
		}
	}
	if err := Exposed(r.State.Dir, r.Site, r.Others); err != nil {
		return fmt.Errorf("the state folder %s %w; set `state:` elsewhere", r.State.Dir, err)
	}
	if len(r.Site.Roots) > 0 {
		if err := NewOutside(ctx, r.disk, r.Site).Apart(); err != nil {
			return err
		}
	}
	r.checkStores(ctx)
	if err := r.allFailed(); err != nil {
		return err
	}
	if err := sweep(ctx, r.State, r.Site.Name, r.signer(), r.Stores, r.Records); err != nil {
		return err
	}
	name, taken, err := r.claim(ctx)
	if err != nil {
		return err
	}
	host, _ := os.Hostname()
	r.record = archive.Record{Format: archive.Format, Name: name, Site: r.Site.Name,
		Taken: taken, Scope: r.Scope, Note: r.Note, Program: r.Program, Host: host, Encrypted: len(r.To) > 0,
		Origin: archive.Origin{Address: r.Site.Address, Version: r.Site.Version(), Skipped: r.Site.Skip}}
	if r.Site.Far() {
		r.record.Origin.Place = r.Site.Place.Base()
	} else if r.HandMade != nil {
		r.record.Origin.Place = r.HandMade.Place
	}
	if r.Site.Recipe != nil {
		r.record.Origin.Recipe = r.Site.Recipe.Name
	}
	if err := r.openSpool(); err != nil {
		return err
	}
	r.list = archive.NewListWriter(r.disk, r.spool.name)
	return r.recall(ctx)
}

// checkStores finds out which stores can be written to.
func (r *run) checkStores(ctx context.Context) {
	var g errgroup.Group
	for _, s := range r.Stores {
		t := newTarget(s)
		t.damaged = r.Damaged[s.Name]
		r.targets = append(r.targets, t)
		if err := r.Down[s.Name]; err != nil {
			t.fail(err)
			continue
		}
		g.Go(func() error {
			if err := t.Check(ctx); err != nil {
				t.fail(err)
			}
			return nil
		})
	}
	_ = g.Wait() // failures are kept in the targets
}

// openSpool makes the scratch folder: in a store that takes files over, or else
// in the state folder.
func (r *run) openSpool() error {
	for _, t := range r.live() {
		if a, ok := takesOver(t.Named); ok {
			t.own, r.own = a, a
			break
		}
	}
	dir, err := "", error(nil)
	if r.own != nil {
		// Runs with other state folders, on this machine or another, have folders of
		// their own there.
		dir, err = state.Empty(r.disk, scratchFolder(r.own, r.Site.Name, r.State))
	} else {
		dir, err = r.State.Spool(r.Site.Name)
	}
	r.spool = &spool{disk: r.disk, dir: dir}
	return err
}

// scratchFolder is where the runs of a site with a state folder prepare parts in a store
// that takes files over.
func scratchFolder(own adopter, site string, st *state.State) string {
	return filepath.Join(own.Incoming(), site, storelock.Machine(st.Dir))
}

// claim finds the archive's name and moment, and opens its ledger. The moment is now; the
// name is of that, or of a second later as long as an archive of that name exists or is
// being made by another machine.
func (r *run) claim(ctx context.Context) (name string, taken time.Time, err error) {
	raw := make([]byte, 4)
	_, _ = rand.Read(raw)
	token := hex.EncodeToString(raw)
	if r.Imported != nil {
		return r.Imported.Record.Name, r.Imported.Record.Taken, r.claimImported(ctx, token)
	}
	if taken = r.Now(); r.HandMade != nil {
		taken = r.HandMade.Taken
	}
	taken = taken.UTC().Truncate(time.Second)
	host, _ := os.Hostname()
	last, err := openChain(r.State, r.Site.Name)
	if err != nil {
		return "", taken, err
	}
	for t := taken; ; t = t.Add(time.Second) {
		name := archive.NewName(r.Site.Name, t)
		used, err := r.taken(ctx, name)
		if err != nil {
			return name, taken, err
		}
		if used || last.Last != nil && last.Last.Name == name {
			continue // its name stays its own, even if somebody has removed it
		}
		if r.ledger, err = openLedger(r.State, r.Site.Name, name); err != nil {
			return name, taken, err
		}
		for _, target := range r.live() {
			other, err := target.announce(ctx, r.Site.Name, mark{Archive: name, Host: host, Began: taken}, token, storelock.Machine(r.State.Dir), r.ledger)
			if err != nil {
				target.fail(err)
			}
			used = used || other
		}
		if err := r.allFailed(); err != nil {
			return name, taken, err
		}
		if !used { // another machine may have begun and ended between the first look and the mark
			if used, err = r.taken(ctx, name); err != nil {
				return name, taken, err
			}
		}
		if !used {
			return name, taken, nil
		}
		if err := r.endLedger(ctx); err != nil {
			return name, taken, err
		}
		// Two that give way to each other are not to meet again.
		t = t.Add(time.Duration(raw[0]%4) * time.Second)
	}
}

// taken tells whether a store has an archive of that name.
func (r *run) taken(ctx context.Context, name string) (bool, error) {
	for _, t := range r.live() {
		_, err := t.Stat(ctx, archive.RecordPath(r.Site.Name, name))
		if err == nil {
			return true, nil
		}
		if !errors.Is(err, store.ErrNotFound) {
			t.fail(err)
		}
	}
	return false, r.allFailed()
}

// recall reads what is remembered of the last archive and what the stores have
// of it.
func (r *run) recall(ctx context.Context) error {
	if r.Imported != nil || r.HandMade != nil {
		return nil
	}
	files, tables := remembered(ctx, r.State, r.Site.Name, filesHalf), remembered(ctx, r.State, r.Site.Name, databaseHalf)
	if files != nil && files.Record.Origin.Place != r.record.Origin.Place {
		files = nil // of another machine: sizes and times say nothing
	}
	r.before = files
	useFiles, useTables := r.Scope.HasFiles() && r.usable(files), r.Scope.HasDatabase() && r.usable(tables)
	if !useFiles && !useTables {
		return nil
	}
	for _, t := range r.live() {
		var err error
		if t.has, err = partsIn(ctx, t, r.Site.Name); err == nil {
			err = t.lookForVanished(ctx, files, tables)
		}
		if err != nil {
			t.fail(err)
		}
	}
	if err := r.allFailed(); err != nil {
		return err
	}
	if useTables {
		r.lastSQL = tables
	}
	if !useFiles {
		return nil
	}
	reuse, err := r.plan(ctx, files)
	if errors.Is(err, archive.ErrList) {
		r.observer.Note("note: what is remembered of the last archive cannot be read; this one is made afresh")
		return nil
	}
	r.reuse = reuse
	return err
}

// endLedger ends a run that leaves nothing to clear up. When a mark cannot be
// taken away, the ledger stays, so that the next run tries again.
func (r *run) endLedger(ctx context.Context) error {
	if r.withdraw(ctx) != nil {
		return r.ledger.file.Close()
	}
	return r.ledger.close()
}

// forget removes the parts that a failed run has written, once nothing is on
// its way any more.
func (r *run) forget() error {
	if r.ledger == nil {
		return nil
	}
	_ = r.settleSends() // what failed is being forgotten
	ctx := context.Background()
	_ = r.ledger.file.Close()
	return sweep(ctx, r.State, r.Site.Name, r.signer(), r.Stores, r.Records)
}
