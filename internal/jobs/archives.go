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
	"revlet/internal/archives/catalog"
	"revlet/internal/rules/retention"
	"revlet/internal/site"
	"revlet/internal/watch/alarm"
	"revlet/internal/watch/history"
	"revlet/internal/work/backup"
)

// List reads the archives of a site, newest first, and has the history know of
// them; those that nobody known has signed are among the broken ones. Encrypted records are opened as far as that needs nobody to be asked.
func (a *Agent) List(ctx context.Context, name string) (*catalog.Listing, error) {
	s, err := a.trust(ctx, name)
	if err != nil {
		return nil, err
	}
	l, err := catalog.List(ctx, a.Stores(a.Config.Sites[name]), name, catalog.Options{Keys: a.Keys,
		Known: a.openRecord, Trust: s.check, Cache: &a.records})
	if err != nil {
		return nil, err
	}
	if err := errors.Join(a.know(ctx, name, l), a.noticeForged(name, l)); err != nil {
		a.warn(err)
	}
	return l, nil
}

// openRecord is the open copy of an encrypted archive's record, or nil.
func (a *Agent) openRecord(site, name string) *archive.Record {
	return backup.KeptOpen(a.State, site, name)
}

// know has the history agree with what the stores hold.
func (a *Agent) know(ctx context.Context, site string, l *catalog.Listing) error {
	known, err := a.History.Archives(ctx, site)
	if err != nil {
		return err
	}
	at := map[string]*history.Archive{}
	for i := range known {
		at[known[i].Name] = &known[i]
	}
	listed := map[[2]string]bool{}
	for _, h := range l.Archives {
		var fresh []string
		for _, s := range h.Stores {
			listed[[2]string{h.Name, s.Name}] = true
			if k := at[h.Name]; k == nil || !k.In(s.Name) {
				fresh = append(fresh, s.Name)
			} else if k.Going(s.Name) != "" {
				if err := a.History.WillGo(ctx, h.Name, s.Name, ""); err != nil { // it was not deleted after all
					return err
				}
			}
		}
		if at[h.Name] == nil || len(fresh) > 0 {
			if err := a.knowArchive(ctx, archiveLine(h.Record), fresh); err != nil {
				return err
			}
		}
		if len(fresh) > 0 {
			if err := a.History.Clear(ctx, site, alarm.Vanished, h.Name, a.Now()); err != nil {
				return err
			}
		}
		if at[h.Name] == nil && a.Signed(h.Record).How != SignerOwn {
			if err := a.History.Raise(ctx, site, alarm.OfArrival(archiveLine(h.Record), known, a.Now()), a.Now()); err != nil {
				return err
			}
		}
		if at[h.Name] == nil {
			if err := a.pendAfterCrash(ctx, site, h, known); err != nil {
				return err
			}
		}
	}
	if err := a.markSeen(ctx, site, l); err != nil {
		return err
	}
	return a.noticeMissing(ctx, site, known, func(k history.Archive, store string) bool {
		return listed[[2]string{k.Name, store}] || !a.answered(l, site, k.Name, store)
	})
}

// markSeen remembers which stores have said what they have of a site.
func (a *Agent) markSeen(ctx context.Context, site string, l *catalog.Listing) error {
	for _, store := range a.Config.Sites[site].Stores {
		if slices.ContainsFunc(append(slices.Clone(l.Silent), l.Broken...), func(b catalog.Broken) bool { return b.Store == store && b.Name == "" }) {
			continue
		}
		if err := a.History.Mark(ctx, seenMark(site, store), a.Now()); err != nil {
			return err
		}
	}
	return nil
}

func seenMark(site, store string) string { return "seen:" + site + "/" + store }

// unseen are the stores of a site that have never said what they have of it: an archive that is not known is not one that is not there.
func (a *Agent) unseen(ctx context.Context, site string) (all []string, err error) {
	all = []string{}
	for _, store := range a.Config.Sites[site].Stores {
		at, err := a.History.Marked(ctx, seenMark(site, store))
		if err != nil {
			return nil, err
		}
		if at.IsZero() {
			all = append(all, store)
		}
	}
	return all, nil
}

// foundMissing is why an archive is gone from a store that nobody should have removed there.
const foundMissing = "it was found missing"

