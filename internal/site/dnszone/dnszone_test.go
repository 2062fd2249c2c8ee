package dnszone_test

import (
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/nameserver"
	"revlet/internal/site/dnszone"
)

const world = `
example.              3600 SOA ns.example. keeper.example. 1 3600 600 86400 60
example.              3600 NS  ns.example.
ns.example.           3600 A   127.0.0.1
given.example.        3600 A   127.0.0.4
kestrelpoint.example. 300  SOA ns1.kestrelpoint.example. keeper.kestrelpoint.example. 2026112801 3600 600 86400 120
kestrelpoint.example. 300  NS  ns1.kestrelpoint.example.
kestrelpoint.example. 300  A   198.51.100.4
kestrelpoint.example. 300  MX  10 mail.kestrelpoint.example.
ns1.kestrelpoint.example. 300 A 127.0.0.1
www.kestrelpoint.example. 900 CNAME kestrelpoint.example.
a.kestrelpoint.example. 900 CNAME b.kestrelpoint.example.
b.kestrelpoint.example. 900 CNAME a.kestrelpoint.example.
out.kestrelpoint.example. 900 CNAME elsewhere.invalid.
*.open.kestrelpoint.example. 60 A 192.0.2.7
deep.er.kestrelpoint.example. 60 A 192.0.2.8
big.kestrelpoint.example. 60 TXT "start"
`

// play starts the made-up world; own servers are asked at its port.
func play(t *testing.T, text string) (*nameserver.Server, *nameserver.Resolver, *dnszone.Asker) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "zones")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	s, err := nameserver.Start(file, "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	r, err := s.Resolve("127.0.0.1:0", nameserver.Faults{})
	require.NoError(t, err)
	addr, err := net.ResolveTCPAddr("tcp", s.Address)
	require.NoError(t, err)
	return s, r, &dnszone.Asker{Timeout: time.Second, Tries: 1, Port: uint16(addr.Port)}
}

func TestAnswers(t *testing.T) {
	s, r, ask := play(t, world)
	for _, c := range []struct {
		name, kind string
		state      dnszone.State
		values     []string
		end        string
	}{
		{"kestrelpoint.example", "A", dnszone.Found, []string{"198.51.100.4"}, "kestrelpoint.example"},
		{"KestrelPoint.Example.", "A", dnszone.Found, []string{"198.51.100.4"}, "kestrelpoint.example"},
		{"kestrelpoint.example", "AAAA", dnszone.NoData, nil, "kestrelpoint.example"},
		{"kestrelpoint.example", "MX", dnszone.Found, []string{"10 mail.kestrelpoint.example"}, "kestrelpoint.example"},
		{"www.kestrelpoint.example", "A", dnszone.Found, []string{"198.51.100.4"}, "kestrelpoint.example"},
		{"www.kestrelpoint.example", "AAAA", dnszone.NoData, nil, "kestrelpoint.example"},
		{"nothing.kestrelpoint.example", "A", dnszone.NoName, nil, "nothing.kestrelpoint.example"},
		{"er.kestrelpoint.example", "A", dnszone.NoData, nil, "er.kestrelpoint.example"},
		{"any.open.kestrelpoint.example", "A", dnszone.Found, []string{"192.0.2.7"}, "any.open.kestrelpoint.example"},
	} {
		for where, server := range map[string]string{"own": s.Address, "resolver": r.Address} {
			a := ask.Ask(t.Context(), server, c.name, c.kind, dnszone.Recursively)
			assert.Equal(t, c.state, a.State, "%s %s, %s", c.name, c.kind, where)
			assert.Equal(t, c.values, a.Values(), "%s %s, %s", c.name, c.kind, where)
			assert.Equal(t, c.end, a.End(), "%s %s, %s", c.name, c.kind, where)
		}
	}
	assert.Equal(t, uint32(300), ask.Ask(t.Context(), s.Address, "www.kestrelpoint.example", "A").Lifetime(), "the least along the chain")
	assert.Equal(t, uint32(120), ask.Ask(t.Context(), s.Address, "x.kestrelpoint.example", "A").Lifetime(), "of nothing, as the SOA says")
	assert.Equal(t, dnszone.Failing, ask.Ask(t.Context(), s.Address, "a.kestrelpoint.example", "A").State, "a circle is no answer")
	assert.Equal(t, "elsewhere.invalid", ask.Ask(t.Context(), s.Address, "out.kestrelpoint.example", "A").End())
	assert.Equal(t, dnszone.Lame, ask.Ask(t.Context(), s.Address, "kestrelpoint.test", "A").State)
	assert.Equal(t, dnszone.Failing, ask.Ask(t.Context(), s.Address, "kestrelpoint.example", "NONSENSE").State)
}

