package jobs

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/archives/storelock"
	"revlet/internal/config"
	"revlet/internal/rules/retention"
	"revlet/internal/store/marked"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
	"revlet/internal/work/removal"
	"revlet/internal/work/restore"
)

// Decision is what the keep rules say of one archive.
type Decision struct {
	Name  string    `json:"name"`
	Taken time.Time `json:"taken"`
	Scope string    `json:"scope"`
	Keep  bool      `json:"keep"`
	Why   []string  `json:"why"`
}

// StoreRetention is what the keep rules make of a site's archives in one store.
type StoreRetention struct {
	Site  string   `json:"site"`
	Store string   `json:"store"`
	Rules []string `json:"rules"`
	// Archives are newest first.
	Archives []Decision `json:"archives"`
	// Stopped says why nothing is removed; Removed names what was.
	Stopped []string `json:"stopped"`
	// Elsewhere tells that another machine removes what goes.
	Elsewhere bool     `json:"elsewhere"`
	Removed   []string `json:"removed"`
	// Freed is the space that was given back, Left why it was not.
	Freed int64  `json:"freed_bytes"`
	Left  string `json:"left"`
}

func (s StoreRetention) Going() (names []string) {
	for _, d := range s.Archives {
		if !d.Keep {
			names = append(names, d.Name)
		}
	}
	return names
}

// hasRules tells whether anything of a site is ever removed.
func (a *Agent) hasRules(cfg config.Site) bool {
	return len(cfg.KeepRules) > 0 || slices.ContainsFunc(cfg.Stores, func(s string) bool { return len(a.Config.Stores[s].KeepRules) > 0 })
}

// retain decides about a site's archives in each of its stores, or in one only,
// and removes what goes if apply is set. The caller holds the site's lock. A store that
// fails does not keep the others from being cleared.
func (a *Agent) retain(ctx context.Context, site, only string, apply bool) ([]StoreRetention, error) {
	l, err := a.List(ctx, site)
	if err != nil {
		return nil, err
	}
	k, err := a.keeping(ctx, site, l)
	if err != nil {
		return nil, err
	}
	for _, silent := range l.Silent {
		if errors.Is(silent.Err, marked.ErrNotThatStore) {
			k.stopped = append(k.stopped, "store "+silent.Store+": "+silent.Err.Error())
		}
	}
	var all []StoreRetention
	var failed error
	for _, name := range a.Config.Sites[site].Stores {
		if only != "" && name != only {
			continue
		}
		r := k.decide(ctx, name)
		if i := slices.IndexFunc(l.Silent, func(b catalog.Broken) bool { return b.Store == name }); i >= 0 {
			r.Stopped = append(r.Stopped, "it is not reached: "+l.Silent[i].Err.Error())
		}
		if going := r.Going(); apply && len(a.Config.KeepIn(site, name)) > 0 && len(r.Stopped) == 0 && !r.Elsewhere {
			if err := a.remove(ctx, &r, k, going); err != nil {
				failed = errors.Join(failed, err)
			}
		}
		all = append(all, r)
	}
	return all, failed
}

// keeping is what decisions about a site's archives depend on.
type keeping struct {
	agent   *Agent
	site    string
	listing *catalog.Listing
	facts
	stopped  []string
	silences []retention.Silence
}

func (a *Agent) keeping(ctx context.Context, site string, l *catalog.Listing) (*keeping, error) {
	k := &keeping{agent: a, site: site, listing: l, facts: facts{busy: map[string]string{}}}
	var err error
	if k.holds, err = a.History.Holds(ctx); err != nil {
		return nil, err
	}
	if k.pending, err = a.pending(ctx, site); err != nil {
		return nil, err
	}
	if k.verdicts, err = a.verdicts(ctx); err != nil {
		return nil, err
	}
	journals, err := restore.Journals(a.State, site)
	if err != nil {
		return nil, err
	}
	for _, j := range journals {
		if j.Phase != restore.Done {
			k.busy[j.Archive] = "a restore from it has not come to its end"
		}
	}
	if k.stopped, err = a.stopped(ctx, site, k.verdicts); err != nil {
		return nil, err
	}
	k.silences, err = a.silences(ctx, site)
	return k, err
}

