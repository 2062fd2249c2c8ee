package dnszone

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/net/publicsuffix"
)

// Reasons why no zone is found.
var (
	// ErrNotRegistered is returned for a domain that is not there.
	ErrNotRegistered = errors.New("there is no such domain")
	// ErrNoResolver is returned when no resolver answers: nothing is known then.
	ErrNoResolver = errors.New("no resolver answers")
	// ErrNoServer is returned when none of a zone's own name servers answers for it.
	ErrNoServer = errors.New("none of its own name servers answers for it")
)

// Zone is a part of the name space, and who answers for it.
type Zone struct {
	Name string `json:"name"`
	// Parent is the zone above, which delegates this one; Delegated are the servers that it
	// names, Own those that the zone itself names. ParentKnown is set when the zone above
	// was asked.
	Parent      string   `json:"parent,omitempty"`
	ParentKnown bool     `json:"parent_known"`
	Delegated   []string `json:"delegated,omitempty"`
	Own         []string `json:"own,omitempty"`
	// Servers are the addresses of all of them, each asked for the zone's SOA.
	Servers []Server `json:"servers"`
	// Signed tells that the zone above vouches for the zone's keys: a DS record.
	Signed bool `json:"signed"`
	// Negative is for how many seconds it may be kept that a name is not there.
	Negative uint32 `json:"negative"`
}

// Server is an address at which a zone is said to be answered for.
type Server struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	// State is Found for one that answers for the zone.
	State  State  `json:"state"`
	Serial uint32 `json:"serial,omitempty"`
	Why    string `json:"why,omitempty"`
}

// Good are the addresses of the servers that answer for the zone.
func (z *Zone) Good() (all []string) {
	for _, s := range z.Servers {
		if s.State == Found {
			all = append(all, s.Address)
		}
	}
	return all
}

// mostServers are asked of one zone.
const mostServers = 26

// First asks several servers the same question and returns the first answer that says what
// there is, else the last one.
func (a *Asker) First(ctx context.Context, servers []string, name, kind string, options ...Option) (answer Answer) {
	answer = Answer{Name: Plain(name), Type: kind, State: Silent, Why: "there is no server to ask"}
	for _, server := range servers {
		if answer = a.Ask(ctx, server, name, kind, options...); answer.State.Known() || ctx.Err() != nil {
			return answer
		}
	}
	return answer
}

// Each asks several servers the same question side by side; the answers come in the
// servers' order.
func (a *Asker) Each(ctx context.Context, servers []string, name, kind string, options ...Option) []Answer {
	answers := make([]Answer, len(servers))
	var all sync.WaitGroup
	for i, server := range servers {
		all.Go(func() { answers[i] = a.Ask(ctx, server, name, kind, options...) })
	}
	all.Wait()
	return answers
}

// FindZone finds the zone that a name lies in, and its name servers, through resolvers.
func (a *Asker) FindZone(ctx context.Context, resolvers []string, name string) (*Zone, error) {
	z := &Zone{}
	var err error
	if z.Name, err = a.apex(ctx, resolvers, name); err != nil {
		return nil, err
	}
	if suffix, _ := publicsuffix.PublicSuffix(name); z.Name == "." || z.Name == suffix && name != suffix {
		// Some names live in such a zone itself, with a host that gives them away.
		if a.First(ctx, resolvers, name, "A", Recursively).State == NoName {
			return nil, fmt.Errorf("%s: %w", name, ErrNotRegistered)
		}
	}
	own := a.First(ctx, resolvers, z.Name, "NS", Recursively)
	z.Own = own.Values()
	glue := a.delegation(ctx, resolvers, z)
	names := slices.Concat(z.Delegated, z.Own)
	slices.Sort(names)
	for _, server := range slices.Compact(names) {
		z.Servers = append(z.Servers, a.addresses(ctx, resolvers, server, glue[server])...)
	}
	return z, a.Check(ctx, z)
}

