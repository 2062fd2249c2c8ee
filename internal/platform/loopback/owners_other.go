//go:build !linux

package loopback

import (
	"net"
	"net/netip"
)

// Owners are the accounts whose programs others reach at a port of 127.0.0.1. This system does not tell.
func Owners(netip.AddrPort) (uids []int, known bool, err error) { return nil, false, nil }

// Peers are the accounts whose programs have a connection from one address of this machine to another. This system does not tell.
func Peers(from, to netip.AddrPort) (uids []int, known bool, err error) { return nil, false, nil }

// Answering are the accounts whose programs the far end of a connection is of. This system does not tell.
func Answering(net.Conn) (uids []int, known bool, err error) { return nil, false, nil }
