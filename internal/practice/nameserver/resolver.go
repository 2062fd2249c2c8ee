package nameserver

import (
	"sync"
	"time"

	"github.com/miekg/dns"
)

// Faults are what is wrong with a resolver. Those of one that runs may be changed by
// Resolver.Set.
type Faults struct {
	// Lag is for how long it goes on with an answer whose life is over.
	Lag time.Duration
	// Lies are records that it says instead of what the zones do; a name with a star covers all
	// names below.
	Lies []dns.RR
	// Silent answers nothing at all.
	Silent bool
}

// Resolver asks the server that it belongs to, and remembers.
type Resolver struct {
	Address string

	zones *Server
	mu    sync.Mutex
	f     Faults
	kept  map[dns.Question]kept
}

// kept is an answer, and when it was had.
type kept struct {
	answer *dns.Msg
	at     time.Time
	life   time.Duration
}

// Resolve starts a resolver at an address; port 0 is a free one. It ends with the server.
func (s *Server) Resolve(listen string, f Faults) (*Resolver, error) {
	r := &Resolver{zones: s, f: f, kept: map[dns.Question]kept{}}
	var err error
	r.Address, err = s.serve(listen, dns.HandlerFunc(func(w dns.ResponseWriter, m *dns.Msg) { reply(w, m, r.answer(m)) }))
	return r, err
}

// Set changes what is wrong with it.
func (r *Resolver) Set(f Faults) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.f = f
}

// answer is what is remembered, with what is left of its life, or what the zones say now.
func (r *Resolver) answer(m *dns.Msg) *dns.Msg {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.f.Silent {
		return nil
	}
	q := m.Question[0]
	q.Name = dns.CanonicalName(q.Name)
	if out := r.lie(m, q); out != nil {
		return out
	}
	k, ok := r.kept[q]
	age := time.Since(k.at)
	if !ok || age >= k.life+r.f.Lag {
		answer := r.zones.answer(m)
		k, age = kept{answer: answer, at: time.Now(), life: life(answer)}, 0
		r.kept[q] = k
	}
	out := k.answer.Copy()
	out.Id, out.Question = m.Id, m.Question
	out.RecursionDesired, out.RecursionAvailable, out.Authoritative = m.RecursionDesired, true, false
	if out.Rcode == dns.RcodeRefused {
		out.Rcode = dns.RcodeNameError // nobody answers for it in this world
	}
	for _, section := range [][]dns.RR{out.Answer, out.Ns} {
		for _, rr := range section {
			left := time.Duration(rr.Header().Ttl)*time.Second - age
			rr.Header().Ttl = uint32(max(left, 0) / time.Second)
		}
	}
	return out
}

// lie is an answer that was made up, or nil.
func (r *Resolver) lie(m *dns.Msg, q dns.Question) *dns.Msg {
	scratch := new(dns.Msg)
	if there, _ := r.zones.find(scratch, r.f.Lies, q.Name, q.Qtype); !there {
		return nil
	}
	out := new(dns.Msg).SetReply(m)
	out.RecursionAvailable, out.Answer = true, scratch.Answer
	return out
}

// life is for how long an answer may be remembered.
func life(m *dns.Msg) time.Duration {
	least := ^uint32(0)
	for _, section := range [][]dns.RR{m.Answer, m.Ns} {
		for _, rr := range section {
			least = min(least, rr.Header().Ttl)
			if z, ok := rr.(*dns.SOA); ok {
				least = min(least, z.Minttl)
			}
		}
	}
	if least == ^uint32(0) {
		return 0
	}
	return time.Duration(least) * time.Second
}
