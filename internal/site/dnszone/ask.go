// Package dnszone asks the Domain Name System about a site's names: a domain's own name
// servers, found by following the delegation, and resolvers, whose answers may be old.
//
// Begin with Asker.Ask for one question to one server, and with Asker.FindZone for who
// answers for a name. A Zone is asked by Asker.AskZone.
//
// Whatever a server says is foreign: an answer counts only if it is to the question that
// was asked, records of names that the question does not lead to are passed over, and
// sizes and chains are bounded. Every answer has a State; that a server is silent, or
// cannot say, is never taken for an empty answer.
//
// RFC 1034, 1035 and 2308 (caching of what is not there), 3596 (AAAA), 4035 (DNSSEC), 6891
// (EDNS), 7766 (TCP), 8659 (CAA). An Asker is safe for concurrent use.
package dnszone

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/net/idna"
)

// State is what an answer means.
type State string

// The states of an answer.
const (
	// Found: there are records.
	Found State = "found"
	// NoData: the name is there, and has none of that type. NoName: it is not there.
	NoData State = "none"
	NoName State = "no such name"
	// Lame: the server does not answer for the name. Failing: it says that it cannot tell.
	Lame    State = "refuses"
	Failing State = "cannot tell"
	// Silent: nothing came.
	Silent State = "silent"
)

// Known tells whether the answer says what there is.
func (s State) Known() bool { return s == Found || s == NoData || s == NoName }

// Record is one record of the DNS.
type Record struct {
	Name string `json:"name"`
	Type string `json:"type"`
	// Value is the record's data as in a zone file.
	Value string `json:"value"`
	// Lifetime is for how many seconds it may be kept.
	Lifetime uint32 `json:"lifetime"`
}

// Answer is what a server said to a question.
type Answer struct {
	Server string `json:"server"`
	Name   string `json:"name"`
	Type   string `json:"type"`
	State  State  `json:"state"`
	// Records are those of the type that was asked for, at the end of a chain of aliases.
	Records []Record `json:"records,omitempty"`
	// Aliases are the CNAME records that led there.
	Aliases []Record `json:"aliases,omitempty"`
	// Authority says that the server answers for the name itself, Validated that it says to
	// have checked the signatures.
	Authority bool `json:"authority,omitempty"`
	Validated bool `json:"validated,omitempty"`
	// Zone owns the name as the server sees it, if it said so: the owner of the SOA. Negative
	// is for how many seconds it may be kept that there is nothing.
	Zone     string `json:"-"`
	Negative uint32 `json:"negative,omitempty"`
	// Referral are the name servers that the answer refers to, Glue their addresses.
	Referral []string                `json:"-"`
	Glue     map[string][]netip.Addr `json:"-"`
	Took     time.Duration           `json:"-"`
	// Why says of a silent or failing server what went wrong.
	Why string `json:"why,omitempty"`
}