// What is silent, answers something else, or another question, says nothing.
func TestAnswersThatAreNone(t *testing.T) {
	_, r, ask := play(t, world)
	r.Set(nameserver.Faults{Silent: true})
	a := ask.Ask(t.Context(), r.Address, "kestrelpoint.example", "A", dnszone.Recursively)
	assert.Equal(t, dnszone.Silent, a.State)
	assert.Equal(t, "no answer came in time", a.Why)
	assert.False(t, a.State.Known())

	for what, change := range map[string]func(m *dns.Msg){
		"another question": func(m *dns.Msg) { m.Question[0].Name = "bank.example." },
		"another type":     func(m *dns.Msg) { m.Question[0].Qtype = dns.TypeTXT },
		"a question":       func(m *dns.Msg) { m.Response = false },
	} {
		at := answering(t, func(q *dns.Msg) *dns.Msg {
			m := new(dns.Msg).SetReply(q)
			m.Answer = []dns.RR{rr(t, q.Question[0].Name+" 60 A 203.0.113.66")}
			change(m)
			return m
		})
		assert.Equal(t, dnszone.Silent, ask.Ask(t.Context(), at, "kestrelpoint.example", "A").State, what)
	}
	at := answering(t, func(q *dns.Msg) *dns.Msg {
		m := new(dns.Msg).SetReply(q)
		m.Authoritative = true
		m.Answer = []dns.RR{rr(t, "bank.example. 60 A 203.0.113.66")}
		m.Ns = []dns.RR{rr(t, "bank.example. 60 NS ns.evil.example.")}
		m.Extra = []dns.RR{rr(t, "ns.evil.example. 60 A 203.0.113.66")}
		return m
	})
	a = ask.Ask(t.Context(), at, "kestrelpoint.example", "A")
	assert.Equal(t, dnszone.NoData, a.State, "of a name that was not asked for")
	assert.Empty(t, a.Referral)
	assert.Empty(t, a.Glue)
}

// answering serves made-up replies.
func answering(t *testing.T, reply func(*dns.Msg) *dns.Msg) string {
	t.Helper()
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	server := &dns.Server{PacketConn: c, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) { _ = w.WriteMsg(reply(q)) })}
	done := make(chan struct{})
	go func() { defer close(done); _ = server.ActivateAndServe() }()
	t.Cleanup(func() { _ = c.Close(); <-done })
	return c.LocalAddr().String()
}

func rr(t *testing.T, text string) dns.RR {
	t.Helper()
	r, err := dns.NewRR(text)
	require.NoError(t, err)
	return r
}

func TestFindZone(t *testing.T) {
	s, r, ask := play(t, world)
	z, err := ask.FindZone(t.Context(), []string{r.Address}, "www.kestrelpoint.example")
	require.NoError(t, err)
	assert.Equal(t, "kestrelpoint.example", z.Name)
	assert.Equal(t, "example", z.Parent)
	assert.True(t, z.ParentKnown)
	assert.Equal(t, []string{"ns1.kestrelpoint.example"}, z.Delegated)
	assert.Equal(t, z.Delegated, z.Own)
	assert.Equal(t, []string{s.Address}, z.Good())
	assert.Equal(t, uint32(2026112801), z.Servers[0].Serial)
	assert.Equal(t, uint32(120), z.Negative)
	assert.False(t, z.Signed)

	given, err := ask.FindZone(t.Context(), []string{r.Address}, "given.example")
	require.NoError(t, err, "a name in the zone of others is there all the same")
	assert.Equal(t, "example", given.Name)
	_, err = ask.FindZone(t.Context(), []string{r.Address}, "www.lighthouse.example")
	require.ErrorIs(t, err, dnszone.ErrNotRegistered)
	at, err := ask.ZoneAt(t.Context(), []string{s.Address}, "www.kestrelpoint.example")
	require.NoError(t, err)
	assert.Equal(t, "kestrelpoint.example", at.Name)
	_, err = ask.ZoneAt(t.Context(), []string{s.Address}, "kestrelpoint.test")
	require.ErrorIs(t, err, dnszone.ErrNoServer)

	r.Set(nameserver.Faults{Silent: true})
	_, err = ask.FindZone(t.Context(), []string{r.Address}, "www.kestrelpoint.example")
	require.ErrorIs(t, err, dnszone.ErrNoResolver, "nothing is known: it may well be registered")
	_, err = ask.FindZone(t.Context(), nil, "www.kestrelpoint.example")
	require.ErrorIs(t, err, dnszone.ErrNoResolver)
}

// A resolver that is silent about a name, and not about the zone above, does not say that the
// name is not there.
func TestAResolverThatIsSilentAboutAName(t *testing.T) {
	_, r, ask := play(t, world)
	half := answering(t, func(q *dns.Msg) *dns.Msg {
		m := new(dns.Msg).SetReply(q)
		m.RecursionAvailable = true
		if q.Question[0].Name != "example." {
			return m.SetRcode(q, dns.RcodeServerFailure)
		}
		m.Answer = []dns.RR{rr(t, "example. 60 SOA a. b. 1 1 1 1 1")}
		return m
	})
	_, err := ask.FindZone(t.Context(), []string{half}, "www.kestrelpoint.example")
	require.ErrorIs(t, err, dnszone.ErrBroken)
	require.NotErrorIs(t, err, dnszone.ErrNotRegistered)
	_, err = ask.FindZone(t.Context(), []string{half, r.Address}, "www.kestrelpoint.example")
	require.NoError(t, err)
}

