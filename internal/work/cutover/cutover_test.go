package cutover_test

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/nameserver"
	"revlet/internal/site/dnszone"
	"revlet/internal/work/cutover"
)

// world is a museum at 127.0.0.4 that moves to 127.0.0.9.
const world = `
example.              3600 SOA ns.example. keeper.example. 1 3600 600 86400 60
example.              3600 NS  ns.example.
ns.example.           3600 A   127.0.0.1
kestrelpoint.example. 300  SOA ns1.kestrelpoint.example. keeper.kestrelpoint.example. 1 3600 600 86400 120
kestrelpoint.example. 300  NS  ns1.kestrelpoint.example.
kestrelpoint.example. 300  A   127.0.0.4
kestrelpoint.example. 300  MX  10 mail.kestrelpoint.example.
mail.kestrelpoint.example. 300 A 127.0.0.25
ns1.kestrelpoint.example. 300 A 127.0.0.1
www.kestrelpoint.example. 900 CNAME kestrelpoint.example.
`

type stage struct {
	t    *testing.T
	file string
	dns  *nameserver.Server
	res  *nameserver.Resolver
	ask  *dnszone.Asker
	now  time.Time
}

func play(t *testing.T, text string) *stage {
	t.Helper()
	s := &stage{t: t, file: filepath.Join(t.TempDir(), "zones"), now: time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)}
	s.zone(text)
	var err error
	s.dns, err = nameserver.Start(s.file, "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.dns.Close()) })
	s.res, err = s.dns.Resolve("127.0.0.1:0", nameserver.Faults{})
	require.NoError(t, err)
	addr, err := net.ResolveTCPAddr("tcp", s.dns.Address)
	require.NoError(t, err)
	s.ask = &dnszone.Asker{Timeout: time.Second, Tries: 1, Port: uint16(addr.Port)}
	return s
}

// zone writes the zones' file, as somebody does at the registrar.
func (s *stage) zone(text string) {
	s.t.Helper()
	require.NoError(s.t, os.WriteFile(s.file, []byte(text), 0o600))
	require.NoError(s.t, os.Chtimes(s.file, time.Time{}, time.Now().Add(time.Duration(len(text))*time.Millisecond)))
}

func (s *stage) order(to ...string) cutover.Order {
	o := cutover.Order{Address: &url.URL{Scheme: "http", Host: "kestrelpoint.example:1"}, Resolvers: []cutover.Resolver{{Name: "stand-in", Address: s.res.Address}}, Now: func() time.Time { return s.now }, Patience: 300 * time.Millisecond}
	for _, addr := range to {
		o.To = append(o.To, netip.MustParseAddr(addr))
	}
	return o
}

func (s *stage) plan(o cutover.Order) *cutover.Plan {
	s.t.Helper()
	p, err := cutover.MakePlan(s.t.Context(), s.ask, o)
	require.NoError(s.t, err)
	return p
}

// rows are the plan's records as text.
func rows(p *cutover.Plan) (all []string) {
	for _, r := range p.Rows {
		all = append(all, fmt.Sprintf("%s %s %s -> %s: %s", r.Name, r.Type, strings.Join(r.Now, ","), strings.Join(r.ToBe, ","), r.Change))
	}
	return all
}

func kinds(p *cutover.Plan) (all []cutover.Kind) {
	for _, f := range p.Findings {
		all = append(all, f.Kind)
	}
	return all
}

func TestPlan(t *testing.T) {
	s := play(t, world)
	p := s.plan(s.order("127.0.0.9"))
	assert.Equal(t, []string{"kestrelpoint.example", "www.kestrelpoint.example"}, p.Names)
	assert.Equal(t, []string{
		"kestrelpoint.example A 127.0.0.4 -> 127.0.0.9: change",
		"www.kestrelpoint.example CNAME kestrelpoint.example -> kestrelpoint.example: follows",
		"kestrelpoint.example MX 10 mail.kestrelpoint.example -> 10 mail.kestrelpoint.example: stays",
		"kestrelpoint.example NS ns1.kestrelpoint.example -> ns1.kestrelpoint.example: stays",
	}, rows(p))
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("127.0.0.4")}, p.Old)
	assert.False(t, p.Lower)
	assert.Zero(t, p.NotBefore, "300 seconds are no hindrance")
	assert.Equal(t, []cutover.Kind{cutover.NewSilent, cutover.NewSilent}, kinds(p))

	_, err := cutover.MakePlan(t.Context(), s.ask, func() cutover.Order {
		o := s.order("127.0.0.9")
		o.Address.Host = "museum.example"
		return o
	}())
	require.ErrorIs(t, err, dnszone.ErrNotRegistered)
}

