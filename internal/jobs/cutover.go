package jobs

import (
	"context"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"time"

	"github.com/miekg/dns"

	"revlet/internal/platform/reason"
	"revlet/internal/site/dnszone"
	"revlet/internal/work/cutover"
)

// CutoverOrder says where a site's names are to lead.
type CutoverOrder struct {
	Site string
	// To are the addresses of the new machine.
	To []netip.Addr
	// Names are host names of the site beside the one in its address.
	Names []string
	// Resolvers take the place of the system's and the well-known public ones, NameServers that
	// of the domain's own, which are looked for otherwise; each is an address, with a port or
	// without. NewServers are those that will answer for the zone.
	Resolvers, NameServers, NewServers []string
	// Timeout is how long one question may take; 0 is the usual.
	Timeout time.Duration
}

// publicResolvers are well-known ones that anybody may ask, by address.
var publicResolvers = []string{"1.1.1.1", "8.8.8.8", "9.9.9.9", "208.67.222.222"}

// resolvConf names the system's resolvers, where there is such a file.
const resolvConf = "/etc/resolv.conf"

// resolvers are those to ask.
func (o CutoverOrder) resolvers() (all []cutover.Resolver, err error) {
	add := func(name, address string) {
		for _, r := range all {
			if r.Address == address {
				return
			}
		}
		all = append(all, cutover.Resolver{Name: name, Address: address})
	}
	if len(o.Resolvers) > 0 {
		addresses, err := hostPorts(o.Resolvers)
		for _, address := range addresses {
			add(short(address), address)
		}
		return all, err
	}
	if system, err := dns.ClientConfigFromFile(resolvConf); err == nil {
		for _, server := range system.Servers {
			add("this machine's ("+server+")", net.JoinHostPort(server, system.Port))
		}
	}
	for _, server := range publicResolvers {
		add(server+" (public)", net.JoinHostPort(server, "53"))
	}
	return all, nil
}

// short leaves out the usual port.
func short(address string) string {
	if host, port, err := net.SplitHostPort(address); err == nil && port == "53" {
		return host
	}
	return address
}

// hostPorts gives addresses of name servers the usual port where they have none.
func hostPorts(servers []string) (all []string, err error) {
	for _, server := range servers {
		if addr, err := netip.ParseAddr(server); err == nil {
			all = append(all, net.JoinHostPort(addr.String(), "53"))
			continue
		}
		at, err := netip.ParseAddrPort(server)
		if err != nil {
			return nil, reason.BadUsage("%q is no name server's address, such as 192.0.2.53 or 192.0.2.53:53", server)
		}
		all = append(all, at.String())
	}
	return all, nil
}

// siteURL is a site's address.
func (a *Agent) siteURL(name string) (*url.URL, error) {
	s, err := a.SiteConfig(name)
	if err != nil {
		return nil, err
	}
	if s.Address == "" {
		return nil, reason.BadUsage("site %s has no address; give it one in %s (`address: https://…`)", name, a.Config.Path)
	}
	u, err := url.Parse(s.Address)
	if err != nil {
		return nil, err
	}
	if _, err := dnszone.FromHost(u.Hostname()); err != nil {
		return nil, reason.BadUsage("the address of site %s is %s: %w, and only a name can be made to lead elsewhere", name, s.Address, err)
	}
	return u, nil
}

// cutoverNote is what is remembered of a site's names from one command to the next.
type cutoverNote struct {
	// Seen are lifetimes of their answers, Old addresses of the old machine.
	Seen []cutover.Seen `json:"seen"`
	Old  []netip.Addr   `json:"old"`
	// To is where they are to lead, Changed when it was seen first that the domain's own name servers
	// lead there. Names, Resolvers and NameServers are how that was asked, to be asked so again.
	To          []netip.Addr `json:"to,omitempty"`
	Changed     time.Time    `json:"changed,omitzero"`
	Names       []string     `json:"names,omitempty"`
	Resolvers   []string     `json:"resolvers,omitempty"`
	NameServers []string     `json:"name_servers,omitempty"`
	// Stay are records that a plan found and that have to be there after the change, too.
	Stay []cutover.Row `json:"stay,omitempty"`
}

// readCutover reads what is remembered.
func (a *Agent) readCutover(site string) (n cutoverNote, err error) {
	_, err = a.State.ReadNote(a.State.Cutover(site), &n, "what the site's names led to")
	return n, err
}

// noteCutover remembers what a plan found.
func (a *Agent) noteCutover(o CutoverOrder, n cutoverNote, p *cutover.Plan) (cutoverNote, error) {
	if !slices.Equal(n.To, o.To) {
		n.To, n.Changed = o.To, time.Time{}
	}
	n.Names, n.Resolvers, n.NameServers = o.Names, o.Resolvers, o.NameServers
	n.Seen = p.Seen
	for _, addr := range p.Old {
		if !slices.Contains(n.Old, addr) {
			n.Old = append(n.Old, addr)
		}
	}
	return n, a.State.WriteNote(a.State.Cutover(o.Site), n, "what the site's names led to")
}

// NamesLead is where a site's names were found to lead.
type NamesLead struct {
	// To are the addresses of the new machine, as they were said to `cutover plan` or `watch`; none if
	// neither was run. New tells that the domain's own name servers lead there, in part at least.
	To  []netip.Addr
	New bool
	// Err is why that is not known.
	Err error
}