// A server that does not know the zone, and one that is silent, answer for nothing.
func TestLameServers(t *testing.T) {
	lame := answering(t, func(q *dns.Msg) *dns.Msg { return new(dns.Msg).SetRcode(q, dns.RcodeRefused) })
	echo := answering(t, func(q *dns.Msg) *dns.Msg { // a resolver, that has it from elsewhere
		m := new(dns.Msg).SetReply(q)
		m.Answer = []dns.RR{rr(t, q.Question[0].Name+" 60 SOA a. b. 1 1 1 1 1")}
		return m
	})
	_, r, ask := play(t, world)
	r.Set(nameserver.Faults{Silent: true})
	z := &dnszone.Zone{Name: "kestrelpoint.example"}
	for _, at := range []string{lame, r.Address, echo} {
		z.Servers = append(z.Servers, dnszone.Server{Name: at, Address: at})
	}
	require.ErrorIs(t, ask.Check(t.Context(), z), dnszone.ErrNoServer)
	assert.Equal(t, []dnszone.State{dnszone.Lame, dnszone.Silent, dnszone.Lame}, []dnszone.State{z.Servers[0].State, z.Servers[1].State, z.Servers[2].State})
}

func TestServersThatDisagree(t *testing.T) {
	say := func(value string) string {
		return answering(t, func(q *dns.Msg) *dns.Msg {
			m := new(dns.Msg).SetReply(q)
			m.Authoritative = true
			m.Answer = []dns.RR{rr(t, q.Question[0].Name+" 60 A "+value)}
			return m
		})
	}
	_, _, ask := play(t, world)
	z := &dnszone.Zone{Name: "kestrelpoint.example"}
	for _, at := range []string{say("203.0.113.9"), say("198.51.100.4"), say("203.0.113.9")} {
		z.Servers = append(z.Servers, dnszone.Server{Address: at, State: dnszone.Found})
	}
	most, others := ask.AskZone(t.Context(), z, "kestrelpoint.example", "A")
	assert.Equal(t, []string{"203.0.113.9"}, most.Values())
	require.Len(t, others, 1)
	assert.Equal(t, z.Servers[1].Address, others[0].Server)
}

func TestWildcardAndCaptive(t *testing.T) {
	_, r, ask := play(t, world)
	z, err := ask.FindZone(t.Context(), []string{r.Address}, "kestrelpoint.example")
	require.NoError(t, err)
	assert.Equal(t, dnszone.NoName, ask.Wildcard(t.Context(), z, "kestrelpoint.example", "A").State)
	assert.Equal(t, []string{"192.0.2.7"}, ask.Wildcard(t.Context(), z, "open.kestrelpoint.example", "A").Values())
	_, captive := ask.Captive(t.Context(), r.Address)
	assert.False(t, captive)
	r.Set(nameserver.Faults{Lies: []dns.RR{rr(t, "*.invalid. 60 A 10.0.0.1")}})
	answer, captive := ask.Captive(t.Context(), r.Address)
	assert.True(t, captive)
	assert.Equal(t, []string{"10.0.0.1"}, answer.Values())
}

func TestNames(t *testing.T) {
	for host, want := range map[string]string{"Kestrel-Point.Example.": "kestrel-point.example", "leuchtturm-münchen.example": "xn--leuchtturm-mnchen-e3b.example", "192.0.2.1": "", "[2001:db8::1]": "", "a b": "", "": "", "-x.example": ""} {
		name, err := dnszone.FromHost(host)
		assert.Equal(t, want, name, host)
		assert.Equal(t, want == "", err != nil, host)
	}
	assert.Equal(t, "leuchtturm-münchen.example", dnszone.Shown("xn--leuchtturm-mnchen-e3b.example"))
}

// Whatever comes from a name server, the answer is bounded and about what was asked.
func FuzzAnswer(f *testing.F) {
	m := new(dns.Msg).SetQuestion("kestrelpoint.example.", dns.TypeA)
	m.Response = true
	for _, text := range []string{"kestrelpoint.example. 60 A 192.0.2.1", "kestrelpoint.example. 60 CNAME kestrelpoint.example."} {
		r, _ := dns.NewRR(text)
		m.Answer = append(m.Answer, r)
		packed, _ := m.Pack()
		f.Add(packed)
	}
	f.Fuzz(func(t *testing.T, packed []byte) {
		reply := new(dns.Msg)
		if reply.Unpack(packed) != nil {
			return
		}
		a := dnszone.Read(reply, "kestrelpoint.example", "A")
		assert.LessOrEqual(t, len(a.Records), 256)
		assert.LessOrEqual(t, len(a.Aliases), 16*256)
		for _, r := range a.Records {
			assert.Equal(t, "A", r.Type)
			assert.True(t, r.Name == a.End(), "%s at the end of %s", r.Name, a.End())
		}
		if a.State == dnszone.Found {
			assert.NotEmpty(t, a.Records)
			assert.NotEmpty(t, a.Values())
		}
		_ = a.Lifetime()
	})
}
