package jobs

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/storelock"
	"revlet/internal/config"
	"revlet/internal/platform/progress"
	"revlet/internal/platform/reason"
	"revlet/internal/store"
	"revlet/internal/store/contract"
	"revlet/internal/store/marked"
	"revlet/internal/store/opener"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
	"revlet/internal/work/replicate"
	"revlet/internal/work/verify"
)

// StoreTest is what a test of a store found.
type StoreTest struct {
	Store string `json:"store"`
	Where string `json:"where"`
	OK    bool   `json:"ok"`
	Why   string `json:"why,omitempty"`
	Err   error  `json:"-"`
	// Write and Read are bytes a second.
	Write int64 `json:"write_bytes_per_second"`
	Read  int64 `json:"read_bytes_per_second"`
	// Delete and Overwrite tell what this account, and an intruder with it, may do there
	// with what is there: allowed, refused or unknown.
	Delete    Right `json:"delete"`
	Overwrite Right `json:"overwrite"`
	// Elsewhere tells that the store says `keeper: elsewhere`, Locked that a bucket's lock
	// is to hold what is written; Onsite, that it is a folder on this machine.
	Elsewhere bool `json:"elsewhere"`
	Locked    bool `json:"locked"`
	Onsite    bool `json:"onsite"`
}

// Right is whether an account may do something.
type Right string

// The answers.
const (
	Allowed Right = "allowed"
	Refused Right = "refused"
	Unknown Right = "unknown"
)

// testRights tries, as an intruder would, to overwrite and to delete an object of a test.
func (t *StoreTest) testRights(ctx context.Context, s store.Store, name string) {
	t.Overwrite, t.Delete = Unknown, Unknown
	holds := func() (string, error) {
		in, err := s.Open(ctx, name, 0)
		if err != nil {
			return "", err
		}
		data, err := io.ReadAll(io.LimitReader(in, 16))
		return string(data), errors.Join(err, in.Close())
	}
	const other = "overwritten"
	failed := s.Put(ctx, name, strings.NewReader(other), int64(len(other)))
	switch now, err := holds(); {
	case err != nil:
		return
	case now == other:
		t.Overwrite = Allowed
	case errors.Is(failed, store.ErrRefused):
		t.Overwrite = Refused
	}
	failed = s.Remove(ctx, name)
	switch _, err := s.Stat(ctx, name); {
	case errors.Is(err, store.ErrNotFound):
		t.Delete = Allowed
	case err == nil && (failed == nil || errors.Is(failed, store.ErrRefused)):
		t.Delete = Refused
	}
}

// testBytes is how much a test sends and reads; keptBytes where it stays.
const (
	testBytes = 4 << 20
	keptBytes = 64 << 10
)

// testStore tries s, and on raw, which is the same without regard to its keeper, what
// the account may do there.
func testStore(ctx context.Context, s store.Named, raw store.Store, t *StoreTest) error {
	if err := s.Check(ctx); err != nil {
		return err
	}
	size := int64(testBytes)
	if t.Elsewhere {
		size = keptBytes
	}
	sent := make([]byte, size)
	_, _ = rand.Read(sent)
	name := fmt.Sprintf("revlet-test/%x", sent[:8])
	began := time.Now()
	if err := s.Put(ctx, name, bytes.NewReader(sent), size); err != nil {
		return fmt.Errorf("write: %w", err)
	}
	t.Write = perSecond(size, began)
	defer func() { _ = s.Remove(context.WithoutCancel(ctx), name) }()
	began = time.Now()
	in, err := s.Open(ctx, name, 0)
	if err != nil {
		return fmt.Errorf("read back: %w", err)
	}
	got, err := io.ReadAll(io.LimitReader(in, size+1))
	_ = in.Close()
	if err != nil {
		return fmt.Errorf("read back: %w", err)
	}
	t.Read = perSecond(size, began)
	if !bytes.Equal(sent, got) {
		return errors.New("what was read back is not what was written")
	}
	infos, err := s.List(ctx, path.Dir(name))
	if err != nil {
		return fmt.Errorf("list: %w", err)
	}
	if !slices.ContainsFunc(infos, func(i store.Info) bool { return i.Name == name && i.Bytes == size }) {
		return reason.New(reason.ListingLags, nil, "its listing lags behind: what was just written is not in it. Archives are safe there, for Revlet asks again")
	}
	t.testRights(ctx, raw, name)
	if t.Elsewhere {
		return nil
	}
	if t.Delete == Refused {
		return reason.New(reason.NoDeletion, nil, "the account may write and not delete")
	}
	if err := s.Remove(ctx, name); err != nil {
		return fmt.Errorf("delete: %w", err)
	}
	if _, err := s.Stat(ctx, name); !errors.Is(err, store.ErrNotFound) {
		return errors.Join(errors.New("what was deleted is still there"), err)
	}
	return nil
}

