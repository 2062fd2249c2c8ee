package jobs

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/config"
	"revlet/internal/platform/reason"
	"revlet/internal/store"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/report"
)

// StorePage is the state of all sites that keep archives in a store, as their records there tell it: neither their
// machines nor other stores are asked. like are names or patterns of sites; none means all.
func (a *Agent) StorePage(ctx context.Context, storeName string, like []string) (report.Page, error) {
	host, _ := os.Hostname()
	p := report.Page{Made: a.Now(), Host: host, Program: a.Program, Sites: []report.Site{}, Unsent: []string{}, Store: storeName, NotKnown: map[string]string{}}
	if err := a.KnownStore(storeName); err != nil {
		return p, err
	}
	s := a.Store(storeName)
	if err := s.Check(ctx); err != nil {
		return p, fmt.Errorf("store %s: %w", storeName, err)
	}
	names, err := s.Folders(ctx, "")
	if err != nil {
		return p, fmt.Errorf("store %s: %w", storeName, err)
	}
	slices.Sort(names)
	for _, name := range names {
		if !config.ValidName(name) || !chosenBy(like, name) {
			continue
		}
		site, err := a.siteIn(ctx, s, name)
		switch {
		case ctx.Err() != nil:
			return p, err
		case err != nil:
			p.NotKnown[name] = err.Error()
		case site != nil:
			p.Sites = append(p.Sites, *site)
		}
	}
	if len(p.Sites)+len(p.NotKnown) == 0 && len(like) > 0 {
		return p, reason.BadUsage("no site in store %s is called %s", storeName, strings.Join(like, " or "))
	}
	return p.In(a.Config.Zone(config.Site{})), nil
}

// chosenBy tells whether a name is one of some, or matches a pattern of them; no names choose all.
func chosenBy(like []string, name string) bool {
	return len(like) == 0 || slices.ContainsFunc(like, func(pattern string) bool {
		ok, err := path.Match(pattern, name)
		return pattern == name || err == nil && ok
	})
}

// siteIn describes a site that has a folder in a store; nil if the folder is of something else.
func (a *Agent) siteIn(ctx context.Context, s store.Named, name string) (*report.Site, error) {
	l, err := catalog.List(ctx, []store.Named{s}, name, catalog.Options{Keys: a.Keys, Cache: &a.records})
	if err != nil || len(l.Archives)+len(l.Broken) == 0 {
		return nil, err
	}
	return a.siteFromStore(s, name, l)
}

// siteFromStore describes a site by the records of one store. What could not be read is an error: nothing is said
// of a site that is known by half.
func (a *Agent) siteFromStore(s store.Named, name string, l *catalog.Listing) (*report.Site, error) {
	site := &report.Site{Name: name, Stores: []report.Store{}, Alarms: []report.Alarm{}, Duties: []report.Duty{}, Pending: []string{}, Unseen: []string{}, Runs: []report.Run{}, Archives: []report.Archive{}}
	var broken []string
	for _, b := range l.Broken {
		if b.Verdict() == catalog.NotReached {
			return nil, fmt.Errorf("store %s: %w", s.Name, b.Err)
		}
		broken = append(broken, b.Name)
	}
	for i, h := range l.Archives {
		line := archiveLine(h.Record)
		one := reportedArchive(line)
		one.Stores, one.Kept = []string{s.Name}, map[string][]string{s.Name: {"as its own machine keeps it"}}
		site.Archives = append(site.Archives, one)
		if i == 0 {
			site.Machine, site.Address = h.Host, h.Origin.Address
		}
	}
	now := a.Now()
	for i := range site.Archives {
		one := &site.Archives[i]
		if one.Taken.After(now.Add(time.Hour)) {
			continue
		}
		if site.Newest == nil || archive.Scope(site.Newest.Scope).ByHand() && !archive.Scope(one.Scope).ByHand() {
			site.Newest = one
		}
		if site.NewestFull == nil && one.Scope == string(archive.Full) {
			site.NewestFull = one
		}
	}
	site.Offsite = s.Offsite() && site.Newest != nil
	where := report.Store{Name: s.Name, Where: s.Where(), Offsite: s.Offsite(), Archives: len(l.Archives), Rules: []string{}}
	if site.Newest != nil {
		where.Newest = &site.Newest.Taken
	}
	site.Stores = append(site.Stores, where)
	for _, found := range []struct{ kind, detail, do string }{
		{alarm.Overdue, alarm.OutOfRhythm(site.Archives, now), "look at the machine " + site.Machine + ": what takes the archives there has stopped, or cannot reach this store"},
		{alarm.WrongClock, fromTheFuture(site.Archives, now), a.remedy(alarm.WrongClock)},
		{alarm.Damaged, alarm.Some(broken, 5), a.remedy(alarm.Damaged)},
		{alarm.Forged, oddlySigned(l), "if a machine was replaced, or several keep the site, that is right; if not, somebody else writes into this store"},
	} {
		if found.detail != "" {
			m, _ := alarm.Meant(found.kind)
			site.Alarms = append(site.Alarms, report.Alarm{Kind: found.kind, Since: now, Detail: found.detail, Why: m.Why, Do: found.do})
		}
	}
	return site, nil
}

func (a *Agent) remedy(kind string) string {
	if a.Remedy == nil {
		return ""
	}
	return a.Remedy(kind)
}

// fromTheFuture names archives that claim to be younger than they can be.
func fromTheFuture(all []report.Archive, now time.Time) string {
	var names []string
	for _, one := range all {
		if one.Taken.After(now.Add(time.Hour)) {
			names = append(names, one.Name)
		}
	}
	return alarm.Some(names, 5)
}

// oddlySigned says that archives were signed by nobody, or by several.
func oddlySigned(l *catalog.Listing) string {
	var all []string
	signed := 0
	rows := l.Rows()
	for _, r := range rows {
		signed += r.Archives
	}
	if n := len(l.Archives) - signed; n > 0 {
		all = append(all, fmt.Sprintf("of %d archives %d were signed by nobody", len(l.Archives), n))
	}
	if len(rows) > 1 {
		var by []string
		for _, r := range rows {
			by = append(by, fmt.Sprintf("%s (%s), %d archives", r.Signer.Fingerprint(), r.Host, r.Archives))
		}
		all = append(all, "they were signed by several: "+alarm.Some(by, 4))
	}
	return strings.Join(all, "; ")
}

// CompareWithLast says what is otherwise on a page than in the last report of the same, and remembers this one.
// What is remembered and cannot be read is as good as nothing.
func (a *Agent) CompareWithLast(p *report.Page) error {
	file := a.State.Report(p.Store)
	var last report.Summary
	if data, err := a.Disk.ReadFile(file); err == nil && json.Unmarshal(data, &last) == nil && !last.Made.IsZero() {
		p.Changes = p.Since(last)
	}
	data, err := json.Marshal(p.Summary())
	if err == nil {
		err = a.Disk.MkdirAll(filepath.Dir(file), 0o700)
	}
	if err == nil {
		err = a.Disk.WriteFile(file, data, 0o600)
	}
	if err != nil {
		return fmt.Errorf("remember this report for the next: %w", err)
	}
	return nil
}