// Values are the data of the answer's records, sorted.
func (a Answer) Values() []string {
	var all []string
	for _, r := range a.Records {
		all = append(all, r.Value)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// Lifetime is for how many seconds the answer may be kept by who asks now: the least of all
// that it rests on.
func (a Answer) Lifetime() uint32 {
	if a.State != Found {
		return a.Negative
	}
	least := ^uint32(0)
	for _, r := range slices.Concat(a.Aliases, a.Records) {
		least = min(least, r.Lifetime)
	}
	return least
}

// Asker asks name servers. The zero value asks port 53.
type Asker struct {
	// Timeout is how long one try may take (default 3 s), Tries how often a question is asked
	// before the server counts as silent (default 2).
	Timeout time.Duration
	Tries   int
	// Port is where servers are asked that are found by a delegation (default 53).
	Port uint16
}

const (
	// mostRecords of an answer are looked at, mostAliases followed.
	mostRecords = 256
	mostAliases = 16
	// packet is the largest answer that is asked for over UDP, in bytes: one that is not cut
	// into pieces on its way.
	packet = 1232
)

// Option changes a question.
type Option func(*dns.Msg)

// Recursively has the server find out what it does not know: for resolvers.
func Recursively(m *dns.Msg) { m.RecursionDesired = true }

// Unchecked has a resolver answer although signatures are wrong.
func Unchecked(m *dns.Msg) { m.CheckingDisabled = true }

// Ask asks one server, by host:port, one question. What went wrong is the answer's State.
func (a *Asker) Ask(ctx context.Context, server, name, kind string, options ...Option) Answer {
	answer := Answer{Server: server, Name: Plain(name), Type: kind}
	code, known := dns.StringToType[kind]
	if _, valid := dns.IsDomainName(name); !known || !valid {
		answer.State, answer.Why = Failing, "that is no question of the DNS"
		return answer
	}
	m := new(dns.Msg).SetQuestion(dns.CanonicalName(name), code)
	m.RecursionDesired = false
	m.SetEdns0(packet, false)
	m.AuthenticatedData = true // RFC 6840, section 5.7: the state of signatures is asked for
	for _, o := range options {
		o(m)
	}
	began := time.Now()
	reply, err := a.exchange(ctx, server, m)
	answer.Took = time.Since(began)
	if err != nil {
		answer.State, answer.Why = Silent, why(err)
		return answer
	}
	answer.read(reply, m.Question[0], m.RecursionDesired)
	return answer
}

// why words an error of the network without the addresses that are said anyway.
func why(err error) string {
	var op *net.OpError
	switch {
	case errors.As(err, &op) && op.Timeout(), errors.Is(err, context.DeadlineExceeded):
		return "no answer came in time"
	case errors.As(err, &op):
		return op.Err.Error()
	}
	return err.Error()
}

// exchange sends a question until an answer to it comes: over TCP when it is too long for UDP.
func (a *Asker) exchange(ctx context.Context, server string, m *dns.Msg) (reply *dns.Msg, err error) {
	for range cmp.Or(a.Tries, 2) {
		client := &dns.Client{Net: "udp", Timeout: cmp.Or(a.Timeout, 3*time.Second)}
		reply, _, err = client.ExchangeContext(ctx, m.Copy(), server)
		if err == nil && reply.Truncated {
			client.Net = "tcp"
			reply, _, err = client.ExchangeContext(ctx, m.Copy(), server)
		}
		if err == nil && !answers(reply, m) {
			err = errors.New("what came is no answer to the question")
		}
		if err == nil || ctx.Err() != nil {
			return reply, err
		}
		m.Id = dns.Id()
	}
	return nil, err
}

// answers tells whether a message is a reply to a question.
func answers(reply, m *dns.Msg) bool {
	if !reply.Response || reply.Opcode != dns.OpcodeQuery || len(reply.Question) > 1 {
		return false
	}
	if len(reply.Question) == 0 {
		return reply.Rcode != dns.RcodeSuccess // some refuse without repeating the question
	}
	q, asked := reply.Question[0], m.Question[0]
	return strings.EqualFold(q.Name, asked.Name) && q.Qtype == asked.Qtype && q.Qclass == asked.Qclass
}

// read takes from a reply what belongs to the question.
func (a *Answer) read(reply *dns.Msg, q dns.Question, recursive bool) {
	a.Authority, a.Validated = reply.Authoritative, reply.AuthenticatedData
	a.readAuthority(reply)
	switch reply.Rcode {
	case dns.RcodeSuccess, dns.RcodeNameError:
	case dns.RcodeRefused, dns.RcodeNotAuth:
		a.State = Lame
		return
	default:
		a.State, a.Why = Failing, dns.RcodeToString[reply.Rcode]
		return
	}
	looping := a.follow(reply, q)
	switch {
	case looping:
		a.State, a.Why = Failing, "its aliases lead round in a circle"
	case len(a.Records) > 0:
		a.State = Found
	case reply.Rcode == dns.RcodeNameError:
		a.State = NoName
	case !recursive && len(a.Aliases) > 0:
		a.State = NoData // the alias leads out of what this server knows: see End
	case !recursive && !reply.Authoritative:
		a.State = Lame
	case recursive && !reply.RecursionAvailable && a.Zone == "" && len(a.Aliases) == 0:
		a.State, a.Why = Lame, "it does not ask others"
	default:
		a.State = NoData
	}
}

// follow collects the records of a question, along its aliases, and tells whether these lead
// round in a circle.
func (a *Answer) follow(reply *dns.Msg, q dns.Question) (looping bool) {
	at := dns.CanonicalName(q.Name)
	records := reply.Answer[:min(len(reply.Answer), mostRecords)]
	for range mostAliases {
		var alias *dns.CNAME
		for _, rr := range records {
			if dns.CanonicalName(rr.Header().Name) != at || rr.Header().Class != dns.ClassINET {
				continue
			}
			if rr.Header().Rrtype == q.Qtype {
				a.Records = append(a.Records, recordOf(rr))
			} else if c, ok := rr.(*dns.CNAME); ok && alias == nil {
				alias = c
			}
		}
		if len(a.Records) > 0 || alias == nil {
			return false
		}
		a.Aliases = append(a.Aliases, recordOf(alias))
		at = dns.CanonicalName(alias.Target)
	}
	return true
}

// End is the name at the end of the answer's aliases.
func (a Answer) End() string {
	if len(a.Aliases) == 0 {
		return a.Name
	}
	return Plain(a.Aliases[len(a.Aliases)-1].Value)
}

// readAuthority takes what a reply says of whom to ask, and of how long nothing holds.
func (a *Answer) readAuthority(reply *dns.Msg) {
	for _, rr := range slices.Concat(reply.Answer[:min(len(reply.Answer), mostRecords)], reply.Ns[:min(len(reply.Ns), mostRecords)]) {
		if soa, ok := rr.(*dns.SOA); ok && a.Zone == "" {
			a.Zone, a.Negative = Plain(soa.Hdr.Name), min(soa.Minttl, soa.Hdr.Ttl)
		}
	}
	for _, rr := range reply.Ns[:min(len(reply.Ns), mostRecords)] {
		if ns, ok := rr.(*dns.NS); ok && within(a.Name, Plain(ns.Hdr.Name)) {
			a.Referral = append(a.Referral, Plain(ns.Ns))
		}
	}
	a.Glue = map[string][]netip.Addr{}
	for _, rr := range reply.Extra[:min(len(reply.Extra), mostRecords)] {
		name := Plain(rr.Header().Name)
		if !slices.Contains(a.Referral, name) {
			continue
		}
		if addr, ok := addrOf(rr); ok {
			a.Glue[name] = append(a.Glue[name], addr)
		}
	}
}

// within tells whether a name is a zone's name or below it.
func within(name, zone string) bool {
	return zone == "." || name == zone || strings.HasSuffix(name, "."+zone)
}

func addrOf(rr dns.RR) (netip.Addr, bool) {
	switch rr := rr.(type) {
	case *dns.A:
		addr, ok := netip.AddrFromSlice(rr.A)
		return addr.Unmap(), ok
	case *dns.AAAA:
		return netip.AddrFromSlice(rr.AAAA)
	}
	return netip.Addr{}, false
}

func recordOf(rr dns.RR) Record {
	h := rr.Header()
	value := strings.TrimPrefix(rr.String(), h.String())
	switch rr := rr.(type) {
	case *dns.CNAME:
		value = Plain(rr.Target)
	case *dns.NS:
		value = Plain(rr.Ns)
	case *dns.MX:
		value = fmt.Sprintf("%d %s", rr.Preference, Plain(rr.Mx))
	}
	if addr, ok := addrOf(rr); ok {
		value = addr.String()
	}
	return Record{Name: Plain(h.Name), Type: dns.TypeToString[h.Rrtype], Value: value, Lifetime: h.Ttl}
}

// Plain is a domain's name in lower case and without the dot at its end; the root is ".".
func Plain(name string) string {
	return cmp.Or(strings.TrimSuffix(strings.ToLower(name), "."), ".")
}

// FromHost is the name of a host as the DNS has it (RFC 5891); one that can be none is an
// error.
func FromHost(host string) (string, error) {
	if _, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
		return "", fmt.Errorf("%s is an address, no name", host)
	}
	name, err := idna.Lookup.ToASCII(strings.TrimSuffix(host, "."))
	if err != nil || name == "" {
		return "", fmt.Errorf("%q is no name of a host", host)
	}
	return Plain(name), nil
}

// Shown is a name as people write it, with its own letters.
func Shown(name string) string {
	if shown, err := idna.Display.ToUnicode(name); err == nil {
		return shown
	}
	return name
}
