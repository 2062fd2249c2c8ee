// Package nameserver plays the Domain Name System on this machine: a server that answers for
// zones from a file, and resolvers that ask it, remember its answers for as long as those may
// live, and lag, lie or fall silent as they are told to.
//
// Begin with Start for the zones, and with Server.Resolve for a resolver. The file is in the
// format of RFC 1035, section 5, may hold several zones, each of which begins with its SOA,
// and is read again when it changes: that is how a record is changed at the registrar.
package nameserver

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// Server answers for zones.
type Server struct {
	// Address is where it answers, host:port, over UDP and TCP.
	Address string

	file    string
	mu      sync.Mutex
	read    time.Time // the file's time when it was read
	records []dns.RR
	fault   error
	stop    []func() error
}

// Start answers for the zones of a file at an address; port 0 is a free one.
func Start(file, listen string) (*Server, error) {
	s := &Server{file: file}
	if _, err := s.zones(); err != nil {
		return nil, err
	}
	var err error
	s.Address, err = s.serve(listen, dns.HandlerFunc(func(w dns.ResponseWriter, m *dns.Msg) { reply(w, m, s.answer(m)) }))
	return s, err
}

// serve answers at an address over UDP and TCP until the server is closed.
func (s *Server) serve(listen string, h dns.Handler) (string, error) {
	var tcp net.Listener
	var udp net.PacketConn
	var err error
	for range 20 { // a port that is free for one may be taken for the other
		if tcp, err = net.Listen("tcp", listen); err != nil {
			return "", err
		}
		if udp, err = net.ListenPacket("udp", tcp.Addr().String()); err == nil {
			break
		}
		err = errors.Join(err, tcp.Close())
	}
	if err != nil {
		return "", err
	}
	var running sync.WaitGroup
	for _, server := range []*dns.Server{{Listener: tcp, Handler: h}, {PacketConn: udp, Handler: h}} {
		ready := make(chan struct{})
		server.NotifyStartedFunc = func() { close(ready) }
		running.Go(func() { _ = server.ActivateAndServe() })
		<-ready
		s.stop = append(s.stop, server.Shutdown)
	}
	s.stop = append(s.stop, func() error { running.Wait(); return nil })
	return tcp.Addr().String(), nil
}

// Close ends the server and its resolvers.
func (s *Server) Close() (err error) {
	for _, stop := range s.stop {
		err = errors.Join(err, stop())
	}
	return err
}

// zones are the records of the file as it is now. A file that cannot be read changes nothing.
func (s *Server) zones() ([]dns.RR, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	info, err := os.Stat(s.file)
	if err != nil {
		return s.records, err
	}
	if info.ModTime().Equal(s.read) {
		return s.records, s.fault
	}
	f, err := os.Open(s.file)
	if err != nil {
		return s.records, err
	}
	defer f.Close()
	records, err := parse(f, s.file)
	if s.read, s.fault = info.ModTime(), err; err == nil {
		s.records = records
	}
	return s.records, err
}

func parse(r io.Reader, name string) (records []dns.RR, err error) {
	p := dns.NewZoneParser(r, ".", name)
	p.SetDefaultTTL(3600)
	for rr, ok := p.Next(); ok; rr, ok = p.Next() {
		records = append(records, rr)
	}
	if err := p.Err(); err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(records, func(rr dns.RR) bool { return rr.Header().Rrtype == dns.TypeSOA }) {
		return nil, fmt.Errorf("%s: there is no zone in it: one begins with its SOA record", name)
	}
	return records, nil
}

// soa is the SOA of the zone that a name lies in.
func soa(records []dns.RR, name string) (best *dns.SOA) {
	for _, rr := range records {
		if z, ok := rr.(*dns.SOA); ok && dns.IsSubDomain(z.Hdr.Name, name) && (best == nil || len(z.Hdr.Name) > len(best.Hdr.Name)) {
			best = z
		}
	}
	return best
}

// answer finds what the zones say to a question.
func (s *Server) answer(m *dns.Msg) *dns.Msg {
	out := new(dns.Msg).SetReply(m)
	records, _ := s.zones()
	q := m.Question[0]
	name := dns.CanonicalName(q.Name)
	zone := soa(records, name)
	if zone == nil {
		out.Rcode = dns.RcodeRefused
		return out
	}
	out.Authoritative = true
	for range 8 {
		there, next := s.find(out, records, name, q.Qtype)
		switch {
		case len(out.Answer) > 0 && next == "":
			return out
		case next != "" && soa(records, next) != zone:
			return out // it leads out of the zone
		case next != "":
			name = next
			continue
		case there:
			out.Ns = []dns.RR{zone}
		default:
			out.Rcode, out.Ns = dns.RcodeNameError, []dns.RR{zone}
		}
		return out
	}
	return out
}

// find adds the records of a name, or those of the wildcard that covers it, and tells whether
// the name is there and which alias to follow.
func (s *Server) find(out *dns.Msg, records []dns.RR, name string, kind uint16) (there bool, next string) {
	owner := name
	for {
		for _, rr := range records {
			at := dns.CanonicalName(rr.Header().Name)
			there = there || dns.IsSubDomain(owner, at) && owner == name || at == owner
			if at != owner {
				continue
			}
			alias, isAlias := rr.(*dns.CNAME)
			if rr.Header().Rrtype != kind && !isAlias {
				continue
			}
			found := dns.Copy(rr)
			found.Header().Name = name
			out.Answer = append(out.Answer, found)
			if isAlias && kind != dns.TypeCNAME {
				next = dns.CanonicalName(alias.Target)
			}
		}
		if there || owner != name {
			return there, next
		}
		_, above, _ := strings.Cut(name, ".")
		owner = "*." + above
	}
}

// reply sends an answer, cut off where it is too long for UDP.
func reply(w dns.ResponseWriter, m, out *dns.Msg) {
	if out == nil {
		return
	}
	if opt := m.IsEdns0(); opt != nil {
		out.SetEdns0(opt.UDPSize(), false)
	}
	if _, udp := w.RemoteAddr().(*net.UDPAddr); udp {
		size := dns.MinMsgSize
		if opt := m.IsEdns0(); opt != nil {
			size = max(size, int(opt.UDPSize()))
		}
		out.Truncate(size)
	}
	_ = w.WriteMsg(out)
}