// noticeMissing notes the archives that were in a store and are not there now, and raises
// an alarm about those that nobody should have removed.
func (a *Agent) noticeMissing(ctx context.Context, site string, known []history.Archive, there func(history.Archive, string) bool) error {
	var found []history.Finding
	for _, k := range known {
		var from []string
		for _, c := range k.Copies {
			if !c.Gone.IsZero() || there(k, c.Store) {
				continue
			}
			why := c.Why
			if why == "" && a.mayGo(site, known, k.Name, c.Store) {
				why = "the machine that keeps this store has removed it"
			}
			if why == "" {
				why = foundMissing
				from = append(from, c.Store)
			}
			if err := a.History.WentFrom(ctx, k.Name, c.Store, a.Now(), why); err != nil {
				return err
			}
		}
		if len(from) > 0 {
			found = append(found, history.Finding{Kind: alarm.Vanished, Archive: k.Name, Detail: fmt.Sprintf("%s is gone from %s, and this machine has not removed it", k.Name, strings.Join(from, " and "))})
		}
	}
	return a.History.Raise(ctx, site, found, a.Now())
}

// mayGo tells whether the keeper of a store may have removed an archive: where this
// machine is not the keeper, what the keep rules let go; without rules, all but the newest.
func (a *Agent) mayGo(site string, known []history.Archive, name, store string) bool {
	if !a.Config.Stores[store].KeptElsewhere() {
		return false
	}
	var candidates []retention.Archive
	for _, k := range known { // the newest first
		if k.In(store) {
			candidates = append(candidates, retention.Archive{Name: k.Name, Scope: k.Scope, Taken: k.Taken})
		}
	}
	rules := a.Config.KeepIn(site, store)
	if len(rules) == 0 {
		return len(candidates) > 0 && candidates[0].Name != name
	}
	decisions, _ := a.plan(site, candidates, rules, nil, nil)
	return slices.ContainsFunc(decisions, func(d Decision) bool { return d.Name == name && !d.Keep })
}

// pendAfterCrash notes that an archive, which the history learns of only now, has yet to
// come to stores that take archives of the site and lack it: a run that died did not
// come to note that.
func (a *Agent) pendAfterCrash(ctx context.Context, site string, h catalog.Held, known []history.Archive) error {
	host, err := os.Hostname()
	if err != nil || host != h.Host {
		return nil // another machine looks after its own
	}
	for _, s := range a.Config.Sites[site].Stores {
		older := slices.ContainsFunc(known, func(k history.Archive) bool { return k.Name < h.Name && k.In(s) })
		lacks := !slices.Contains(StoreNames(h.Stores), s)
		if lacks && older {
			if err := a.History.AddPending(ctx, history.Pending{Site: site, Archive: h.Name, Store: s, Since: a.Now(), Why: "the run that took it did not come to its end"}); err != nil {
				return err
			}
		}
	}
	return nil
}

// listingLag is how long after an archive was written a listing may not show it.
const listingLag = time.Hour

// answered tells whether it means anything that an archive is not listed in a
// store: the store was asked, could be read, and has had time to show it.
func (a *Agent) answered(l *catalog.Listing, site, archiveName, store string) bool {
	if !slices.Contains(a.Config.Sites[site].Stores, store) {
		return false
	}
	for _, b := range append(slices.Clone(l.Silent), l.Broken...) {
		if b.Store == store && (b.Name == "" || b.Name == archiveName) {
			return false
		}
	}
	_, taken, _ := archive.SplitName(archiveName)
	return !a.Store(store).Offsite() || a.Now().Sub(taken) > listingLag
}

func (a *Agent) knowArchive(ctx context.Context, line history.Archive, stores []string) error {
	if err := a.History.SetArchive(ctx, line); err != nil {
		return err
	}
	for _, s := range stores {
		if err := a.History.CameTo(ctx, line.Name, s, a.Now()); err != nil {
			return err
		}
	}
	return nil
}

// archiveLine is what the history keeps of an archive.
func archiveLine(r *archive.Record) history.Archive {
	return history.Archive{Name: r.Name, Site: r.Site, Taken: r.Taken, Finished: r.Finished, Scope: string(r.Scope), Note: r.Note, Files: r.Totals.Files,
		FileBytes: r.Totals.FileBytes, DatabaseBytes: r.Totals.DatabaseBytes, StoredBytes: r.Totals.StoredBytes, NewBytes: r.Totals.NewBytes, Gaps: len(r.Gaps), Version: r.Origin.Version}
}

