// Package cutover plans and watches how a site's names come to lead to another machine.
//
// MakePlan asks the domain's own name servers and the new machine, and says what has to
// change, what has to stay, and what would go wrong. Watch asks name servers and resolvers
// again and again until all of them lead to the new machine. Neither changes anything: the
// records of a domain are changed by whoever looks after it.
//
// What they find is a Finding, with a kind to decide by; the text for people is made by who
// shows it. What a server did not say is never taken for an empty answer.
package cutover

import (
	"cmp"
	"context"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"revlet/internal/site/dnszone"
)

// Order says what is to come where.
type Order struct {
	// Address is the site's URL; Names are further host names of it.
	Address *url.URL
	Names   []string
	// To are the addresses of the new machine: of IPv4, IPv6 or both.
	To []netip.Addr
	// Resolvers are asked where a resolver is needed, by host:port.
	Resolvers []Resolver
	// NameServers are asked as the domain's own, by host:port, in place of those that a
	// resolver leads to.
	NameServers []string
	// NewServers are the name servers that are to answer for the whole zone from now on.
	NewServers []string
	// Seen are lifetimes that were seen before.
	Seen []Seen
	Now  func() time.Time
	// Patience is how long a machine may take to answer for a page (default 15 s).
	Patience time.Duration
}

// Resolver is one that is asked, and what people call it.
type Resolver struct {
	Name    string `json:"name"`
	Address string `json:"address"`
}

// Seen is how long an answer could be kept at some moment: caches may have it for as long.
type Seen struct {
	Name     string    `json:"name"`
	Type     string    `json:"type"`
	Lifetime uint32    `json:"lifetime"`
	At       time.Time `json:"at"`
	// New tells that it led to the new machine already.
	New bool `json:"new"`
}

// Until is when the last cache has forgotten what it learnt then.
func (s Seen) Until() time.Time { return s.At.Add(time.Duration(s.Lifetime) * time.Second) }

// Change is what has to be done with a record.
type Change string

// What there is to do.
const (
	// Replace, Add and Remove a record; Keep one that leads to the new machine already.
	Replace Change = "change"
	Add     Change = "add"
	Remove  Change = "remove"
	Keep    Change = "is new"
	// Follows is an alias of a name that changes; Elsewhere is one of a name that somebody else
	// looks after.
	Follows   Change = "follows"
	Elsewhere Change = "leads elsewhere"
	// Stay is a record that is not to be touched.
	Stay Change = "stays"
)

// Row is one record of the zone.
type Row struct {
	Name   string   `json:"name"`
	Type   string   `json:"type"`
	Now    []string `json:"now"`
	ToBe   []string `json:"to_be"`
	Change Change   `json:"change"`
	// Lifetime is for how many seconds caches may keep it, as the zone says; Until is when the
	// last cache has forgotten it that could have it from before, should it change now; zero for what
	// stays.
	Lifetime uint32    `json:"lifetime"`
	Until    time.Time `json:"until,omitzero"`
}

// Plan is what has to be done.
type Plan struct {
	Names []string      `json:"names"`
	Zone  *dnszone.Zone `json:"zone"`
	Rows  []Row         `json:"records"`
	// Old are the addresses that the names lead to now.
	Old      []netip.Addr `json:"old"`
	Findings []Finding    `json:"findings"`
	// NotBefore is from when on the change is seen by all within ShortLifetime, if lifetimes are
	// lowered now, or were before; zero if that is so already.
	NotBefore time.Time `json:"not_before"`
	// Lower tells that lifetimes have yet to be lowered.
	Lower bool `json:"lower"`
	// Hosts are what the new machine, and the old one, answer under the site's names.
	Hosts []Host `json:"hosts"`
	// Carry compares the zone with what the new name servers say.
	Carry []Carried `json:"carry,omitempty"`
	Seen  []Seen    `json:"-"`
}

// ShortLifetime is the longest lifetime of records, in seconds, that is no hindrance to a change;
// LowerTo is what it is good to lower it to.
const (
	ShortLifetime = 600
	LowerTo       = 300
)

// planner makes a plan.
type planner struct {
	Order
	ask *dnszone.Asker
	*Plan
	now time.Time
}