func perSecond(size int64, began time.Time) int64 {
	return int64(float64(size) / max(time.Since(began).Seconds(), 1e-6))
}

// Copied is one archive that was brought into a store.
type Copied struct {
	Archive string `json:"archive"`
	Store   string `json:"store"`
	Objects int    `json:"objects"`
	Bytes   int64  `json:"bytes"`
	Why     string `json:"failed,omitempty"`
	Err     error  `json:"-"`
}

// wantedIn are the archives that a store has, or has lost: of which a record there cannot be read, or which nobody should have
// removed there, and nobody has said that it may be so. lost are those of the latter that no other store has.
func wantedIn(l *catalog.Listing, known []history.Archive, open []history.Alarm, target string) (wanted []catalog.Held, lost []string) {
	broken, vanished := map[string]bool{}, map[string]bool{}
	missed := func(name string) bool {
		return slices.ContainsFunc(open, func(o history.Alarm) bool {
			return o.Kind == alarm.Vanished && o.Archive == name && o.Accepted.IsZero()
		})
	}
	for _, b := range l.Broken {
		broken[b.Name] = broken[b.Name] || b.Store == target
	}
	for _, k := range known {
		for _, c := range k.Copies {
			if c.Store == target && !c.Gone.IsZero() && c.Why == foundMissing && missed(k.Name) {
				vanished[k.Name] = true
			}
		}
	}
	for _, h := range l.Archives {
		if slices.Contains(StoreNames(h.Stores), target) || broken[h.Name] || vanished[h.Name] {
			wanted = append(wanted, h)
		}
		delete(vanished, h.Name)
	}
	return wanted, slices.Sorted(maps.Keys(vanished))
}

// StoreLine is a store in a listing.
type StoreLine struct {
	Name    string   `json:"name"`
	Kind    string   `json:"kind"`
	Where   string   `json:"where"`
	Offsite bool     `json:"offsite"`
	Sites   []string `json:"sites"`
	Pending int      `json:"pending"`
}

// KnownStore refuses a name that no store has.
func (a *Agent) KnownStore(name string) error {
	if _, ok := a.Config.Stores[name]; !ok {
		return reason.BadUsage("there is no store %q in %s; the stores are: %s", name, a.Config.Path, strings.Join(a.StoreNames(), ", "))
	}
	return nil
}

// StoreNames are the configured stores, in order.
func (a *Agent) StoreNames() []string { return slices.Sorted(maps.Keys(a.Config.Stores)) }

// ListStores describes the configured stores and who uses them.
func (a *Agent) ListStores(ctx context.Context) ([]StoreLine, error) {
	waiting := map[string]int{}
	for _, site := range a.Config.SiteNames() {
		pending, err := a.History.Pending(ctx, site)
		if err != nil {
			return nil, err
		}
		for _, p := range pending {
			waiting[p.Store]++
		}
	}
	var all []StoreLine
	for _, name := range a.StoreNames() {
		s := a.Store(name)
		d := StoreLine{Name: name, Kind: a.Config.Stores[name].Kind(), Where: s.Where(), Offsite: s.Offsite(), Sites: []string{}, Pending: waiting[name]}
		for _, site := range a.Config.SiteNames() {
			if slices.Contains(a.Config.Sites[site].Stores, name) {
				d.Sites = append(d.Sites, site)
			}
		}
		all = append(all, d)
	}
	return all, nil
}

