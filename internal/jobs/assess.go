package jobs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/config"
	"revlet/internal/platform/reason"
	"revlet/internal/rules/retention"
	"revlet/internal/rules/schedule"
	"revlet/internal/store/marked"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
	"revlet/internal/watch/report"
)

// runsShown is how many runs a report lists.
const runsShown = 20

// known is everything that the history tells of a site.
type known struct {
	alarm.Facts
	cfg   config.Site
	facts facts
}

// knownOf gathers what is known of a site, without asking its stores.
func (a *Agent) knownOf(ctx context.Context, name string) (*known, error) {
	cfg := a.Config.Sites[name]
	k := &known{cfg: cfg}
	k.Now, k.Zone, k.Spread, k.Duties = a.Now(), a.Config.Zone(cfg), schedule.SpreadOf(name), a.duties(name)
	places, placesErr := a.readDatabasePlaces(name)
	k.DatabaseMoved = places.moved()
	oldDump, dumpErr := a.oldDumps(name, cfg)
	k.DumpOld = oldDump
	var forgedErr, outsideErr error
	k.Forged, forgedErr = a.forged(name)
	k.LeadsOut, outsideErr = a.remarked(a.State.Outside(name))
	var errs [7]error
	k.States, errs[0] = a.dutyStates(ctx, name)
	k.Archives, errs[1] = a.History.Archives(ctx, name)
	k.facts.verdicts, errs[2] = a.verdicts(ctx)
	k.facts.pending, errs[3] = a.pending(ctx, name)
	k.Pending, errs[4] = a.History.Pending(ctx, name)
	k.Rehearsed, errs[5] = a.History.LastRehearsal(ctx, name)
	k.KeyUntried, errs[6] = a.untriedKey(ctx)
	if err := errors.Join(placesErr, dumpErr, forgedErr, outsideErr, errors.Join(errs[:]...)); err != nil {
		return nil, err
	}
	k.Bad, k.Proofs = k.facts.bad, k.facts.proofs
	var err error
	if k.facts.holds, err = a.History.Holds(ctx); err != nil {
		return nil, err
	}
	restores, err := a.History.Runs(ctx, history.RunFilter{Site: name, Command: "restore", Outcome: history.Done, Most: 1})
	if err != nil {
		return nil, err
	}
	if len(restores) > 0 {
		k.Restored = restores[0].Finished
	}
	for _, s := range cfg.Stores {
		k.Stores = append(k.Stores, alarm.Store{Name: s, Offsite: a.offsite(cfg, s), Free: a.free(s), Lost: a.lost(ctx, s)})
	}
	k.NotLinked = a.notLinked(cfg)
	k.Runs, err = a.History.Runs(ctx, history.RunFilter{Site: name, Most: runsShown})
	return k, err
}

// lost says why a store on this machine is not the one that it was, or nothing. Others
// are not asked for that alone.
func (a *Agent) lost(ctx context.Context, name string) string {
	s := a.Store(name)
	if s.Offsite() {
		return ""
	}
	if _, err := s.Stat(ctx, marked.Name); errors.Is(err, marked.ErrNotThatStore) {
		return err.Error()
	}
	return ""
}

// notLinked says which stores of a site somebody has to link, as far as that is known here, or nothing.
func (a *Agent) notLinked(cfg config.Site) string {
	var all []string
	for _, name := range cfg.Stores {
		if entry := a.Config.Stores[name]; entry.Link != nil {
			l, err := a.Opener().Link(name, entry)
			if err != nil {
				all = append(all, err.Error())
			} else if why := l.Trouble(); why != "" {
				all = append(all, why)
			}
		}
	}
	return strings.Join(all, "; ")
}

// free is how many bytes a store on this machine has room for, or -1.
func (a *Agent) free(store string) int64 {
	folder := a.Config.Stores[store].Folder
	if folder == "" {
		return -1
	}
	n, err := a.Disk.Free(folder)
	if err != nil {
		return -1
	}
	return n
}