// Known tells whether it was asked, and told, where the names lead.
func (l NamesLead) Known() bool { return l.New || len(l.To) > 0 && l.Err == nil }

// namesStay refuses what sets aside what visitors write at the new machine, where the site's names lead
// there already, or may do so; with anyway it does not.
func (a *Agent) namesStay(ctx context.Context, site string, anyway bool) (NamesLead, error) {
	l, since, err := a.namesLead(ctx, site)
	if err == nil && l.New && !anyway {
		err = reason.New(reason.NamesChanged, nil, "the domain's name servers lead to the new machine%s: visitors write there by now, and would not find what they wrote", since)
	} else if err == nil && l.Err != nil && !anyway {
		err = reason.New(reason.NamesUnknown, nil, "it is not known whether the domain's name servers lead to the new machine, where visitors would not find what they wrote: %w", l.Err)
	}
	return l, err
}

// namesLead asks the domain's own name servers where the names lead. What was seen before counts where
// they do not say.
func (a *Agent) namesLead(ctx context.Context, site string) (l NamesLead, since string, err error) {
	note, err := a.readCutover(site)
	if err != nil || len(note.To) == 0 {
		return l, "", err
	}
	l.To = note.To
	if !note.Changed.IsZero() {
		since = " since " + note.Changed.Local().Format("2006-01-02 15:04 MST")
	}
	order, _, err := a.cutoverOrder(CutoverOrder{Site: site, To: note.To, Names: note.Names, Resolvers: note.Resolvers, NameServers: note.NameServers})
	if err != nil {
		return l, "", err
	}
	if l.New, l.Err = cutover.LeadNew(ctx, &dnszone.Asker{}, order); l.Err != nil {
		l.New = !note.Changed.IsZero()
	}
	return l, since, ctx.Err()
}

// PlanCutover says what has to be done so that a site's names lead to another machine. Nothing is
// changed; lifetimes are remembered, so that it is known later for how long the old ones live.
func (a *Agent) PlanCutover(ctx context.Context, o CutoverOrder) (*cutover.Plan, error) {
	order, note, err := a.cutoverOrder(o)
	if err != nil {
		return nil, err
	}
	p, err := cutover.MakePlan(ctx, &dnszone.Asker{Timeout: o.Timeout}, order)
	if err != nil {
		return nil, err
	}
	note.Stay = p.Stay()
	_, err = a.noteCutover(o, note, p)
	return p, err
}

func (a *Agent) cutoverOrder(o CutoverOrder) (order cutover.Order, note cutoverNote, err error) {
	order = cutover.Order{Names: o.Names, To: o.To, Now: a.Now}
	if order.Address, err = a.siteURL(o.Site); err != nil {
		return order, note, err
	}
	if order.Resolvers, err = o.resolvers(); err != nil {
		return order, note, err
	}
	if order.NameServers, err = hostPorts(o.NameServers); err != nil {
		return order, note, err
	}
	if order.NewServers, err = hostPorts(o.NewServers); err != nil {
		return order, note, err
	}
	note, err = a.readCutover(o.Site)
	order.Seen = note.Seen
	return order, note, err
}

// CutoverWatch says how a cutover is watched.
type CutoverWatch struct {
	CutoverOrder
	// Times is how often in a row all have to agree, Every the pause between, Limit the end.
	Times        int
	Every, Limit time.Duration
	// Old are addresses of the old machine, beside those that the zone still says.
	Old []netip.Addr
	// Pages has both machines asked for the site, too.
	Pages bool
}

// pagePatience is how long a round waits for a machine's page.
const pagePatience = 5 * time.Second

// WatchCutover asks until all name servers and resolvers lead to the new machine, or until the
// limit. told hears of every round; the last one is returned.
func (a *Agent) WatchCutover(ctx context.Context, o CutoverWatch, told func(cutover.Round)) (cutover.Round, error) {
	order, note, err := a.cutoverOrder(o.CutoverOrder)
	if err != nil {
		return cutover.Round{}, err
	}
	ask := &dnszone.Asker{Timeout: o.Timeout}
	p, err := cutover.MakePlan(ctx, ask, order)
	if err != nil {
		return cutover.Round{}, err
	}
	if note.Stay == nil {
		note.Stay = p.Stay()
	}
	if note, err = a.noteCutover(o.CutoverOrder, note, p); err != nil {
		return cutover.Round{}, err
	}
	old := slices.DeleteFunc(slices.Concat(o.Old, note.Old), func(addr netip.Addr) bool { return slices.Contains(o.To, addr) })
	w := cutover.WatchOrder{Names: p.Names, To: o.To, Old: old, Zone: p.Zone, Resolvers: order.Resolvers, Times: max(o.Times, 1), Every: o.Every, Limit: o.Limit, Seen: p.Seen, Stay: note.Stay, Now: a.Now}
	w.Changed = note.Changed
	if o.Pages {
		order.Patience = pagePatience
		w.Pages = func(ctx context.Context) []cutover.Host { return order.Pages(ctx, p.Names, old) }
	}
	return cutover.Watch(ctx, ask, w, func(r cutover.Round) {
		if !r.Changed.Equal(note.Changed) {
			note.Changed = r.Changed
			if _, err := a.noteCutover(o.CutoverOrder, note, p); err != nil {
				a.warn(err)
			}
		}
		told(r)
	})
}
