package cutover

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"revlet/internal/site/dnszone"
)

// WatchOrder says what is to be watched.
type WatchOrder struct {
	// Names are to lead to the addresses To, and to no others. Old are those of the old machine.
	Names   []string
	To, Old []netip.Addr
	// Zone has the domain's own name servers; nil if they are not known, or not to be asked.
	Zone      *dnszone.Zone
	Resolvers []Resolver
	// Times is how often in a row all have to agree, Every the pause between, Limit how long it is
	// watched at most.
	Times        int
	Every, Limit time.Duration
	// Seen are lifetimes from before the change, the oldest first; Changed is when the domain's own
	// name servers were all new first, if that was seen before.
	Seen    []Seen
	Changed time.Time
	// Stay are records of the zone that have to be there still.
	Stay []Row
	Now  func() time.Time
	// Pages asks both machines for the site, in each round; nil does not.
	Pages func(ctx context.Context) []Host
}

// Leads is where a server leads to.
type Leads string

// Where servers lead.
const (
	// ToNew: to the new machine alone; ToOld: to the old one, or to both.
	ToNew Leads = "new"
	ToOld Leads = "old"
	// ToOther: to another machine, or to none.
	ToOther Leads = "other"
	// Unknown: it did not say.
	Unknown Leads = "not known"
	// Beyond: the name is an alias of one that this server does not answer for.
	Beyond Leads = "elsewhere"
)

// View is what one server says of all names.
type View struct {
	Resolver
	// Own is set for the domain's own name servers.
	Own     bool             `json:"own"`
	Leads   Leads            `json:"leads"`
	Answers []dnszone.Answer `json:"answers"`
	// Until is when it has to have forgotten what it says of the old machine; zero is not known.
	Until time.Time `json:"until"`
}

// Round is one time that all were asked.
type Round struct {
	At     time.Time `json:"at"`
	Number int       `json:"number"`
	Views  []View    `json:"views"`
	// Agreed is how often in a row all have agreed, this time included.
	Agreed int `json:"agreed"`
	// OwnNew tells that all of the domain's own name servers lead to the new machine, so that the
	// record has been changed; Gone is when the last old answer has to be gone; zero is not known.
	OwnNew bool      `json:"own_new"`
	Gone   time.Time `json:"gone"`
	// Changed is since when that is so, as far as it was seen.
	Changed time.Time `json:"changed"`
	Pages   []Host    `json:"pages,omitempty"`
	// Lost are records that had to stay, and which the domain's own name servers no longer have.
	Lost []Row `json:"lost,omitempty"`
	// Done is set for the last round of a watch that has seen what it waits for.
	Done bool `json:"done"`
}

// Watch asks all name servers and resolvers again and again, until all lead to the new machine,
// several times in a row, or the limit is over; told hears of every round. It returns the last
// one. One that does not answer is never taken for one that agrees.
func Watch(ctx context.Context, ask *dnszone.Asker, o WatchOrder, told func(Round)) (Round, error) {
	end := o.Now().Add(o.Limit)
	w := watcher{WatchOrder: o, ask: ask, changed: o.Changed}
	var r Round
	for n := 1; ; n++ {
		last := r
		r = w.round(ctx)
		if err := ctx.Err(); err != nil {
			return last, err
		}
		r.Number = n
		if w.agree(r) {
			r.Agreed = last.Agreed + 1
		}
		r.Done = r.Agreed >= o.Times
		told(r)
		if r.Done || !o.Now().Add(o.Every).Before(end) {
			return r, nil
		}
		select {
		case <-ctx.Done():
			return r, ctx.Err()
		case <-time.After(o.Every):
		}
	}
}

// LeadNew tells whether the domain's own name servers lead to the new machine, be it with some of the names
// or some of the servers only. That is not known, which is an error, unless all have said otherwise.
func LeadNew(ctx context.Context, ask *dnszone.Asker, o Order) (bool, error) {
	p := &planner{Order: o, ask: ask, Plan: &Plan{}, now: o.Now()}
	first, err := dnszone.FromHost(o.Address.Hostname())
	if err != nil {
		return false, err
	}
	if err := p.findZone(ctx, first); err != nil {
		return false, err
	}
	if err := p.findNames(ctx, first); err != nil {
		return false, err
	}
	w := watcher{WatchOrder: WatchOrder{Names: p.Plan.Names, To: o.To, Zone: p.Zone, Now: o.Now}, ask: ask}
	views := w.round(ctx).Views
	if len(views) == 0 {
		return false, fmt.Errorf("no name server of %s could be asked", p.Zone.Name)
	}
	for _, v := range views {
		for _, a := range v.Answers {
			if a.State != dnszone.Found && len(a.Aliases) > 0 { // of a name that others answer for
				a = ask.First(ctx, p.servers(), a.End(), a.Type, dnszone.Recursively)
			}
			if slices.ContainsFunc(a.Values(), func(value string) bool { return slices.Contains(wanted(o.To, a.Type), value) }) {
				return true, nil
			}
			if !a.State.Known() {
				err = fmt.Errorf("%s did not say where %s leads: %s", v.Name, a.Name, cmp.Or(a.Why, string(a.State)))
			}
		}
	}
	return false, cmp.Or(err, ctx.Err())
}

type watcher struct {
	WatchOrder
	ask *dnszone.Asker
	// changed is when the domain's own name servers were first seen to be all new.
	changed time.Time
}

