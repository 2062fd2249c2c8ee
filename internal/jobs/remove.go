package jobs

import (
	"context"
	"errors"
	"slices"
	"strings"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/storelock"
	"revlet/internal/platform/reason"
	"revlet/internal/watch/history"
	"revlet/internal/work/removal"
)

// RemoveOrder says which archive is to be deleted by hand.
type RemoveOrder struct {
	// Archive is its whole name; Store is the only store that it is to go from, empty for all.
	Archive, Store, Why string
	// Anyway deletes even the last good full archive of a site.
	Anyway bool
}

// RemovalPlan is what a removal would do.
type RemovalPlan struct {
	Order   RemoveOrder
	Site    string
	Archive *catalog.Held
	// From are the stores that it goes from; Stays those that keep it, with the reason.
	From  []string
	Stays []Trouble
	// Last tells that no other good full archive of the site is left then.
	Last bool
}

// Removed is what came of it.
type Removed struct {
	*RemovalPlan
	// Gone are the stores that it has gone from, Freed the bytes that were given back there; Left says
	// why space was not given back yet, by store.
	Gone  []string
	Freed int64
	Left  []string
}

// errKeptElsewhere is why a store keeps an archive.
var errKeptElsewhere = errors.New("another machine, or the far end, removes there")

// PlanRemoval says what the removal of an archive by hand would do. An archive that is held, or that a
// restore depends on, is not removed; nor is, but for anyway, the last good full one of its site.
func (a *Agent) PlanRemoval(ctx context.Context, o RemoveOrder) (*RemovalPlan, error) {
	site, _, ok := archive.SplitName(o.Archive)
	if _, known := a.Config.Sites[site]; !ok || !known {
		return nil, reason.BadUsage("%q is no archive's whole name: `archives` lists them, and one is removed by its whole name only", o.Archive)
	}
	if o.Store != "" {
		if err := a.KnownStore(o.Store); err != nil {
			return nil, err
		}
	}
	p := &RemovalPlan{Order: o, Site: site}
	return p, a.workUnder(ctx, site, &history.Run{Site: site}, func(ctx context.Context, _ *history.Run) error { return p.plan(ctx, a) })
}

func (p *RemovalPlan) plan(ctx context.Context, a *Agent) error {
	l, err := a.List(ctx, p.Site)
	if err != nil {
		return err
	}
	k, err := a.keeping(ctx, p.Site, l)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(l.Archives, func(h catalog.Held) bool { return h.Name == p.Order.Archive })
	if i < 0 {
		return errors.Join(reason.New(reason.UnknownArchive, reason.Names{"site": p.Site}, "no store that answers has an archive %s", p.Order.Archive), errors.Join(errorsOf(l.Silent)...))
	}
	p.Archive = &l.Archives[i]
	p.From, p.Stays = nil, nil
	for _, s := range p.Archive.Stores {
		if p.Order.Store != "" && s.Name != p.Order.Store {
			p.Stays = append(p.Stays, Trouble{s.Name, errors.New("it is to go from " + p.Order.Store + " only")})
			continue
		}
		if err := p.goesFrom(ctx, a, k, s.Name); err != nil {
			return err
		}
	}
	for _, silent := range l.Silent {
		p.Stays = append(p.Stays, Trouble{silent.Store, silent.Err})
	}
	if len(p.From) == 0 {
		return reason.New(reason.NotThere, nil, "there is no store that %s can be removed from: %s", p.Archive.Name, staying(p.Stays))
	}
	if p.Last = p.isLast(k, l); p.Last && !p.Order.Anyway {
		return reason.New(reason.LastArchive, nil, "%s is the last good full archive of %s: without it the site cannot be put back", p.Archive.Name, p.Site)
	}
	return nil
}