// What a zone may be like, and what is said of it.
func TestFindings(t *testing.T) {
	for name, c := range map[string]struct {
		from, into string
		to         []string
		kind       cutover.Kind
		row        string
	}{
		"IPv6 left behind":   {"127.0.0.4\n", "127.0.0.4\nkestrelpoint.example. 300 AAAA 2001:db8::4\n", []string{"127.0.0.9"}, cutover.LeftBehind, "kestrelpoint.example AAAA 2001:db8::4 -> : remove"},
		"IPv6 is new":        {"127.0.0.4\n", "127.0.0.4\n", []string{"127.0.0.9", "2001:db8::9"}, cutover.NewSilent, "kestrelpoint.example AAAA  -> 2001:db8::9: add"},
		"IPv6 only":          {"300  A   127.0.0.4\n", "300 AAAA 2001:db8::4\n", []string{"2001:db8::9"}, cutover.NewSilent, "kestrelpoint.example AAAA 2001:db8::4 -> 2001:db8::9: change"},
		"an own www":         {"900 CNAME kestrelpoint.example.", "900 A 127.0.0.4", []string{"127.0.0.9"}, cutover.NewSilent, "www.kestrelpoint.example A 127.0.0.4 -> 127.0.0.9: change"},
		"changed already":    {"300  A   127.0.0.4\n", "300  A   127.0.0.9\n", []string{"127.0.0.9"}, cutover.NewSilent, "kestrelpoint.example A 127.0.0.9 -> 127.0.0.9: is new"},
		"mail to the name":   {"10 mail.", "10 ", []string{"127.0.0.9"}, cutover.MailFollows, ""},
		"mail to an alias":   {"10 mail.", "10 www.", []string{"127.0.0.9"}, cutover.MailFollows, ""},
		"mail on the old":    {"A 127.0.0.25", "A 127.0.0.4", []string{"127.0.0.9"}, cutover.MailOnOld, ""},
		"mail without MX":    {"kestrelpoint.example. 300  MX  10 mail.kestrelpoint.example.\n", "", []string{"127.0.0.9"}, cutover.MailImplicit, ""},
		"senders by address": {"127.0.0.4\n", "127.0.0.4\nkestrelpoint.example. 300 TXT \"v=spf1 ip4:127.0.0.4 -all\"\n", []string{"127.0.0.9"}, cutover.SenderNamesOld, ""},
		"senders by name":    {"127.0.0.4\n", "127.0.0.4\nkestrelpoint.example. 300 TXT \"v=spf1 a -all\"\n", []string{"127.0.0.9"}, cutover.SenderNamesOld, ""},
		"senders by range":   {"127.0.0.4\n", "127.0.0.4\nkestrelpoint.example. 300 TXT \"v=spf1 ip4:127.0.0.0/29 -all\"\n", []string{"127.0.0.9"}, cutover.SenderNamesOld, ""},
		"issuers":            {"127.0.0.4\n", "127.0.0.4\nkestrelpoint.example. 300 CAA 0 issue \"ca.example\"\n", []string{"127.0.0.9"}, cutover.IssuersLimited, ""},
		"wildcard":           {"127.0.0.4\n", "127.0.0.4\n*.kestrelpoint.example. 300 A 127.0.0.4\n", []string{"127.0.0.9"}, cutover.Wildcard, "*.kestrelpoint.example A 127.0.0.4 -> 127.0.0.9: change"},
		"wildcard elsewhere": {"127.0.0.4\n", "127.0.0.4\n*.kestrelpoint.example. 300 A 127.0.0.77\n", []string{"127.0.0.9"}, cutover.NewSilent, "*.kestrelpoint.example A 127.0.0.77 -> 127.0.0.77: stays"},
		"alias of others":    {"900 CNAME kestrelpoint.example.", "900 CNAME museum.host.example.", []string{"127.0.0.9"}, cutover.AliasOutside, "www.kestrelpoint.example CNAME museum.host.example -> 127.0.0.9: leads elsewhere"},
		"alias within":       {"900 CNAME kestrelpoint.example.", "900 CNAME web.kestrelpoint.example.\nweb.kestrelpoint.example. 60 A 127.0.0.4", []string{"127.0.0.9"}, cutover.AliasInside, "web.kestrelpoint.example A 127.0.0.4 -> 127.0.0.9: change"},
		"alias at the top":   {"300  A   127.0.0.4\n", "300 CNAME museum.host.example.\n", []string{"127.0.0.9"}, cutover.AliasAtTop, ""},
		"two delegations":    {"300  NS  ns1.kestrelpoint.example.\n", "300  NS  ns1.kestrelpoint.example.\nkestrelpoint.example. 300 NS ns2.kestrelpoint.example.\n", []string{"127.0.0.9"}, cutover.ServerAmiss, ""},
	} {
		text := strings.Replace(world, c.from, c.into, 1)
		require.Contains(t, world, c.from, name)
		s := play(t, text)
		p := s.plan(s.order(c.to...))
		assert.Contains(t, kinds(p), c.kind, name)
		if c.row != "" {
			assert.Contains(t, rows(p), c.row, name)
		}
	}
}