// Listed is one archive in a listing.
type Listed struct {
	Name   string        `json:"name"`
	Site   string        `json:"site"`
	Taken  time.Time     `json:"taken"`
	Scope  archive.Scope `json:"scope"`
	Note   string        `json:"note"`
	Stored int64         `json:"stored_bytes"`
	New    int64         `json:"new_bytes"`
	Gaps   int           `json:"gaps"`
	Stores []string      `json:"stores"`
	// Pending are the stores that the archive has yet to come to.
	Pending []string `json:"pending"`
	// NotReached are stores that have it as far as this machine knows, and that did not
	// answer.
	NotReached []string `json:"not_reached"`
	// Held archives are exempt from the keep rules, as far as this machine knows.
	Held bool `json:"held"`
	// Encrypted archives whose record cannot be opened here have neither note
	// nor gaps to show; Sealed says so.
	Encrypted bool         `json:"encrypted"`
	Sealed    bool         `json:"sealed"`
	Verified  *ListedProof `json:"verified"`
	// Rehearsed is the last rehearsal; null when there was none.
	Rehearsed *ListedRehearsal `json:"rehearsed"`
	// SignedBy is the fingerprint of the key that has signed it, empty if none has.
	SignedBy string `json:"signed_by"`
}

// ListedRehearsal is the last rehearsal of an archive.
type ListedRehearsal struct {
	At     time.Time `json:"at"`
	Passed bool      `json:"passed"`
}

// ListedProof is the last proof of an archive, over all stores.
type ListedProof struct {
	Level string    `json:"level"`
	At    time.Time `json:"at"`
	Sound bool      `json:"sound"`
}

// Listing is the archives of some sites, newest first.
type Listing struct {
	Archives []Listed
	// Trouble are the stores and records that could not be read.
	Trouble []Trouble

	// unreached are the stores that archives lie in, and that did not answer.
	unreached map[string][]string
}

// Verdict is the worst that is known of what could not be listed.
func (l *Listing) Verdict() catalog.Verdict { return worst(l.Trouble) }

// Pending tells whether an archive has yet to come to a store.
func (l *Listing) Pending() bool {
	return slices.ContainsFunc(l.Archives, func(one Listed) bool { return len(one.Pending) > 0 })
}

// Trouble is a store, or a record in it, that could not be used.
type Trouble struct {
	Store string
	Err   error
}

// Verdict tells a damaged record from a store that was not reached.
func (t Trouble) Verdict() catalog.Verdict { return catalog.VerdictOf(t.Err) }

// worst is the worst verdict on some stores and records.
func worst(trouble []Trouble) catalog.Verdict {
	verdict := catalog.Sound
	for _, t := range trouble {
		switch t.Verdict() {
		case catalog.Damaged:
			return catalog.Damaged
		case catalog.NotReached:
			verdict = catalog.NotReached
		}
	}
	return verdict
}

// troubles are what a listing could not read.
func troubles(lists ...[]catalog.Broken) []Trouble {
	var all []Trouble
	for _, list := range lists {
		for _, b := range list {
			all = append(all, Trouble{b.Store, b.Err})
		}
	}
	return all
}

// Archives lists the archives of sites, with how well each is proved.
func (a *Agent) Archives(ctx context.Context, names []string) (*Listing, error) {
	v, err := a.verdicts(ctx)
	if err != nil {
		return nil, err
	}
	holds, err := a.History.Holds(ctx)
	if err != nil {
		return nil, err
	}
	rehearsals, err := a.History.Rehearsals(ctx)
	if err != nil {
		return nil, err
	}
	all := &Listing{}
	for _, name := range names {
		l, err := a.List(ctx, name)
		if ctx.Err() != nil {
			return nil, err
		}
		if err != nil { // none of its stores answers
			l = &catalog.Listing{}
			for _, s := range a.Config.Sites[name].Stores {
				l.Silent = append(l.Silent, catalog.Broken{Store: s, Err: err})
			}
			all.Trouble = append(all.Trouble, Trouble{Store: "", Err: err})
		} else {
			all.Trouble = append(all.Trouble, troubles(l.Broken, l.Silent)...)
		}
		if err := a.addUnreached(ctx, name, l, all, v); err != nil {
			return nil, err
		}
		pending, err := a.pending(ctx, name)
		if err != nil {
			return nil, err
		}
		for _, h := range l.Archives {
			one := listing(h, v.proofs[h.Name], pending[h.Name])
			_, one.Held = holds[h.Name]
			if r, ok := rehearsals[h.Name]; ok {
				one.Rehearsed = &ListedRehearsal{r.At, r.Passed}
			}
			one.NotReached = nonNil(all.unreached[h.Name])
			all.Archives = append(all.Archives, one)
		}
	}
	slices.SortStableFunc(all.Archives, func(x, y Listed) int {
		return cmp.Or(slices.Index(names, x.Site)-slices.Index(names, y.Site), strings.Compare(y.Name, x.Name))
	})
	return all, nil
}

