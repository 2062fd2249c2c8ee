package cutover

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"

	"revlet/internal/site/dnszone"
)

// stays are the types of records that a cutover leaves as they are.
var stays = []string{"MX", "TXT", "CAA", "NS"}

// planStays lists what stays, and looks for what of it names the old machine.
func (p *planner) planStays(ctx context.Context) {
	for _, kind := range stays {
		answer, _ := p.ask.AskZone(ctx, p.Zone, p.Zone.Name, kind)
		if !answer.State.Known() {
			p.find(Finding{Kind: NameUnknown, Name: p.Zone.Name, Value: kind, Why: string(answer.State)})
			continue
		}
		for _, r := range answer.Records {
			p.row(Row{Name: p.Zone.Name, Type: kind, Now: []string{r.Value}, ToBe: []string{r.Value}, Change: Stay, Lifetime: r.Lifetime})
		}
		switch kind {
		case "TXT":
			p.planSenders(answer)
		case "CAA":
			p.planIssuers(answer)
		}
	}
}

// planSenders looks at who may send mail for the domain (RFC 7208): mechanisms that mean the old
// machine.
func (p *planner) planSenders(answer dnszone.Answer) {
	for _, r := range answer.Records {
		if !isSenders(r.Value) {
			continue
		}
		text := strings.ReplaceAll(strings.Trim(r.Value, `"`), `" "`, "")
		for _, word := range strings.Fields(text) {
			mechanism := strings.ToLower(strings.TrimLeft(word, "+"))
			name, isName := strings.CutPrefix(mechanism, "a:")
			if mechanism == "a" || isName && slices.Contains(p.Plan.Names, dnszone.Plain(name)) || p.meansOld(mechanism) {
				p.find(Finding{Kind: SenderNamesOld, Name: r.Name, Value: word})
			}
		}
	}
}

// isSenders tells whether a TXT record says who may send mail.
func isSenders(value string) bool {
	return strings.HasPrefix(strings.ToLower(strings.Trim(value, `"`)), "v=spf1")
}

// Stay are the records of the zone that are to be there after the change as well. Its name servers are
// not among them: they may be others by then.
func (p *Plan) Stay() (all []Row) {
	for _, r := range p.Rows {
		if r.Change == Stay && r.Name == p.Zone.Name && r.Type != "NS" && slices.Contains(stays, r.Type) {
			all = append(all, r)
		}
	}
	return all
}

// meansOld tells whether a mechanism names an address of the old machine.
func (p *planner) meansOld(mechanism string) bool {
	_, value, ok := strings.Cut(mechanism, ":")
	if !ok || !strings.HasPrefix(mechanism, "ip") {
		return false
	}
	prefix, err := netip.ParsePrefix(value)
	return p.isOld(value) || err == nil && slices.ContainsFunc(p.Old, prefix.Contains)
}

// planIssuers tells who may issue certificates (RFC 8659).
func (p *planner) planIssuers(answer dnszone.Answer) {
	var issuers []string
	for _, r := range answer.Records {
		if fields := strings.Fields(r.Value); len(fields) > 2 && strings.HasPrefix(fields[1], "issue") {
			issuers = append(issuers, strings.Trim(fields[2], `";`))
		}
	}
	if len(issuers) > 0 {
		p.find(Finding{Kind: IssuersLimited, Name: answer.Name, Values: slices.Compact(issuers)})
	}
}

// planMail looks at where mail for the domain goes: it must not go along by mistake, nor stay
// behind on a machine that is given up.
func (p *planner) planMail(ctx context.Context) {
	answer, _ := p.ask.AskZone(ctx, p.Zone, p.Zone.Name, "MX")
	if answer.State == dnszone.NoData && slices.Contains(p.Plan.Names, p.Zone.Name) {
		p.find(Finding{Kind: MailImplicit, Name: p.Zone.Name})
	}
	for _, r := range answer.Records {
		_, name, _ := strings.Cut(r.Value, " ")
		if slices.Contains(p.Plan.Names, name) {
			p.find(Finding{Kind: MailFollows, Name: name})
			continue
		}
		for _, kind := range []string{"A", "AAAA"} {
			at := p.resolve(ctx, name, kind)
			if len(at.Aliases) > 0 && slices.Contains(p.Plan.Names, at.End()) {
				p.find(Finding{Kind: MailFollows, Name: name})
			} else if slices.ContainsFunc(at.Values(), p.isOld) {
				p.find(Finding{Kind: MailOnOld, Name: name, Values: at.Values()})
			}
		}
	}
}

// resolve asks the zone itself where the name is its own, else the resolvers.
func (p *planner) resolve(ctx context.Context, name, kind string) dnszone.Answer {
	if within(name, p.Zone.Name) {
		answer, _ := p.ask.AskZone(ctx, p.Zone, name, kind)
		return answer
	}
	return p.ask.First(ctx, p.servers(), name, kind, dnszone.Recursively)
}

