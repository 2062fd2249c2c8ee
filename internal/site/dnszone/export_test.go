package dnszone

import "github.com/miekg/dns"

// Read reads a reply to a resolver's question.
func Read(reply *dns.Msg, name, kind string) Answer {
	m := new(dns.Msg).SetQuestion(dns.CanonicalName(name), dns.StringToType[kind])
	a := Answer{Name: name, Type: kind}
	if !answers(reply, m) {
		a.State = Silent
		return a
	}
	a.read(reply, m.Question[0], true)
	return a
}