// assess looks for alarms of a site, remembers them, and returns its state.
func (a *Agent) assess(ctx context.Context, name string) (*report.Site, error) {
	k, err := a.knownOf(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := a.History.SetAlarms(ctx, name, alarm.State(k.Facts), a.Now()); err != nil {
		return nil, err
	}
	s := &report.Site{Name: name, Address: k.cfg.Address, Stores: []report.Store{}, Alarms: []report.Alarm{}, Duties: []report.Duty{}, Pending: []string{}, Runs: []report.Run{}}
	if s.Archives, err = a.reportArchives(ctx, name, k); err != nil {
		return nil, err
	}
	k.newest(s)
	if s.Unseen, err = a.unseen(ctx, name); err != nil {
		return nil, err
	}
	open, err := a.History.Alarms(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, o := range open {
		m, _ := alarm.Meant(o.Kind)
		s.Alarms = append(s.Alarms, report.Alarm{Kind: o.Kind, Since: o.Since, Detail: o.Detail, Why: m.Why, Do: a.Remedy(o.Kind), Accepted: moment(o.Accepted), By: o.Who, Because: o.Why})
	}
	lines, err := a.Duties(ctx, name, 1)
	if err != nil {
		return nil, err
	}
	done, err := a.History.LastDone(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, l := range lines {
		d := report.Duty{Duty: l.Duty, Last: l.Last, Outcome: l.Outcome, LastDone: moment(done[l.Duty])}
		if len(l.Next) > 0 {
			d.Next = &l.Next[0]
		}
		s.Duties = append(s.Duties, d)
	}
	for _, r := range k.Runs {
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
		if !k.facts.goodKnown(h) || h.Taken.After(k.Now.Add(time.Hour)) {
			continue
		}
		if s.Newest == nil || archive.Scope(s.Newest.Scope).ByHand() && !archive.Scope(h.Scope).ByHand() {
			s.Newest = &s.Archives[i] // one that was packed by hand counts where there is no other
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
func (a *Agent) reportArchives(ctx context.Context, name string, k *known) ([]report.Archive, error) {
	all := []report.Archive{}
	at := map[string]int{}
	for i, h := range k.Archives {
		at[h.Name] = i
		one := reportedArchive(h)
		_, one.Held = k.facts.holds[h.Name]
		for _, store := range existing(h) {
			one.Stores = append(one.Stores, store)
			one.Damage = one.Damage || k.facts.damagedIn(h.Name, store)
		}
		all = append(all, one)
	}
	stopped, err := a.stopped(ctx, name, k.facts.verdicts)
	if err != nil {
		return nil, err
	}
	silences, err := a.silences(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, store := range k.cfg.Stores {
		decisions, _ := a.plan(name, k.candidates(store), a.Config.KeepIn(name, store), silences, stopped)
		for _, d := range decisions {
			if d.Keep {
				all[at[d.Name]].Kept[store] = d.Why
			}
		}
	}
	return all, nil
}

// reportedArchive is a line of the history as a report has it, but for where it is and why.
func reportedArchive(h history.Archive) report.Archive {
	return report.Archive{Name: h.Name, Taken: h.Taken, Scope: h.Scope, Note: h.Note, Seconds: max(h.Finished.Sub(h.Taken).Seconds(), 0), Files: h.Files, FileBytes: h.FileBytes,
		DatabaseBytes: h.DatabaseBytes, StoredBytes: h.StoredBytes, NewBytes: h.NewBytes, Gaps: h.Gaps, Stores: []string{}, Kept: map[string][]string{}}
}

// candidates are the archives of a store as the keep rules see them.
func (k *known) candidates(store string) []retention.Archive {
	var all []retention.Archive
	for _, h := range k.Archives {
		if h.In(store) {
			all = append(all, k.facts.candidate(h.Name, h.Scope, h.Taken, store))
		}
	}
	return all
}

// reportStores fills in the stores of a site.
func (a *Agent) reportStores(s *report.Site, k *known) {
	for _, st := range k.Stores {
		one := report.Store{Name: st.Name, Where: a.Store(st.Name).Where(), Offsite: st.Offsite, Rules: []string{}}
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
		for _, r := range a.Config.KeepIn(s.Name, st.Name) {
			one.Rules = append(one.Rules, r.String())
		}
		s.Stores = append(s.Stores, one)
	}
}

// toLookAt tells whether a site's stores have to be asked before anything is said of it: no archive is known, and one of them has never
// said what it has. Those in silent do not answer.
func (a *Agent) toLookAt(ctx context.Context, name string, silent map[string]bool) (bool, error) {
	known, err := a.History.Archives(ctx, name)
	if err != nil || slices.ContainsFunc(known, func(k history.Archive) bool { return k.Exists() }) {
		return false, err
	}
	unseen, err := a.unseen(ctx, name)
	return slices.ContainsFunc(unseen, func(store string) bool { return !silent[store] }), err
}

// Page is the state of sites, as far as this machine knows; look asks their stores
// first.
func (a *Agent) Page(ctx context.Context, names []string, look bool) (report.Page, error) {
	silent := map[string]bool{}
	for _, name := range names {
		wanted, err := a.toLookAt(ctx, name, silent)
		if err != nil {
			return report.Page{}, err
		}
		if !look && !wanted {
			continue
		}
		l, err := a.List(ctx, name)
		if err != nil {
			a.warn(err)
			for _, store := range a.Config.Sites[name].Stores {
				silent[store] = true
			}
			continue
		}
		for _, b := range l.Silent {
			silent[b.Store] = true
			a.Tell(StoreSilent{Store: b.Store, Err: b.Err})
		}
	}
	host, _ := os.Hostname()
	p := report.Page{Made: a.Now(), Host: host, Program: a.Program, Sites: []report.Site{}, Unsent: []string{}}
	for _, name := range names {
		s, err := a.assess(ctx, name)
		if err != nil {
			return p, err
		}
		p.Sites = append(p.Sites, *s)
	}
	waiting, err := a.History.Unsent(ctx)
	for _, m := range waiting {
		if m.Tries > 0 {
			p.Unsent = append(p.Unsent, m.Channel+" “"+m.Title+"”: "+m.Error)
		}
	}
	return p.In(a.Config.Zone(config.Site{})), err
}

// Accept records that a person has looked at an alarm of a site and says that it
// may be so.
func (a *Agent) Accept(ctx context.Context, site, kind, why string) error {
	if _, err := a.SiteConfig(site); err != nil {
		return err
	}
	if _, known := alarm.Meant(kind); !known {
		return reason.BadUsage("there is no alarm %q; there are %s", kind, strings.Join(alarm.Kinds(), ", "))
	}
	if _, err := a.assess(ctx, site); err != nil {
		return err
	}
	n, err := a.History.Accept(ctx, site, kind, a.Person, why, a.Now())
	if err != nil {
		return err
	}
	if n == 0 {
		return reason.BadUsage("site %s has no alarm %s that is open", site, kind)
	}
	if kind == alarm.DatabaseMoved {
		if err := a.databasesAccepted(ctx, site); err != nil {
			return err
		}
	}
	a.remember(ctx, history.Run{Site: site, Command: "accept", Started: a.Now(), Outcome: history.Done, Detail: kind + ": " + why})
	return nil
}

// Remembered is what this machine has ever known of a site's archives, newest
// first; those that are gone too.
func (a *Agent) Remembered(ctx context.Context, name string) ([]history.Archive, []report.Archive, error) {
	k, err := a.knownOf(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	archives, err := a.reportArchives(ctx, name, k)
	return k.Archives, archives, err
}

// Brand is how a site's own page of a report looks.
func (a *Agent) Brand(name string) (*report.Brand, error) {
	cfg := a.Config.Sites[name]
	b := &report.Brand{Title: name}
	if cfg.Report == nil {
		return b, nil
	}
	b.Title, b.Colour = cmp.Or(cfg.Report.Title, name), cfg.Report.Colour
	if cfg.Report.Logo == "" {
		return b, nil
	}
	f, err := a.Disk.OpenRegular(cfg.Report.Logo)
	if err != nil {
		return nil, fmt.Errorf("site %s: `report: {logo: …}`: %w", name, err)
	}
	defer f.Close()
	if b.Logo, err = report.ReadLogo(f); err != nil {
		return nil, fmt.Errorf("site %s: `report: {logo: %s}`: %w", name, cfg.Report.Logo, err)
	}
	return b, nil
}