func TestResolversThatAreNotToBeBelieved(t *testing.T) {
	s := play(t, world)
	rr := func(text string) dns.RR {
		r, err := dns.NewRR(text)
		require.NoError(t, err)
		return r
	}
	o := s.order("127.0.0.9")
	o.NameServers = []string{s.dns.Address}
	for kind, f := range map[cutover.Kind]nameserver.Faults{
		cutover.Captive:       {Lies: []dns.RR{rr("*.invalid. 60 A 10.0.0.1")}},
		cutover.ResolverAmiss: {Silent: true},
		cutover.SplitHorizon:  {Lies: []dns.RR{rr("kestrelpoint.example. 60 A 10.0.0.5")}},
	} {
		s.res.Set(f)
		assert.Contains(t, kinds(s.plan(o)), kind)
	}
	s.res.Set(nameserver.Faults{})
	assert.Equal(t, []cutover.Kind{cutover.NewSilent, cutover.NewSilent}, kinds(s.plan(o)))
}

// A long lifetime is lowered first, and caches know the long one for as long.
func TestLifetimes(t *testing.T) {
	s := play(t, strings.Replace(world, "300  A   127.0.0.4", "86400 A 127.0.0.4", 1))
	o := s.order("127.0.0.9")
	p := s.plan(o)
	assert.True(t, p.Lower)
	assert.Equal(t, s.now.Add(24*time.Hour), p.NotBefore)

	s.zone(world)
	began := s.now
	s.now, o.Seen = s.now.Add(time.Hour), p.Seen
	p = s.plan(o)
	assert.False(t, p.Lower, "it was lowered")
	assert.Equal(t, began.Add(24*time.Hour), p.NotBefore, "but caches have it from before")
	s.now, o.Seen = s.now.Add(23*time.Hour), p.Seen
	p = s.plan(o)
	assert.Zero(t, p.NotBefore)
	for _, seen := range p.Seen {
		assert.Less(t, seen.Lifetime, uint32(1000), "what is over is forgotten")
	}
}

