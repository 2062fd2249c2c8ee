// Package loopback finds ports of this machine for servers that only it is to reach, and tells whose answer one is.
package loopback

import (
	"math/rand/v2"
	"net"
	"net/netip"
	"strconv"
)

// The ports that are tried: below those that systems give to whoever connects somewhere or listens on any (Linux from
// 32768, IANA from 49152), so that none is taken by chance between being let go of and being used.
const (
	firstPort, lastPort = 20000, 32000
	mostTries           = 100
)

// Hold takes a port of 127.0.0.1 and keeps it from others until it is closed.
func Hold() (net.Listener, error) {
	for range mostTries {
		port := firstPort + rand.IntN(lastPort-firstPort)
		if l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port))); err == nil {
			return l, nil
		}
	}
	return net.Listen("tcp", "127.0.0.1:0")
}

// Free is a port of 127.0.0.1 that nobody has at the moment.
func Free() (int, error) {
	l, err := Hold()
	if err != nil {
		return 0, err
	}
	return l.Addr().(*net.TCPAddr).Port, l.Close()
}

// Taken tells whether a port of 127.0.0.1 cannot be had.
func Taken(at netip.AddrPort) bool {
	l, err := net.Listen("tcp4", at.String())
	if err != nil {
		return true
	}
	return l.Close() != nil
}