// stopped are the reasons for which nothing of a site is removed now: alarms
// that nobody has accepted.
func (a *Agent) stopped(ctx context.Context, site string, v verdicts) ([]string, error) {
	open, err := a.History.Alarms(ctx, site)
	var reasons []string
	accepted := false
	for _, o := range open {
		m, _ := alarm.Meant(o.Kind)
		if o.Kind == alarm.Damaged {
			accepted = !o.Accepted.IsZero()
			continue
		}
		if m.Stops && o.Accepted.IsZero() {
			reasons = append(reasons, fmt.Sprintf("alarm %s: %s", o.Kind, o.Detail))
		}
	}
	archives, listErr := a.History.Archives(ctx, site)
	for _, h := range archives {
		if stores := v.bad[h.Name]; len(stores) > 0 && h.Exists() && !accepted {
			reasons = append(reasons, fmt.Sprintf("%s is damaged in %s", h.Name, strings.Join(stores, ", ")))
		}
	}
	return reasons, errors.Join(err, listErr)
}

const (
	// quietDays is the least time without a run that counts as a silence for a
	// site with a schedule, quietSeason for one that is backed up by hand.
	quietDays   = 3 * 24 * time.Hour
	quietSeason = 100 * 24 * time.Hour
)

// silences are the times in which a site's archives do not age: far longer than
// its rhythm, with no run. The machine was off, or its clock has jumped.
func (a *Agent) silences(ctx context.Context, site string) ([]retention.Silence, error) {
	known, err := a.History.Silences(ctx)
	cfg := a.Config.Sites[site]
	rhythm := time.Duration(0)
	for _, d := range a.duties(site) {
		if d.Work.Takes() {
			rhythm = max(rhythm, d.Longest(a.Now(), a.Config.Zone(cfg)))
		}
	}
	usual := quietSeason
	if rhythm > 0 {
		usual = max(quietDays, 2*rhythm)
	}
	var all []retention.Silence
	for _, s := range known {
		if s.Ended.Sub(s.Began) > usual {
			all = append(all, retention.Silence{From: s.Began, To: s.Ended})
		}
	}
	return all, err
}

// decide judges a site's archives in one store.
func (k *keeping) decide(ctx context.Context, store string) StoreRetention {
	r := StoreRetention{Elsewhere: k.agent.Config.Stores[store].KeptElsewhere(), Site: k.site, Store: store, Rules: []string{}, Archives: []Decision{}, Stopped: slices.Clone(k.stopped), Removed: []string{}}
	rules := k.agent.Config.KeepIn(k.site, store)
	for _, rule := range rules {
		r.Rules = append(r.Rules, rule.String())
	}
	for _, b := range append(slices.Clone(k.listing.Silent), k.listing.Broken...) {
		if b.Store == store {
			r.Stopped = append(r.Stopped, b.Err.Error())
		}
	}
	known := k.facts
	known.holds = maps.Clone(k.holds)
	if len(r.Stopped) == 0 {
		there, err := catalog.Holds(ctx, k.agent.Store(store), k.site)
		if err != nil {
			r.Stopped = append(r.Stopped, err.Error())
		} else {
			k.tellHolds(ctx, store, there)
		}
		maps.Copy(known.holds, there)
	}
	var archives []retention.Archive
	for _, h := range k.listing.Archives {
		if slices.Contains(StoreNames(h.Stores), store) {
			archives = append(archives, known.candidate(h.Name, string(h.Scope), h.Taken, store))
		}
	}
	r.Archives, r.Stopped = k.agent.plan(k.site, archives, rules, k.silences, r.Stopped)
	return r
}

// tellHolds sets the holds in a store that could not be told of them before.
func (k *keeping) tellHolds(ctx context.Context, store string, there map[string]archive.Hold) {
	for _, h := range k.listing.Archives {
		hold, held := k.holds[h.Name]
		if _, known := there[h.Name]; !held || known || !slices.Contains(StoreNames(h.Stores), store) {
			continue
		}
		if err := catalog.PutHold(ctx, k.agent.Store(store), k.site, hold); err != nil {
			k.agent.warnf("store %s does not know of the hold on %s: %w", store, h.Name, err)
		}
	}
}