// TestStore writes, reads back, compares, lists and deletes something in a store.
// trust accepts the key of an SSH machine that is not known yet, forget drops the
// accepted one first. accept takes what is there as the store from now on, whatever was
// there before. What is wrong with the store is in the result.
func (a *Agent) TestStore(ctx context.Context, name string, trust, forget, accept bool) (StoreTest, error) {
	if err := a.KnownStore(name); err != nil {
		return StoreTest{Store: name}, err
	}
	cfg := a.Config.Stores[name]
	if forget {
		if err := a.Opener().Forget(cfg); err != nil {
			return StoreTest{Store: name}, err
		}
	}
	return a.testEntry(ctx, name, cfg, trust, accept)
}

// testEntry tries a store as an entry describes it.
func (a *Agent) testEntry(ctx context.Context, name string, cfg config.Store, trust, accept bool) (StoreTest, error) {
	t := StoreTest{Store: name}
	o := a.Opener()
	o.Trust, o.Trusted = trust, a.trusted
	s, err := o.Open(name, cfg)
	if err == nil {
		if accept {
			if err := a.State.Stores().Remember(s.Where(), ""); err != nil {
				return t, err
			}
		}
		err = a.tryStore(ctx, o, s, cfg, &t)
		_ = s.Close()
	}
	if ctx.Err() != nil {
		return t, ctx.Err()
	}
	if t.OK = err == nil; err != nil {
		t.Why, t.Err = err.Error(), err
	}
	return t, nil
}

// tryStore tests a store that is open.
func (a *Agent) tryStore(ctx context.Context, o *opener.Opener, s store.Named, cfg config.Store, t *StoreTest) error {
	s = marked.Wrap(s, a.State.Stores())
	t.Where, t.Elsewhere, t.Locked, t.Onsite = s.Where(), cfg.KeptElsewhere(), cfg.LockFor > 0, !s.Offsite()
	cfg.Keeper, cfg.LockFor = "", 0
	raw, err := o.Open(t.Store, cfg)
	if err != nil {
		return err
	}
	defer raw.Close()
	return testStore(ctx, s, raw, t)
}

// trusted tells of an SSH key that is accepted from now on.
func (a *Agent) trusted(host, fingerprint string) { a.Tell(HostTrusted{host, fingerprint}) }

// CopyArchives brings archives of a site into a store: all that it lacks, or, when
// to is empty, those that are pending into theirs. A copy that fails is in the result.
func (a *Agent) CopyArchives(ctx context.Context, name, to string, watch progress.Observer) (all []Copied, err error) {
	err = a.work(ctx, &history.Run{Site: name}, func(ctx context.Context, _ *history.Run) error {
		l, err := a.listTelling(ctx, name)
		if err != nil {
			return err
		}
		pending, err := a.pending(ctx, name)
		if err != nil {
			return err
		}
		for _, h := range slices.Backward(l.Archives) {
			targets := pending[h.Name]
			if to != "" {
				targets = []string{to}
			}
			for _, target := range targets {
				if slices.Contains(StoreNames(h.Stores), target) {
					continue
				}
				r, err := a.copyTo(ctx, &h, target, watch)
				if ctx.Err() != nil {
					return ctx.Err()
				}
				one := Copied{Archive: h.Name, Store: target, Objects: r.Objects, Bytes: r.Bytes, Err: err}
				if err != nil {
					one.Why = err.Error()
				}
				all = append(all, one)
			}
		}
		return nil
	})
	return all, err
}

// HealedSite is what was found of a site in a store.
type HealedSite struct {
	// Archives is how many were looked at: those that the store has, and those that it has lost.
	Archives int `json:"archives"`
	// Objects are those that were damaged or missing.
	Objects []replicate.Healed `json:"objects"`
}

// Left tells whether something is damaged or missing still.
func (h *HealedSite) Left() bool {
	return slices.ContainsFunc(h.Objects, func(o replicate.Healed) bool { return o.Left != "" })
}