// goesFrom looks whether the archive may go from a store.
func (p *RemovalPlan) goesFrom(ctx context.Context, a *Agent, k *keeping, store string) error {
	if a.Config.Stores[store].KeptElsewhere() {
		p.Stays = append(p.Stays, Trouble{store, errKeptElsewhere})
		return nil
	}
	held, err := catalog.Holds(ctx, a.Store(store), p.Site)
	if err != nil {
		p.Stays = append(p.Stays, Trouble{store, err})
		return nil
	}
	hold, isHeld := held[p.Archive.Name]
	if !isHeld {
		hold, isHeld = k.holds[p.Archive.Name]
	}
	if isHeld {
		return reason.New(reason.ArchiveHeld, reason.Names{"archive": p.Archive.Name}, "%s is held%s", p.Archive.Name, because(hold.Why))
	}
	if why := k.busy[p.Archive.Name]; why != "" {
		return reason.New(reason.HalfRestored, reason.Names{"site": p.Site, "archive": p.Archive.Name}, "%s stays: %s", p.Archive.Name, why)
	}
	p.From = append(p.From, store)
	return nil
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return ": " + why
}

func staying(stays []Trouble) string {
	var all []string
	for _, t := range stays {
		all = append(all, t.Store+": "+t.Err.Error())
	}
	return strings.Join(all, "; ")
}

func errorsOf(silent []catalog.Broken) (all []error) {
	for _, b := range silent {
		all = append(all, b.Err)
	}
	return all
}

// isLast tells whether nothing is left then, as far as is known, from which all of the site can be restored, and there is something
// now: a store that does not answer keeps nothing, nor does a copy that is damaged.
func (p *RemovalPlan) isLast(k *keeping, l *catalog.Listing) bool {
	full := func(h catalog.Held, stores []string) bool {
		return (h.Scope == archive.Full || h.Scope == archive.FullByHand && p.Archive.Scope.ByHand()) && k.good(h.Name, stores)
	}
	return full(*p.Archive, StoreNames(p.Archive.Stores)) && !slices.ContainsFunc(l.Archives, func(h catalog.Held) bool {
		stores := StoreNames(h.Stores)
		if h.Name == p.Archive.Name {
			stores = slices.DeleteFunc(stores, func(s string) bool { return slices.Contains(p.From, s) })
		}
		return full(h, stores)
	})
}

// Remove deletes an archive as planned: its record first, so that it does not exist any more, and then what
// no other archive has a share in. Its line in the history stays, with who removed it and why.
func (a *Agent) Remove(ctx context.Context, p *RemovalPlan) (*Removed, error) {
	r := &Removed{RemovalPlan: p}
	run := history.Run{Site: p.Site, Command: "remove", Archive: p.Order.Archive}
	err := a.work(ctx, &run, func(ctx context.Context, run *history.Run) error {
		if err := p.plan(ctx, a); err != nil { // somebody may have held it since
			return err
		}
		var failed error
		for _, store := range p.From {
			failed = errors.Join(failed, a.removeFrom(ctx, r, store))
		}
		run.Detail = "from " + strings.Join(r.Gone, ", ") + because(p.Order.Why)
		if len(p.Stays) == 0 && failed == nil {
			failed = a.nowhereWaited(ctx, p)
		}
		return errors.Join(failed, a.forgetOpen(ctx, p.Site))
	})
	return r, err
}

// removeFrom deletes it in one store.
func (a *Agent) removeFrom(ctx context.Context, r *Removed, store string) error {
	recent, err := a.recentIn(ctx, r.Site, store)
	if err != nil {
		return err
	}
	job := removal.Job{Site: r.Site, Store: a.Store(store), Archives: []string{r.Order.Archive}, Recent: recent, Machine: storelock.Machine(a.State.Dir), Records: &a.records}
	result, err := a.removed(ctx, job, "removed by hand by "+a.Person+because(r.Order.Why))
	r.Freed += result.Bytes
	if result.Left != "" {
		r.Left = append(r.Left, result.Left)
	}
	for range result.Archives {
		r.Gone = append(r.Gone, store)
	}
	return err
}

// nowhereWaited forgets where an archive was to come to that is nowhere any more.
func (a *Agent) nowhereWaited(ctx context.Context, p *RemovalPlan) error {
	waiting, err := a.pending(ctx, p.Site)
	for _, store := range waiting[p.Order.Archive] {
		err = errors.Join(err, a.History.Arrived(ctx, p.Order.Archive, store))
	}
	return err
}

// recentIn are the archives of a site that the history knows to be in a store.
func (a *Agent) recentIn(ctx context.Context, site, store string) (names []string, err error) {
	known, err := a.History.Archives(ctx, site)
	for _, h := range known {
		if h.In(store) {
			names = append(names, h.Name)
		}
	}
	return names, err
}
