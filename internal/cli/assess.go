package cli

import (
	"context"
	"errors"
	"os"
	"slices"
	"time"

	"revlet/internal/alarm"
	"revlet/internal/config"
	"revlet/internal/history"
	"revlet/internal/report"
	"revlet/internal/retention"
	"revlet/internal/schedule"
)

// runsShown is how many runs a report lists.
const runsShown = 20

// known is everything that the history tells of a site.
type known struct {
	alarm.Facts
	cfg   config.Site
	holds map[string]bool
	runs  []history.Run
}

// knownOf gathers what is known of a site, without asking its stores.
func (a *app) knownOf(ctx context.Context, name string) (*known, error) {
	cfg := a.config.Sites[name]
	k := &known{cfg: cfg, holds: map[string]bool{}}
	k.Now, k.Zone, k.Spread, k.Duties = a.now(), a.config.Zone(cfg), schedule.SpreadOf(name), cfg.Duties
	var errs [7]error
	k.States, errs[0] = a.dutyStates(ctx, name)
	k.Archives, errs[1] = a.history.Archives(ctx, name)
	k.Bad, errs[2] = a.damagedCopies(ctx)
	k.Proofs, errs[3] = a.history.Proofs(ctx)
	k.Pending, errs[4] = a.history.Pending(ctx, name)
	k.Rehearsed, errs[5] = a.history.LastRehearsal(ctx, name)
	k.KeyUntried, errs[6] = a.untriedKey(ctx)
	if err := errors.Join(errs[:]...); err != nil {
		return nil, err
	}
	holds, err := a.history.Holds(ctx)
	if err != nil {
		return nil, err
	}
	for held := range holds {
		k.holds[held] = true
	}
	restores, err := a.history.Runs(ctx, history.RunFilter{Site: name, Command: "restore", Outcome: history.Done, Most: 1})
	if err != nil {
		return nil, err
	}
	if len(restores) > 0 {
		k.Restored = restores[0].Finished
	}
	for _, s := range cfg.Stores {
		k.Stores = append(k.Stores, alarm.Store{Name: s, Offsite: a.store(s).Offsite(), Free: a.free(s)})
	}
	k.runs, err = a.history.Runs(ctx, history.RunFilter{Site: name, Most: runsShown})
	return k, err
}

// free is how many bytes a store on this machine has room for, or -1.
func (a *app) free(store string) int64 {
	folder := a.config.Stores[store].Folder
	if folder == "" {
		return -1
	}
	n, err := a.disk.Free(folder)
	if err != nil {
		return -1
	}
	return n
}

// good tells whether an archive can be restored from: some store has it, not
// damaged as far as is known.
func (k *known) good(h history.Archive) bool {
	return slices.ContainsFunc(h.Copies, func(c history.Copy) bool { return c.Gone.IsZero() && !slices.Contains(k.Bad[h.Name], c.Store) })
}