// MakePlan asks who answers for the site's names and what they say, and the new machine.
// Errors are those of dnszone: that there is no such domain, or that nothing is known.
func MakePlan(ctx context.Context, ask *dnszone.Asker, o Order) (*Plan, error) {
	p := &planner{Order: o, ask: ask, Plan: &Plan{}, now: o.Now()}
	first, err := dnszone.FromHost(o.Address.Hostname())
	if err != nil {
		return nil, err
	}
	if err := p.findZone(ctx, first); err != nil {
		return nil, err
	}
	if err := p.findNames(ctx, first); err != nil {
		return nil, err
	}
	for _, name := range p.Plan.Names {
		p.planName(ctx, name)
	}
	p.planStays(ctx)
	p.planMail(ctx)
	p.planResolvers(ctx, first)
	p.planLifetimes()
	p.askHosts(ctx)
	p.carryOver(ctx)
	return p.Plan, ctx.Err()
}

// servers are the resolvers' addresses.
func (o *Order) servers() (all []string) {
	for _, r := range o.Resolvers {
		all = append(all, r.Address)
	}
	return all
}

func (p *planner) findZone(ctx context.Context, name string) (err error) {
	if len(p.NameServers) > 0 {
		p.Zone, err = p.ask.ZoneAt(ctx, p.NameServers, name)
	} else {
		p.Zone, err = p.ask.FindZone(ctx, p.servers(), name)
	}
	if err != nil {
		return err
	}
	serials := map[uint32]bool{}
	for _, s := range p.Zone.Servers {
		if s.State == dnszone.Found {
			serials[s.Serial] = true
		} else {
			p.find(Finding{Kind: ServerAmiss, Name: s.Name, At: s.Address, Value: string(s.State), Why: s.Why})
		}
	}
	if len(serials) > 1 {
		p.find(Finding{Kind: SerialsDiffer, Name: p.Zone.Name})
	}
	if p.Zone.ParentKnown && len(p.Zone.Own) > 0 && !slices.Equal(p.Zone.Delegated, p.Zone.Own) {
		p.find(Finding{Kind: DelegationDiffers, Name: p.Zone.Parent, Values: p.Zone.Delegated, Others: p.Zone.Own})
	}
	return nil
}

// findNames adds the name with www, or without, if there is one.
func (p *planner) findNames(ctx context.Context, first string) error {
	names := []string{first}
	twin := "www." + first
	if bare, ok := strings.CutPrefix(first, "www."); ok {
		twin = bare
	}
	if within(twin, p.Zone.Name) {
		for _, kind := range []string{"A", "AAAA"} {
			if answer, _ := p.ask.AskZone(ctx, p.Zone, twin, kind); answer.State == dnszone.Found || len(answer.Aliases) > 0 {
				names = append(names, twin)
				break
			}
		}
	}
	for _, host := range p.Order.Names {
		name, err := dnszone.FromHost(host)
		if err != nil {
			return err
		}
		names = append(names, name)
	}
	for _, name := range names {
		if !slices.Contains(p.Plan.Names, name) {
			p.Plan.Names = append(p.Plan.Names, name)
		}
	}
	return nil
}

func within(name, zone string) bool { return name == zone || strings.HasSuffix(name, "."+zone) }

// wanted are the addresses of the new machine that a record of a type has to have.
func wanted(to []netip.Addr, kind string) (all []string) {
	for _, addr := range to {
		if addr.Is4() == (kind == "A") {
			all = append(all, addr.String())
		}
	}
	slices.Sort(all)
	return all
}

// planName plans the records of one name.
func (p *planner) planName(ctx context.Context, name string) {
	if !within(name, p.Zone.Name) {
		p.find(Finding{Kind: OtherZone, Name: name, Value: p.Zone.Name})
		return
	}
	if slices.ContainsFunc(p.Rows, func(r Row) bool { return r.Name == name }) {
		return
	}
	aliased := false
	for _, kind := range []string{"A", "AAAA"} {
		answer, others := p.ask.AskZone(ctx, p.Zone, name, kind)
		for _, o := range others {
			p.find(Finding{Kind: ServersDiffer, Name: name, Value: kind, At: o.Server, Values: o.Values(), Others: answer.Values(), Why: cmp.Or(o.Why, string(o.State))})
		}
		if !answer.State.Known() {
			p.find(Finding{Kind: NameUnknown, Name: name, Value: kind, Why: cmp.Or(answer.Why, string(answer.State))})
			continue
		}
		if len(answer.Aliases) > 0 {
			if !aliased {
				p.planAlias(ctx, name, answer)
			}
			aliased = true
			continue
		}
		p.planAddress(name, kind, answer)
	}
	p.planWildcard(ctx, name)
}