// Heal replaces what is damaged or missing of a site in a store from the others: whole archives, too, that it has lost and
// that nobody should have removed. quick compares lengths only. A store that does not answer is an error. What is left
// damaged is remembered, so that the next backup does not rely on it.
func (a *Agent) Heal(ctx context.Context, target, name string, quick bool, watch progress.Observer) (site *HealedSite, err error) {
	cfg, err := a.SiteConfig(name)
	if err != nil {
		return nil, err
	}
	site = &HealedSite{Objects: []replicate.Healed{}}
	err = a.work(ctx, &history.Run{Site: name}, func(ctx context.Context, _ *history.Run) error {
		l, err := a.List(ctx, name)
		if err != nil {
			return err
		}
		for _, silent := range l.Silent {
			if silent.Store == target {
				return fmt.Errorf("nothing is known of %s in store %s: %w", name, target, silent.Err)
			}
		}
		others := slices.DeleteFunc(a.Stores(cfg), func(s store.Named) bool { return s.Name == target })
		scratch, err := a.State.Spool(name + ".copy")
		if err != nil {
			return err
		}
		defer func() { _ = a.Disk.RemoveAll(scratch) }()
		job := replicate.Job{Machine: storelock.Machine(a.State.Dir), Site: name, To: a.Store(target), From: others, Disk: a.Disk, Scratch: scratch, Observer: watch}
		known, err := a.History.Archives(ctx, name)
		if err != nil {
			return err
		}
		open, err := a.History.Alarms(ctx, name)
		if err != nil {
			return err
		}
		wanted, lost := wantedIn(l, known, open, target)
		if site.Archives = len(wanted) + len(lost); len(wanted) > 0 {
			var found []replicate.Healed
			found, err = job.Heal(ctx, wanted, quick)
			site.Objects = append(site.Objects, found...)
			err = errors.Join(err, a.noteHealed(ctx, target, wanted, site.Objects, err == nil && !quick))
		}
		for _, one := range lost {
			site.Objects = append(site.Objects, replicate.Healed{Object: archive.RecordPath(name, one), Why: "missing", Left: "no store that answers has it"})
		}
		return err
	})
	return site, err
}

// noteHealed remembers which objects were mended, and which were found damaged and left so. Of archives that consist of
// some that were mended nothing is known to be damaged any more when all of their objects were compared and none was left as it was.
func (a *Agent) noteHealed(ctx context.Context, target string, archives []catalog.Held, healed []replicate.Healed, compared bool) error {
	mended := map[string]bool{}
	var err error
	for _, h := range healed {
		if mended[h.Object] = h.Left == ""; h.Left == "" {
			err = errors.Join(err, a.History.Mended(ctx, target, h.Object))
		} else {
			err = errors.Join(err, a.History.Damaged(ctx, target, h.Object))
		}
	}
	for _, h := range archives {
		touched, whole, left := false, compared, false
		see := func(name string) {
			well, known := mended[name]
			touched, whole, left = touched || well, whole && (well || !known), left || known && !well
		}
		see(h.Path())
		h.Objects(func(name string, _ int64, _ string) { see(name) })
		switch {
		case left:
			err = errors.Join(err, a.History.AddProof(ctx, history.Proof{Archive: h.Name, Store: target, At: a.Now(), Level: string(verify.Digests)}))
		case touched && whole:
			err = errors.Join(err, a.History.Healed(ctx, history.Proof{Archive: h.Name, Store: target, At: a.Now(), Level: string(verify.Digests), Sound: true}))
		}
	}
	return err
}

// StoreContract tries whether a store keeps to all that is needed of one; told hears of each point. What is
// written for it is removed again.
func (a *Agent) StoreContract(ctx context.Context, name string, told func(contract.Result)) (kept bool, err error) {
	if err := a.KnownStore(name); err != nil {
		return false, err
	}
	if a.Config.Stores[name].KeptElsewhere() {
		return false, reason.BadUsage("store %s is kept by another machine: nothing could be removed after it was tried; try a folder of its own without `keeper:`", name)
	}
	s, err := a.Opener().Open(name, a.Config.Stores[name])
	if err != nil {
		return false, err
	}
	defer s.Close()
	kept = contract.Run(ctx, s, told)
	return kept, ctx.Err()
}