// planResolvers looks at whether the resolvers are to be believed.
func (p *planner) planResolvers(ctx context.Context, name string) {
	for _, r := range p.Resolvers {
		if answer, captive := p.ask.Captive(ctx, r.Address); captive {
			p.find(Finding{Kind: Captive, Name: r.Name, Values: answer.Values()})
			continue
		}
		answer := p.ask.Ask(ctx, r.Address, name, "A", dnszone.Recursively)
		switch {
		case answer.State == dnszone.Failing && p.ask.BadSignatures(ctx, r.Address, name, "A"):
			p.find(Finding{Kind: BadSignatures, Name: r.Name})
		case !answer.State.Known():
			p.find(Finding{Kind: ResolverAmiss, Name: r.Name, Value: string(answer.State), Why: answer.Why})
		case slices.ContainsFunc(answer.Values(), private):
			own, _ := p.ask.AskZone(ctx, p.Zone, name, "A")
			if !slices.Equal(own.Values(), answer.Values()) {
				p.find(Finding{Kind: SplitHorizon, Name: r.Name, Values: answer.Values(), Others: own.Values()})
			}
		}
	}
}

// private tells whether an address is one of a network within (RFC 1918, 4193).
func private(value string) bool {
	addr, err := netip.ParseAddr(value)
	return err == nil && (addr.IsPrivate() || addr.IsLoopback() || addr.IsLinkLocalUnicast())
}

// usual are names below a domain's that zones often have, with the types of their records.
var usual = map[string][]string{
	"":    {"A", "AAAA", "MX", "TXT", "CAA"},
	"www": {"A", "AAAA"}, "mail": {"A", "AAAA"}, "smtp": {"A", "AAAA"}, "imap": {"A", "AAAA"}, "pop": {"A", "AAAA"}, "webmail": {"A", "AAAA"}, "ftp": {"A", "AAAA"},
	"autodiscover": {"A", "AAAA"}, "autoconfig": {"A", "AAAA"}, "shop": {"A", "AAAA"}, "blog": {"A", "AAAA"}, "cloud": {"A", "AAAA"}, "calendar": {"A", "AAAA"},
	"_dmarc": {"TXT"}, "default._domainkey": {"TXT"}, "mail._domainkey": {"TXT"}, "dkim._domainkey": {"TXT"}, "selector1._domainkey": {"TXT"}, "selector2._domainkey": {"TXT"},
	"_mta-sts": {"TXT"}, "_smtp._tls": {"TXT"}, "_autodiscover._tcp": {"SRV"}, "_imaps._tcp": {"SRV"}, "_submission._tcp": {"SRV"}, "_caldavs._tcp": {"SRV"}, "_carddavs._tcp": {"SRV"},
}

// Carried is what the new name servers say of a record of the zone.
type Carried struct {
	Name string   `json:"name"`
	Type string   `json:"type"`
	Old  []string `json:"old"`
	New  []string `json:"new"`
	// State is that of the new servers' answer, Same whether it says what has to be said.
	State dnszone.State `json:"state"`
	Same  bool          `json:"same"`
}

// carryOver compares the zone with what the new name servers say of it: all names that are known
// of, and those that zones often have. A zone cannot be listed from outside.
func (p *planner) carryOver(ctx context.Context) {
	if len(p.NewServers) == 0 {
		return
	}
	next := &dnszone.Zone{Name: p.Zone.Name}
	for _, at := range p.NewServers {
		next.Servers = append(next.Servers, dnszone.Server{Name: at, Address: at})
	}
	if err := p.ask.Check(ctx, next); err != nil {
		why := err.Error()
		if errors.Is(err, dnszone.ErrNoServer) {
			why = ""
		}
		p.find(Finding{Kind: NewServersFail, Name: strings.Join(p.NewServers, ", "), Value: p.Zone.Name, Why: why})
		return
	}
	if p.Zone.Signed {
		p.find(Finding{Kind: KeysChange, Name: p.Zone.Name, Value: p.Zone.Parent})
	}
	for _, q := range p.toCarry() {
		p.carry(ctx, next, q[0], q[1])
	}
}

// toCarry are the names and types that are asked for.
func (p *planner) toCarry() (all [][2]string) {
	add := func(name, kind string) {
		if q := [2]string{name, kind}; !slices.Contains(all, q) {
			all = append(all, q)
		}
	}
	for _, r := range p.Rows {
		if r.Type != "NS" && !strings.HasPrefix(r.Name, "*") {
			add(r.Name, strings.Replace(r.Type, "CNAME", "A", 1))
		}
		if r.Type == "MX" {
			_, name, _ := strings.Cut(r.Now[0], " ")
			if within(name, p.Zone.Name) {
				add(name, "A")
				add(name, "AAAA")
			}
		}
	}
	var labels []string
	for label := range usual {
		labels = append(labels, label)
	}
	slices.Sort(labels)
	for _, label := range labels {
		for _, kind := range usual[label] {
			add(strings.TrimPrefix(label+"."+p.Zone.Name, "."), kind)
		}
	}
	return all
}

// carry compares one record.
func (p *planner) carry(ctx context.Context, next *dnszone.Zone, name, kind string) {
	old, _ := p.ask.AskZone(ctx, p.Zone, name, kind)
	if old.State != dnszone.Found {
		return
	}
	now, _ := p.ask.AskZone(ctx, next, name, kind)
	c := Carried{Name: name, Type: kind, Old: old.Values(), New: now.Values(), State: now.State}
	c.Same = slices.Equal(c.Old, c.New) || slices.Contains(p.Plan.Names, name) && slices.Equal(c.New, wanted(p.To, kind))
	p.Carry = append(p.Carry, c)
	if !c.Same {
		p.find(Finding{Kind: NotCarried, Name: name, Value: kind, Values: c.Old, Others: c.New})
	}
}