func (w *watcher) round(ctx context.Context) Round {
	r := Round{At: w.Now()}
	if w.Zone != nil {
		for _, s := range w.Zone.Servers {
			if s.Address != "" {
				r.Views = append(r.Views, View{Resolver: Resolver{Name: s.Name, Address: s.Address}, Own: true})
			}
		}
	}
	for _, res := range w.Resolvers {
		r.Views = append(r.Views, View{Resolver: res})
	}
	var all sync.WaitGroup
	for i := range r.Views {
		all.Go(func() { w.view(ctx, &r.Views[i]) })
	}
	if w.Pages != nil {
		all.Go(func() { r.Pages = w.Pages(ctx) })
	}
	all.Go(func() { r.Lost = w.lost(ctx) })
	all.Wait()
	w.whenGone(&r)
	return r
}

// lost are records that had to stay and are gone. Who may send mail for the domain may be said anew, as a
// plan asks for.
func (w *watcher) lost(ctx context.Context) (lost []Row) {
	if w.Zone == nil {
		return nil
	}
	now := map[string]dnszone.Answer{}
	for _, row := range w.Stay {
		answer, asked := now[row.Type]
		if !asked {
			answer, _ = w.ask.AskZone(ctx, w.Zone, row.Name, row.Type)
			now[row.Type] = answer
		}
		if !answer.State.Known() {
			continue
		}
		if !slices.ContainsFunc(answer.Values(), func(value string) bool { return value == row.Now[0] || isSenders(value) && isSenders(row.Now[0]) }) {
			lost = append(lost, row)
		}
	}
	return lost
}

// view asks one server for all names.
func (w *watcher) view(ctx context.Context, v *View) {
	var options []dnszone.Option
	if !v.Own {
		options = append(options, dnszone.Recursively)
	}
	rank := []Leads{Beyond, ToNew, Unknown, ToOther, ToOld}
	v.Leads = Beyond
	v.Answers = make([]dnszone.Answer, 0, 2*len(w.Names))
	for _, name := range w.Names {
		v.Answers = append(v.Answers, dnszone.Answer{Name: name, Type: "A"}, dnszone.Answer{Name: name, Type: "AAAA"})
	}
	var all sync.WaitGroup
	for i := range v.Answers {
		all.Go(func() { v.Answers[i] = w.ask.Ask(ctx, v.Address, v.Answers[i].Name, v.Answers[i].Type, options...) })
	}
	all.Wait()
	for _, answer := range v.Answers {
		leads := w.leads(answer, answer.Type, v.Own)
		if slices.Index(rank, leads) > slices.Index(rank, v.Leads) {
			v.Leads = leads
		}
		if leads == ToOld && !v.Own {
			if until := w.Now().Add(time.Duration(answer.Lifetime()) * time.Second); until.After(v.Until) {
				v.Until = until
			}
		}
	}
}

// leads judges one answer.
func (w *watcher) leads(a dnszone.Answer, kind string, own bool) Leads {
	want := wanted(w.To, kind)
	switch {
	case !a.State.Known():
		return Unknown
	case own && a.State != dnszone.Found && len(a.Aliases) > 0:
		return Beyond
	case slices.Equal(a.Values(), want):
		return ToNew
	case slices.ContainsFunc(a.Values(), w.isOld):
		return ToOld
	}
	return ToOther
}

func (w *watcher) isOld(value string) bool {
	addr, err := netip.ParseAddr(value)
	return err == nil && slices.Contains(w.Old, addr)
}

// agree tells whether all lead to the new machine. With nobody to ask, nothing is known.
func (w *watcher) agree(r Round) bool {
	some := false
	if len(r.Lost) > 0 {
		return false
	}
	for _, v := range r.Views {
		some = some || v.Leads == ToNew
		if v.Leads != ToNew && v.Leads != Beyond {
			return false
		}
	}
	return some
}

// whenGone says when the last old answer has to be gone: once the domain's own name servers are all
// new, what was learnt from them before lives for as long as they said.
func (w *watcher) whenGone(r *Round) {
	own, now := false, true
	for _, v := range r.Views {
		own = own || v.Own
		if v.Own && v.Leads != ToNew && v.Leads != Beyond {
			now = false
		}
		if v.Own && v.Leads == ToOld {
			w.learn(v)
		}
	}
	r.OwnNew = own && now
	if !r.OwnNew {
		w.changed = time.Time{}
		return
	}
	if w.changed.IsZero() {
		w.changed = r.At
	}
	r.Changed = w.changed
	for i, s := range w.Seen {
		if s.New {
			continue
		}
		until := s.Until()
		if !slices.ContainsFunc(w.Seen[i+1:], func(later Seen) bool { return later.Name == s.Name && later.Type == s.Type && !later.New }) {
			until = w.changed.Add(time.Duration(s.Lifetime) * time.Second) // said until it changed
		}
		if until.After(w.changed) && until.After(r.Gone) {
			r.Gone = until
		}
	}
	for _, v := range r.Views {
		if v.Until.After(r.Gone) {
			r.Gone = v.Until
		}
	}
}

// learn notes for how long what an own server says of the old machine may be kept from now on.
func (w *watcher) learn(v View) {
	now := w.Now()
	for _, a := range v.Answers {
		if a.State.Known() {
			w.Seen = append(w.Seen, Seen{Name: a.Name, Type: a.Type, Lifetime: a.Lifetime(), At: now})
		}
	}
	if len(w.Seen) > mostSeen {
		w.Seen = w.Seen[len(w.Seen)-mostSeen:]
	}
}

// mostSeen is how many lifetimes are kept in memory.
const mostSeen = 1000