// facts are what protects archives from keep rules, whatever the store.
type facts struct {
	holds   map[string]archive.Hold
	pending map[string][]string
	// busy names archives that something depends on, and what.
	busy map[string]string
	verdicts
}

// candidate is what the decision about an archive in a store depends on. holds are
// those that are known in that store.
func (f facts) candidate(name, scope string, taken time.Time, store string) retention.Archive {
	c := retention.Archive{Name: name, Scope: scope, Taken: taken, Bad: f.damagedIn(name, store)}
	switch hold, held := f.holds[name]; {
	case held:
		c.Protected = "it is held"
		if hold.Why != "" {
			c.Protected += ": " + hold.Why
		}
	case len(f.pending[name]) > 0:
		c.Protected = "it has yet to come to " + strings.Join(f.pending[name], ", ")
	case f.busy[name] != "":
		c.Protected = f.busy[name]
	}
	return c
}

// plan applies keep rules. Reasons to remove nothing are returned only when
// something would go without them.
func (a *Agent) plan(site string, archives []retention.Archive, rules []retention.Rule, silences []retention.Silence, stopped []string) ([]Decision, []string) {
	p := retention.Policy{Rules: rules, Now: a.Now(), Zone: a.Config.Zone(a.Config.Sites[site]), Silences: silences, Stopped: stopped}
	all := []Decision{}
	held := false
	for _, d := range retention.Plan(archives, p) {
		all = append(all, Decision{Name: d.Name, Taken: d.Taken, Scope: d.Scope, Keep: d.Keep, Why: d.Why})
		held = held || d.Stopped
	}
	if !held {
		stopped = []string{}
	}
	return all, stopped
}

// remove takes archives out of a store.
func (a *Agent) remove(ctx context.Context, r *StoreRetention, k *keeping, going []string) error {
	recent, err := a.recentIn(ctx, r.Site, r.Store)
	if err != nil {
		return err
	}
	job := removal.Job{Site: r.Site, Store: a.Store(r.Store), Archives: going, Recent: recent, Machine: storelock.Machine(a.State.Dir), Records: &a.records}
	result, err := a.removed(ctx, job, "no keep rule kept it")
	r.Removed, r.Freed, r.Left = nonNil(result.Archives), result.Bytes, result.Left
	return errors.Join(err, a.forgetOpen(ctx, r.Site))
}

// removed takes archives out of a store, and has the history know of it before and after.
func (a *Agent) removed(ctx context.Context, job removal.Job, why string) (removal.Result, error) {
	for _, name := range job.Archives {
		if err := a.History.WillGo(ctx, name, job.Store.Name, why); err != nil {
			return removal.Result{}, err
		}
	}
	result, err := job.Run(ctx)
	for _, name := range result.Archives {
		err = errors.Join(err, a.History.WentFrom(ctx, name, job.Store.Name, a.Now(), why))
	}
	return result, err
}

// forgetOpen removes the open copies of records whose archives are gone.
func (a *Agent) forgetOpen(ctx context.Context, site string) error {
	names, err := a.Disk.ReadNames(a.State.Records(site))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	known, err := a.History.Archives(ctx, site)
	if err != nil {
		return err
	}
	for _, h := range known {
		if file := h.Name + ".json"; !h.Exists() && slices.Contains(names, file) {
			err = errors.Join(err, a.Disk.Remove(filepath.Join(a.State.Records(site), file)))
		}
	}
	return err
}

// Retain shows what the keep rules make of a site's archives, in every store or in
// one, and removes what goes if apply is set; the removal is remembered.
func (a *Agent) Retain(ctx context.Context, site, store string, apply bool) (all []StoreRetention, err error) {
	run := history.Run{Site: site}
	if apply {
		run.Command = "retention"
	}
	err = a.work(ctx, &run, func(ctx context.Context, run *history.Run) (err error) {
		all, err = a.retain(ctx, site, store, apply)
		run.Log = a.Words(all)
		return err
	})
	return all, err
}