// The new machine is asked under the site's names, whatever the names lead to.
func TestTheNewMachine(t *testing.T) {
	answer := func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<title>"+r.Host+"</title>") }
	serve := func(at string, h http.HandlerFunc) int {
		l, err := net.Listen("tcp", at)
		require.NoError(t, err)
		server := httptest.NewUnstartedServer(h)
		_ = server.Listener.Close()
		server.Listener = l
		server.Start()
		t.Cleanup(server.Close)
		return l.Addr().(*net.TCPAddr).Port
	}
	port := serve("127.0.0.9:0", func(w http.ResponseWriter, r *http.Request) { answer(w, r) })
	serve(fmt.Sprintf("127.0.0.4:%d", port), func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Via", "1.1 harbour-cache")
		fmt.Fprint(w, "<title>Kestrel Point</title>")
	})
	s := play(t, world)
	o := s.order("127.0.0.9")
	o.Address.Host = fmt.Sprintf("kestrelpoint.example:%d", port)
	for name, c := range map[string]struct {
		answer http.HandlerFunc
		want   []cutover.Kind
	}{
		"another title": {func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<title>"+r.Host+"</title>") }, []cutover.Kind{cutover.OtherTitle}},
		"well":          {func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<title>Kestrel Point</title>"+r.Host) }, nil},
		"the default":   {func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<title>Kestrel Point</title>") }, []cutover.Kind{cutover.DefaultSite}},
		"an error":      {func(w http.ResponseWriter, r *http.Request) { http.Error(w, "no database", 500) }, []cutover.Kind{cutover.NewFails}},
		"to others": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "https://parking.example/", http.StatusFound)
		}, []cutover.Kind{cutover.OtherSite}},
		"to itself": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "https://www.kestrelpoint.example/", http.StatusMovedPermanently)
		}, nil},
	} {
		answer = c.answer
		p := s.plan(o)
		found := map[cutover.Kind]bool{}
		for _, k := range kinds(p) {
			found[k] = true
		}
		want := map[cutover.Kind]bool{cutover.BehindProxy: true}
		for _, k := range c.want {
			want[k] = true
		}
		assert.Equal(t, want, found, name)
	}
}

// What a new machine shows as its certificate is looked at, and what it answers counts all the same.
func TestTheNewMachinesCertificate(t *testing.T) {
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<title>Kestrel Point</title>"+r.Host) }))
	l, err := net.Listen("tcp", "127.0.0.9:0")
	require.NoError(t, err)
	_ = server.Listener.Close()
	server.Listener, server.EnableHTTP2 = l, true
	server.StartTLS()
	defer server.Close()
	s := play(t, world)
	o := s.order("127.0.0.9")
	o.Address.Scheme, o.Address.Host = "https", fmt.Sprintf("kestrelpoint.example:%d", l.Addr().(*net.TCPAddr).Port)
	p := s.plan(o)
	require.NotEmpty(t, p.Hosts)
	h := p.Hosts[0]
	assert.Equal(t, 200, h.Status)
	assert.Equal(t, "HTTP/2.0", h.Protocol)
	assert.Equal(t, "Kestrel Point", h.Title)
	require.NotNil(t, h.Certificate)
	assert.Contains(t, h.Certificate.Names, "example.com")
	assert.Equal(t, "it is not for this name", h.Certificate.Trouble)
	assert.Contains(t, kinds(p), cutover.NewCertificate)

	s = play(t, "example.com. 300 SOA ns.example.com. keeper.example.com. 1 3600 600 86400 1\nexample.com. 300 A 127.0.0.4\n")
	o = s.order("127.0.0.9")
	o.Address.Scheme, o.Address.Host = "https", fmt.Sprintf("example.com:%d", l.Addr().(*net.TCPAddr).Port)
	o.NameServers = []string{s.dns.Address}
	p = s.plan(o)
	require.NotEmpty(t, p.Hosts)
	assert.Equal(t, "nobody that browsers know has issued it", p.Hosts[0].Certificate.Trouble)
}

// New name servers have to say all that the old ones do.
func TestAZoneThatMoves(t *testing.T) {
	s := play(t, world)
	next := play(t, strings.Replace(strings.Replace(world, "mail.kestrelpoint.example. 300 A 127.0.0.25\n", "", 1), "127.0.0.4", "127.0.0.9", 1))
	o := s.order("127.0.0.9")
	o.NewServers = []string{next.dns.Address}
	p := s.plan(o)
	var missing []string
	for _, f := range p.Findings {
		if f.Kind == cutover.NotCarried {
			missing = append(missing, f.Name+" "+f.Value)
		}
	}
	assert.Equal(t, []string{"mail.kestrelpoint.example A"}, missing)
	o.NewServers = []string{"127.0.0.1:1"}
	assert.Contains(t, kinds(s.plan(o)), cutover.NewServersFail)
}