func (p *planner) planAddress(name, kind string, answer dnszone.Answer) {
	now, to := answer.Values(), wanted(p.To, kind)
	p.rememberOld(now)
	row := Row{Name: name, Type: kind, Now: now, ToBe: to, Lifetime: answer.Lifetime(), Change: Replace}
	switch {
	case len(now) == 0 && len(to) == 0:
		return
	case slices.Equal(now, to):
		row.Change = Keep
	case len(now) == 0:
		row.Change = Add
	case len(to) == 0:
		row.Change = Remove
		p.find(Finding{Kind: LeftBehind, Name: name, Value: kind, Values: now})
	}
	p.row(row)
}

// rememberOld notes addresses of the old machine.
func (p *planner) rememberOld(values []string) {
	for _, value := range values {
		if addr, err := netip.ParseAddr(value); err == nil && !slices.Contains(p.Old, addr) && !slices.Contains(p.To, addr) {
			p.Old = append(p.Old, addr)
		}
	}
}

// planAlias plans a name that is an alias of another.
func (p *planner) planAlias(ctx context.Context, name string, answer dnszone.Answer) {
	end := answer.End()
	row := Row{Name: name, Type: "CNAME", Now: []string{answer.Aliases[0].Value}, Change: Elsewhere, Lifetime: answer.Aliases[0].Lifetime}
	switch {
	case slices.Contains(p.Plan.Names, end):
		row.Change, row.ToBe = Follows, row.Now
	case within(end, p.Zone.Name):
		row.Change, row.ToBe = Follows, row.Now
		defer p.planName(ctx, end)
		p.find(Finding{Kind: AliasInside, Name: name, Value: end})
	default:
		row.ToBe = slices.Concat(wanted(p.To, "A"), wanted(p.To, "AAAA"))
		p.find(Finding{Kind: AliasOutside, Name: name, Value: end})
		for _, kind := range []string{"A", "AAAA"} {
			p.rememberOld(p.ask.First(ctx, p.servers(), end, kind, dnszone.Recursively).Values())
		}
	}
	if name == p.Zone.Name {
		p.find(Finding{Kind: AliasAtTop, Name: name, Value: end})
	}
	p.row(row)
}

// planWildcard looks for a record that stands for all names below the zone's.
func (p *planner) planWildcard(ctx context.Context, name string) {
	if name != p.Zone.Name {
		return
	}
	answer := p.ask.Wildcard(ctx, p.Zone, name, "A")
	if answer.State != dnszone.Found {
		return
	}
	row := Row{Name: "*." + name, Type: "A", Now: answer.Values(), ToBe: answer.Values(), Change: Stay, Lifetime: answer.Lifetime()}
	if slices.ContainsFunc(row.Now, p.isOld) {
		row.Change, row.ToBe = Replace, wanted(p.To, "A")
		p.find(Finding{Kind: Wildcard, Name: row.Name, Values: row.Now})
	}
	p.row(row)
}

// isOld tells whether a value is an address of the old machine.
func (p *Plan) isOld(value string) bool {
	addr, err := netip.ParseAddr(value)
	return err == nil && slices.Contains(p.Old, addr)
}

func (p *planner) row(r Row) {
	p.Rows = append(p.Rows, r)
}

// planLifetimes says how long the old may live, and when it is a good moment.
func (p *planner) planLifetimes() {
	soon := p.now.Add(ShortLifetime * time.Second)
	for i := range p.Rows {
		r := &p.Rows[i]
		if r.Change == Stay {
			continue
		}
		now := Seen{Name: r.Name, Type: r.Type, Lifetime: r.Lifetime, At: p.now, New: r.Change == Keep}
		r.Until = now.Until()
		if longest, ok := p.longestSeen(r.Name, r.Type); ok {
			p.Plan.Seen = append(p.Plan.Seen, longest)
			if longest.Until().After(r.Until) {
				r.Until = longest.Until()
			}
		}
		p.Plan.Seen = append(p.Plan.Seen, now)
		if r.Change == Keep || r.Change == Follows {
			continue
		}
		if r.Until.After(soon) && r.Until.After(p.NotBefore) {
			p.NotBefore = r.Until
		}
		p.Lower = p.Lower || r.Lifetime > ShortLifetime
	}
}

// longestSeen is what was seen before of a record's old answers and lives longest.
func (p *planner) longestSeen(name, kind string) (longest Seen, ok bool) {
	for _, s := range p.Order.Seen {
		if s.Name == name && s.Type == kind && !s.New && s.Until().After(p.now) && (!ok || s.Until().After(longest.Until())) {
			longest, ok = s, true
		}
	}
	return longest, ok
}