// apex is the name of the zone that a name lies in. What a resolver does not tell of a name may
// still be told of the one above; but then nobody knows whether there is a zone between, and
// one of which domains are registered is not taken for the name's own.
func (a *Asker) apex(ctx context.Context, resolvers []string, name string) (string, error) {
	suffix, _ := publicsuffix.PublicSuffix(name)
	var failed Answer
	for at, more := name, true; more; _, at, more = strings.Cut(at, ".") {
		answer := a.First(ctx, resolvers, at, "SOA", Recursively)
		zone := answer.Zone
		switch {
		case !answer.State.Known():
			failed = answer
			continue
		case len(answer.Aliases) > 0:
			continue // what is said is of the name that it leads to
		case answer.State == Found:
			zone = at
		}
		if failed.State != "" && within(suffix, zone) {
			break
		}
		if zone != "" && within(at, zone) {
			return zone, nil
		}
	}
	if failed.State == Failing {
		return "", fmt.Errorf("%s: resolver %s cannot tell who answers for it (%s): %w", name, failed.Server, failed.Why, a.whyFailing(ctx, failed))
	}
	return "", fmt.Errorf("%s: %w", name, ErrNoResolver)
}

// ErrSignatures is returned when what a resolver refuses is there, and its DNSSEC signatures
// are wrong; ErrBroken for any other failure of the zone's servers.
var (
	ErrSignatures = errors.New("its DNSSEC signatures do not hold")
	ErrBroken     = errors.New("its name servers do not answer")
)

// whyFailing tells whether wrong signatures are why a resolver cannot tell.
func (a *Asker) whyFailing(ctx context.Context, failed Answer) error {
	if a.BadSignatures(ctx, failed.Server, failed.Name, failed.Type) {
		return ErrSignatures
	}
	return ErrBroken
}

// BadSignatures tells whether a resolver that cannot tell would, were signatures not checked.
func (a *Asker) BadSignatures(ctx context.Context, resolver, name, kind string) bool {
	return a.Ask(ctx, resolver, name, kind, Recursively, Unchecked).State.Known()
}

// delegation asks the zone above whom it names, and returns the addresses that it knows.
func (a *Asker) delegation(ctx context.Context, resolvers []string, z *Zone) map[string][]netip.Addr {
	_, above, more := strings.Cut(z.Name, ".")
	if !more {
		return nil
	}
	parent, err := a.apex(ctx, resolvers, above)
	if err != nil {
		return nil
	}
	z.Parent = parent
	for _, server := range a.First(ctx, resolvers, parent, "NS", Recursively).Values() {
		for _, at := range a.addresses(ctx, resolvers, server, nil) {
			answer := a.Ask(ctx, at.Address, z.Name, "NS")
			named := answer.Referral
			if answer.State == Found { // the same servers answer for both zones
				named = answer.Values()
			}
			if len(named) == 0 {
				continue
			}
			slices.Sort(named)
			z.Delegated, z.ParentKnown = slices.Compact(named), true
			z.Signed = a.Ask(ctx, at.Address, z.Name, "DS").State == Found
			return answer.Glue
		}
		if ctx.Err() != nil {
			break
		}
	}
	return nil
}

// addresses are those of a name server: what resolvers say, and what the zone above does.
func (a *Asker) addresses(ctx context.Context, resolvers []string, server string, glue []netip.Addr) (all []Server) {
	addrs := slices.Clone(glue)
	for _, kind := range []string{"A", "AAAA"} {
		for _, value := range a.First(ctx, resolvers, server, kind, Recursively).Values() {
			if addr, err := netip.ParseAddr(value); err == nil {
				addrs = append(addrs, addr)
			}
		}
	}
	slices.SortFunc(addrs, netip.Addr.Compare)
	for _, addr := range slices.Compact(addrs) {
		all = append(all, Server{Name: server, Address: net.JoinHostPort(addr.String(), strconv.Itoa(int(cmp.Or(a.Port, 53))))})
	}
	if len(all) == 0 {
		all = []Server{{Name: server, State: Silent, Why: "its name leads to no address"}}
	}
	return all
}