// watch runs a watch in which something is done after each round.
func (s *stage) watch(o cutover.WatchOrder, after func(n int)) cutover.Round {
	s.t.Helper()
	o.Names, o.To, o.Old = []string{"kestrelpoint.example", "www.kestrelpoint.example"}, []netip.Addr{netip.MustParseAddr("127.0.0.9")}, []netip.Addr{netip.MustParseAddr("127.0.0.4")}
	o.Every, o.Now = time.Millisecond, func() time.Time { return s.now }
	r, err := cutover.Watch(s.t.Context(), s.ask, o, func(r cutover.Round) {
		s.now = s.now.Add(time.Second)
		after(r.Number)
	})
	require.NoError(s.t, err)
	return r
}

func TestWatch(t *testing.T) {
	s := play(t, world)
	zone, err := s.ask.FindZone(t.Context(), []string{s.res.Address}, "kestrelpoint.example")
	require.NoError(t, err)
	changed := strings.Replace(world, "300  A   127.0.0.4", "300  A   127.0.0.9", 1)
	lagging, err := s.dns.Resolve("127.0.0.1:0", nameserver.Faults{})
	require.NoError(t, err)
	o := cutover.WatchOrder{Zone: zone, Resolvers: []cutover.Resolver{{Name: "near", Address: s.res.Address}, {Name: "far", Address: lagging.Address}}, Times: 3, Limit: 10 * time.Second}
	r := s.watch(o, func(n int) {
		if n == 2 {
			s.zone(changed)
		}
	})
	assert.False(t, r.Done, "caches do not know yet when the limit is over")
	assert.True(t, r.OwnNew)
	assert.Equal(t, cutover.ToOld, r.Views[1].Leads)
	assert.False(t, r.Gone.IsZero())
	assert.LessOrEqual(t, r.Gone.Sub(s.now), 300*time.Second)

	fresh, err := s.dns.Resolve("127.0.0.1:0", nameserver.Faults{})
	require.NoError(t, err)
	o.Resolvers, o.Limit = []cutover.Resolver{{Name: "fresh", Address: fresh.Address}}, time.Minute
	r = s.watch(o, func(n int) {
		if n == 2 { // one that falls silent in between begins the count anew
			fresh.Set(nameserver.Faults{Silent: true})
		} else {
			fresh.Set(nameserver.Faults{})
		}
	})
	assert.True(t, r.Done)
	assert.Equal(t, 6, r.Number)
	assert.Equal(t, 3, r.Agreed)

	fresh.Set(nameserver.Faults{Silent: true})
	o.Limit = 3 * time.Second
	r = s.watch(o, func(int) {})
	assert.False(t, r.Done, "one that is silent does not agree")
	assert.Equal(t, cutover.Unknown, r.Views[1].Leads)
	o.Zone, o.Resolvers = nil, nil
	assert.False(t, s.watch(o, func(int) {}).Done, "nobody was asked")
}

// Where the record has an address of the old machine besides, or leads to a third one, it is not
// done.
func TestHalfChanged(t *testing.T) {
	for value, want := range map[string]cutover.Leads{
		"kestrelpoint.example. 300 A 127.0.0.9\nkestrelpoint.example. 300 A 127.0.0.4":      cutover.ToOld,
		"kestrelpoint.example. 300 A 127.0.0.9\nkestrelpoint.example. 300 AAAA ::7":         cutover.ToOther,
		"kestrelpoint.example. 300 A 127.0.0.77":                                            cutover.ToOther,
		"kestrelpoint.example. 300 TXT nothing":                                             cutover.ToOther,
		"kestrelpoint.example. 300 A 127.0.0.9\nkestrelpoint.example. 300 TXT \"and text\"": cutover.ToNew,
	} {
		s := play(t, strings.Replace(world, "kestrelpoint.example. 300  A   127.0.0.4", value, 1))
		r := s.watch(cutover.WatchOrder{Resolvers: []cutover.Resolver{{Name: "near", Address: s.res.Address}}, Times: 1, Limit: 0}, func(int) {})
		assert.Equal(t, want, r.Views[0].Leads, value)
		assert.Equal(t, want == cutover.ToNew, r.Done, value)
	}
}

