package database

import (
	"errors"
	"net"

	"revlet/internal/platform/loopback"
	"revlet/internal/platform/reason"
)

// ErrProofOnly is of a server that wants the password itself over a line on which it gets no more than a proof of it.
var ErrProofOnly = errors.New("the server wants the password itself, and the line is not protected")

// Line is what a connection to a server, without TLS, is good for.
type Line int

// The lines.
const (
	// Proofs is a line on which the password itself is not sent, but only what proves that it is known.
	Proofs Line = iota
	// Passwords is one on which it may be.
	Passwords
)

// Judge tells what a connection without TLS to a server on this machine is good for. While that server is not running, any
// account may listen in its place: one that is neither the system's nor this one is an error with the reason ServerOfOthers, as is
// a name of this machine that leads to another one. Behind a tunnel, and where the system does not tell whose
// the far end is, proofs are all that is sent. `tls: off` takes whatever answers.
func (t TLS) Judge(conn net.Conn, tunnel bool) (Line, error) {
	switch {
	case t.Mode == TLSOff:
		return Passwords, nil
	case tunnel:
		return Proofs, nil
	}
	where := conn.RemoteAddr().String()
	if at, ok := conn.RemoteAddr().(*net.TCPAddr); ok && !at.IP.IsLoopback() {
		return Proofs, reason.New(reason.ServerOfOthers, nil, "the database server is to be on this machine, and its name leads to %s", where)
	}
	uids, known, err := loopback.Answering(conn)
	if err != nil || !known {
		return Proofs, nil
	}
	line := Passwords
	for _, uid := range uids {
		switch loopback.StandingOf(uid) {
		case loopback.Strange:
			return Proofs, reason.New(reason.ServerOfOthers, nil, "what answers at %s is a program of the account #%d, and not the system's database server", where, uid)
		case loopback.Nobodys:
			line = Proofs
		}
	}
	return line, nil
}

// WantsPassword gives ErrProofOnly its reason.
func WantsPassword(where string) error {
	return reason.New(reason.WantsPassword, nil, "the database server at %s: %w", where, ErrProofOnly)
}