// ZoneAt is a zone whose name servers are named, by host:port, and not looked for. The name of
// the zone is found by asking them.
func (a *Asker) ZoneAt(ctx context.Context, servers []string, name string) (*Zone, error) {
	z := &Zone{}
	for at, more := name, true; more && z.Name == ""; _, at, more = strings.Cut(at, ".") {
		answer := a.First(ctx, servers, at, "SOA")
		switch {
		case len(answer.Aliases) > 0: // what is said is of the name that it leads to
		case answer.State == Found && answer.Authority:
			z.Name = at
		case answer.State.Known() && answer.Authority && answer.Zone != "" && within(at, answer.Zone):
			z.Name = answer.Zone
		}
	}
	if z.Name == "" {
		return nil, fmt.Errorf("%s: %s: %w", name, strings.Join(servers, ", "), ErrNoServer)
	}
	for _, server := range servers {
		z.Servers = append(z.Servers, Server{Name: server, Address: server})
	}
	if err := a.Check(ctx, z); err != nil {
		return nil, err
	}
	z.Own = a.First(ctx, z.Good(), z.Name, "NS").Values()
	return z, nil
}

// Check asks every server of a zone whether it answers for it.
func (a *Asker) Check(ctx context.Context, z *Zone) error {
	z.Servers = z.Servers[:min(len(z.Servers), mostServers)]
	var all sync.WaitGroup
	for i := range z.Servers {
		s := &z.Servers[i]
		if s.Address == "" {
			continue
		}
		all.Go(func() {
			answer := a.Ask(ctx, s.Address, z.Name, "SOA")
			s.State, s.Why = answer.State, answer.Why
			if answer.State != Found || !answer.Authority {
				if answer.State.Known() {
					s.State = Lame
				}
				return
			}
			fields := strings.Fields(answer.Records[0].Value)
			if len(fields) > 2 {
				serial, _ := strconv.ParseUint(fields[2], 10, 32)
				s.Serial = uint32(serial)
			}
		})
	}
	all.Wait()
	if err := ctx.Err(); err != nil {
		return err
	}
	good := z.Good()
	if len(good) == 0 {
		return fmt.Errorf("%s: %w", z.Name, ErrNoServer)
	}
	z.Negative = a.First(ctx, good, z.Name, "SOA").Negative
	return nil
}

// AskZone asks every good server of a zone, and returns the answer that most of them give with
// the servers that say something else.
func (a *Asker) AskZone(ctx context.Context, z *Zone, name, kind string) (answer Answer, others []Answer) {
	said := map[string][]Answer{}
	best := ""
	for _, one := range a.Each(ctx, z.Good(), name, kind) {
		key := fmt.Sprint(one.State.Known(), one.State, one.End(), one.Values())
		said[key] = append(said[key], one)
	}
	for key, answers := range said {
		most := said[best]
		if best == "" || more(answers, most) > 0 || more(answers, most) == 0 && key < best {
			best = key
		}
	}
	if best == "" {
		return Answer{Name: Plain(name), Type: kind, State: Silent}, nil
	}
	for key, answers := range said {
		if key != best {
			others = append(others, answers...)
		}
	}
	slices.SortFunc(others, func(x, y Answer) int { return strings.Compare(x.Server, y.Server) })
	return said[best][0], others
}

// more compares what servers say: what is known before what is not, then what more say.
func more(x, y []Answer) int {
	known := func(a []Answer) int {
		if a[0].State.Known() {
			return 1
		}
		return 0
	}
	return cmp.Or(cmp.Compare(known(x), known(y)), cmp.Compare(len(x), len(y)))
}

// Wildcard asks a zone for a name that nobody can have made, below name: what it answers is
// said of every name that is not there.
func (a *Asker) Wildcard(ctx context.Context, z *Zone, name, kind string) Answer {
	answer, _ := a.AskZone(ctx, z, madeUp()+"."+name, kind)
	return answer
}

// Captive tells whether a resolver has an address for a name that cannot be there (RFC 6761,
// section 6.4), as one does that leads to a log-in page, or to advertisements.
func (a *Asker) Captive(ctx context.Context, resolver string) (Answer, bool) {
	answer := a.Ask(ctx, resolver, madeUp()+".invalid", "A", Recursively)
	return answer, answer.State == Found
}

// madeUp is a name that nobody has made.
func madeUp() string { return "x-" + strings.ToLower(rand.Text()[:16]) }