// That names lead to the new machine already is seen with one of several names, and never guessed.
func TestLeadNew(t *testing.T) {
	s := play(t, world)
	lead := func(text string, to ...string) (bool, error) {
		s.zone(text)
		return cutover.LeadNew(t.Context(), s.ask, s.order(to...))
	}
	own := strings.Replace(world, "www.kestrelpoint.example. 900 CNAME kestrelpoint.example.", "www.kestrelpoint.example. 900 A 127.0.0.4", 1)
	outside := world + "host.example. 300 SOA ns1.kestrelpoint.example. a.host.example. 1 1 1 1 1\nhost.example. 300 NS ns1.kestrelpoint.example.\nhost.example. 300 A 127.0.0.9\n"
	for name, c := range map[string]struct {
		zone string
		to   []string
		new  bool
	}{
		"not yet":               {world, []string{"127.0.0.9"}, false},
		"not yet, of IPv6":      {world, []string{"127.0.0.9", "::9"}, false},
		"changed":               {strings.Replace(world, "300  A   127.0.0.4", "300  A   127.0.0.9", 1), []string{"127.0.0.9"}, true},
		"of IPv6 alone":         {world + "kestrelpoint.example. 300 AAAA ::9\n", []string{"::9"}, true},
		"one of two names":      {strings.Replace(own, "900 A 127.0.0.4", "900 A 127.0.0.9", 1), []string{"127.0.0.9"}, true},
		"none of two names":     {own, []string{"127.0.0.9"}, false},
		"both machines at once": {world + "kestrelpoint.example. 300 A 127.0.0.9\n", []string{"127.0.0.9"}, true},
		"a name of others":      {strings.Replace(outside, "900 CNAME kestrelpoint", "900 CNAME host", 1), []string{"127.0.0.9"}, true},
	} {
		t.Run(name, func(t *testing.T) {
			is, err := lead(c.zone, c.to...)
			require.NoError(t, err)
			assert.Equal(t, c.new, is)
		})
	}
	s.zone(strings.Replace(outside, "900 CNAME kestrelpoint", "900 CNAME host", 1))
	o := s.order("127.0.0.9")
	o.NameServers = []string{s.dns.Address}
	s.res.Set(nameserver.Faults{Silent: true})
	_, err := cutover.LeadNew(t.Context(), s.ask, o)
	require.Error(t, err, "nobody could say where the name of others leads")
	o.NameServers = []string{"127.0.0.1:1"}
	_, err = cutover.LeadNew(t.Context(), s.ask, o)
	require.Error(t, err, "silence is no answer")
}

// A record that had to stay and was taken away with the change is told, and keeps the watch from ending.
func TestWhatHadToStay(t *testing.T) {
	senders := "kestrelpoint.example. 300 TXT \"v=spf1 ip4:127.0.0.4 -all\"\n"
	s := play(t, world+senders)
	o := s.order("127.0.0.9")
	stay := s.plan(o).Stay()
	require.Len(t, stay, 2)
	zone, err := s.ask.FindZone(t.Context(), []string{s.res.Address}, "kestrelpoint.example")
	require.NoError(t, err)
	changed := strings.Replace(world, "300  A   127.0.0.4", "300  A   127.0.0.9", 1) + strings.Replace(senders, "127.0.0.4", "127.0.0.9", 1)
	s.zone(strings.Replace(changed, "10 mail.", "10 post.", 1))
	var lost [][]cutover.Row
	r, err := cutover.Watch(t.Context(), s.ask, cutover.WatchOrder{Names: []string{"kestrelpoint.example"}, To: o.To, Zone: zone, Times: 1, Every: time.Millisecond, Limit: 9 * time.Second, Stay: stay, Now: func() time.Time { return s.now }}, func(r cutover.Round) {
		s.now = s.now.Add(time.Second)
		lost = append(lost, r.Lost)
		if r.Number == 2 {
			s.zone(changed)
		}
	})
	require.NoError(t, err)
	assert.True(t, r.Done)
	require.Len(t, lost, 3)
	require.Len(t, lost[0], 1, "what a plan asks to be said anew is not lost")
	assert.Equal(t, "MX", lost[0][0].Type)
	assert.Equal(t, lost[0], lost[1])
	assert.Empty(t, lost[2])
}