// addUnreached adds what the history knows to lie in stores that were not reached:
// that a store is away does not mean that there are no archives.
func (a *Agent) addUnreached(ctx context.Context, site string, l *catalog.Listing, all *Listing, v verdicts) error {
	known, err := a.History.Archives(ctx, site)
	if err != nil {
		return err
	}
	if all.unreached == nil {
		all.unreached = map[string][]string{}
	}
	listed := map[string]bool{}
	for _, h := range l.Archives {
		listed[h.Name] = true
	}
	for _, k := range known {
		for _, s := range l.Silent {
			if k.In(s.Store) {
				all.unreached[k.Name] = append(all.unreached[k.Name], s.Store)
			}
		}
		if away := all.unreached[k.Name]; len(away) > 0 && !listed[k.Name] {
			one := listing(catalog.Held{Record: &archive.Record{Name: k.Name, Site: k.Site, Taken: k.Taken, Scope: archive.Scope(k.Scope), Note: k.Note}}, v.proofs[k.Name], nil)
			one.Stored, one.New, one.Gaps, one.NotReached = k.StoredBytes, k.NewBytes, k.Gaps, away
			all.Archives = append(all.Archives, one)
		}
	}
	return nil
}

// pending maps a site's archives to the stores that they have yet to come to.
func (a *Agent) pending(ctx context.Context, site string) (map[string][]string, error) {
	all, err := a.History.Pending(ctx, site)
	waiting := map[string][]string{}
	for _, p := range all {
		waiting[p.Archive] = append(waiting[p.Archive], p.Store)
	}
	return waiting, err
}

func listing(h catalog.Held, proofs []history.Proof, pending []string) Listed {
	l := Listed{SignedBy: h.Signer().Fingerprint(), Name: h.Name, Site: h.Site, Taken: h.Taken, Scope: h.Scope, Note: h.Note, Encrypted: h.Encrypted, Sealed: len(h.Sealed) > 0,
		Stored: h.Totals.StoredBytes, New: h.Totals.NewBytes, Gaps: len(h.Gaps), Stores: nonNil(StoreNames(h.Stores)), Pending: nonNil(pending), NotReached: []string{}}
	for i, p := range proofs {
		if i == 0 || l.Verified.Sound && !p.Sound {
			l.Verified = &ListedProof{Level: p.Level, At: p.At, Sound: p.Sound}
		}
	}
	return l
}

// Component sums up a share of an archive.
type Component struct {
	Name  string `json:"name"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// TableRows sums up one table.
type TableRows struct {
	Database string `json:"database"`
	Table    string `json:"table"`
	Rows     int64  `json:"rows"`
	Bytes    int64  `json:"bytes"`
}

// Contents is what one archive holds.
type Contents struct {
	Listed
	Signer     Signer
	Components []Component
	Tables     []TableRows
}

// Show sums up what an archive holds.
func (a *Agent) Show(ctx context.Context, h *catalog.Held) (*Contents, error) {
	components, tables, err := a.summarise(ctx, h)
	if err != nil {
		return nil, err
	}
	v, err := a.verdicts(ctx)
	if err != nil {
		return nil, err
	}
	pending, err := a.pending(ctx, h.Site)
	if err != nil {
		return nil, err
	}
	return &Contents{listing(*h, v.proofs[h.Name], pending[h.Name]), a.Signed(h.Record), components, tables}, nil
}

// summarise reads the list into sums by component and by table.
func (a *Agent) summarise(ctx context.Context, h *catalog.Held) ([]Component, []TableRows, error) {
	recipe, _ := a.recipeOf(h) // unknown: everything is "other"
	sums := map[string]*Component{}
	var order []string
	rows := map[string]*TableRows{}
	var tableOrder []string
	through, err := h.Through(ctx, site.RootLabel)
	if err != nil {
		return nil, nil, err
	}
	err = h.ReadList(ctx, func(e archive.Entry) error {
		switch e.Type {
		case archive.TypeFile:
			name := recipe.ComponentOfName(e.Path, through)
			if sums[name] == nil {
				sums[name] = &Component{Name: name}
				order = append(order, name)
			}
			sums[name].Files++
			sums[name].Bytes += e.Size
		case archive.TypeRows:
			key := e.Database + "\x00" + e.Table
			if rows[key] == nil {
				rows[key] = &TableRows{Database: e.Database, Table: e.Table}
				tableOrder = append(tableOrder, key)
			}
			rows[key].Rows += e.Rows
			rows[key].Bytes += e.Size
		}
		return nil
	})
	components, tables := []Component{}, []TableRows{}
	slices.Sort(order)
	for _, name := range order {
		components = append(components, *sums[name])
	}
	for _, key := range tableOrder {
		tables = append(tables, *rows[key])
	}
	return components, tables, err
}

// nonNil makes an empty list print as [] in JSON.
func nonNil[T any](s []T) []T {
	if s == nil {
		return []T{}
	}
	return s
}