// assess looks for alarms of a site, remembers them, and returns its state.
func (a *app) assess(ctx context.Context, name string) (*report.Site, error) {
	k, err := a.knownOf(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := a.history.SetAlarms(ctx, name, alarm.State(k.Facts), a.now()); err != nil {
		return nil, err
	}
	s := &report.Site{Name: name, Address: k.cfg.Address, Stores: []report.Store{}, Alarms: []report.Alarm{}, Duties: []report.Duty{}, Pending: []string{}, Runs: []report.Run{}}
	if s.Archives, err = a.reportArchives(ctx, name, k); err != nil {
		return nil, err
	}
	k.newest(s)
	open, err := a.history.Alarms(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, o := range open {
		m, _ := alarm.Meant(o.Kind)
		s.Alarms = append(s.Alarms, report.Alarm{Kind: o.Kind, Since: o.Since, Detail: o.Detail, Why: m.Why, Do: m.Do, Accepted: moment(o.Accepted), By: o.Who, Because: o.Why})
	}
	lines, err := a.dutyLines(ctx, name, 1)
	if err != nil {
		return nil, err
	}
	for _, l := range lines {
		d := report.Duty{Duty: l.Duty, Last: l.Last, Outcome: l.Outcome}
		if len(l.Next) > 0 {
			d.Next = &l.Next[0]
		}
		s.Duties = append(s.Duties, d)
	}
	for _, r := range k.runs {
		s.Runs = append(s.Runs, report.RunOf(r))
	}
	a.reportStores(s, k)
	return s, nil
}

// moment is a time, or nil for the zero time.
func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// newest fills in what the newest good archives tell.
func (k *known) newest(s *report.Site) {
	s.Restored = moment(k.Restored)
	if k.Rehearsed != nil {
		s.Rehearsed = &k.Rehearsed.At
	}
	for i, h := range k.Archives {
		for _, p := range k.Proofs[h.Name] {
			if p.Level != "quick" && p.Sound && (s.Verified == nil || p.At.After(*s.Verified)) {
				s.Verified = &p.At
			}
		}
		if !k.good(h) || h.Taken.After(k.Now.Add(time.Hour)) {
			continue
		}
		if s.Newest == nil {
			s.Newest = &s.Archives[i]
		}
		if s.NewestFull == nil && h.Scope == string(schedule.Full) {
			s.NewestFull = &s.Archives[i]
		}
		s.Offsite = s.Offsite || slices.ContainsFunc(k.Stores, func(st alarm.Store) bool { return st.Offsite && h.In(st.Name) })
	}
	for _, p := range k.Pending {
		if !slices.Contains(s.Pending, p.Store) {
			s.Pending = append(s.Pending, p.Store)
		}
	}
}

// reportArchives are a site's archives with why each is kept where.
func (a *app) reportArchives(ctx context.Context, name string, k *known) ([]report.Archive, error) {
	all := []report.Archive{}
	at := map[string]int{}
	for i, h := range k.Archives {
		at[h.Name] = i
		one := report.Archive{Name: h.Name, Taken: h.Taken, Scope: h.Scope, Note: h.Note, Seconds: max(h.Finished.Sub(h.Taken).Seconds(), 0), Files: h.Files, FileBytes: h.FileBytes,
			DatabaseBytes: h.DatabaseBytes, StoredBytes: h.StoredBytes, NewBytes: h.NewBytes, Gaps: h.Gaps, Stores: []string{}, Held: k.holds[h.Name], Kept: map[string][]string{}}
		for _, c := range h.Copies {
			if c.Gone.IsZero() {
				one.Stores = append(one.Stores, c.Store)
				one.Damage = one.Damage || slices.Contains(k.Bad[h.Name], c.Store)
			}
		}
		all = append(all, one)
	}
	stopped, err := a.stopped(ctx, name, k.Bad)
	if err != nil {
		return nil, err
	}
	silences, err := a.silences(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, store := range k.cfg.Stores {
		decisions, _ := a.plan(name, k.candidates(store), a.config.KeepIn(name, store), silences, stopped)
		for _, d := range decisions {
			if d.Keep {
				all[at[d.Name]].Kept[store] = d.Why
			}
		}
	}
	return all, nil
}

// candidates are the archives of a store as the keep rules see them.
func (k *known) candidates(store string) []retention.Archive {
	var all []retention.Archive
	for _, h := range k.Archives {
		if !h.In(store) {
			continue
		}
		c := retention.Archive{Name: h.Name, Scope: h.Scope, Taken: h.Taken, Bad: slices.Contains(k.Bad[h.Name], store)}
		switch {
		case k.holds[h.Name]:
			c.Protected = "it is held"
		case slices.ContainsFunc(k.Pending, func(p history.Pending) bool { return p.Archive == h.Name }):
			c.Protected = "it has yet to come to another store"
		}
		all = append(all, c)
	}
	return all
}

// reportStores fills in the stores of a site.
func (a *app) reportStores(s *report.Site, k *known) {
	for _, st := range k.Stores {
		one := report.Store{Name: st.Name, Where: a.store(st.Name).Where(), Offsite: st.Offsite, Rules: []string{}}
		for _, h := range k.Archives {
			if h.In(st.Name) {
				one.Archives++
				if one.Newest == nil {
					one.Newest = &h.Taken
				}
			}
		}
		if st.Free >= 0 {
			one.Free, one.FullOn = &st.Free, moment(k.FullOn(st))
		}
		for _, r := range a.config.KeepIn(s.Name, st.Name) {
			one.Rules = append(one.Rules, r.String())
		}
		s.Stores = append(s.Stores, one)
	}
}

// page is the state of sites.
func (a *app) page(ctx context.Context, names []string) (report.Page, error) {
	host, _ := os.Hostname()
	p := report.Page{Made: a.now(), Host: host, Program: "revlet " + Version, Sites: []report.Site{}, Unsent: []string{}}
	for _, name := range names {
		s, err := a.assess(ctx, name)
		if err != nil {
			return p, err
		}
		p.Sites = append(p.Sites, *s)
	}
	waiting, err := a.history.Unsent(ctx)
	for _, m := range waiting {
		if m.Tries > 0 {
			p.Unsent = append(p.Unsent, m.Channel+" “"+m.Title+"”: "+m.Error)
		}
	}
	return p.In(a.config.Zone(config.Site{})), err
}
