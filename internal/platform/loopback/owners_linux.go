package loopback

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// States of a socket: one that others may connect to (TCP_LISTEN), and one that is connected (TCP_ESTABLISHED).
const listening, connected = "0A", "01"

// Owners are the accounts whose programs others reach at a port of 127.0.0.1, as the kernel tells it (proc_pid_net(5),
// the files tcp and tcp6). Known is false where the system does not tell.
func Owners(at netip.AddrPort) (uids []int, known bool, err error) {
	return sockets(listensAt(at.Port()))
}

func listensAt(port uint16) func(state, local, remote string) bool {
	want := fmt.Sprintf(":%04X", port)
	return func(state, local, _ string) bool { return state == listening && strings.HasSuffix(local, want) }
}

// Peers are the accounts whose programs have a connection from one address to another, both of this machine: one, or none
// if it is no more. Known is false where the system does not tell.
func Peers(from, to netip.AddrPort) (uids []int, known bool, err error) {
	at, with := inTable(unmapped(from)), inTable(unmapped(to))
	return sockets(func(state, local, remote string) bool { return state == connected && local == at && remote == with })
}

// Answering are the accounts whose programs the far end of a connection is of: those that listen at an address of this machine,
// or, at a socket of the file system, that of the program which began to (unix(7), SO_PEERCRED). Known is false where the system
// does not tell, as for what another machine or a container has behind the address.
func Answering(conn net.Conn) (uids []int, known bool, err error) {
	if c, ok := conn.(*net.UnixConn); ok {
		return listenerOf(c)
	}
	at, ok := conn.RemoteAddr().(*net.TCPAddr)
	if !ok || !at.IP.IsLoopback() {
		return nil, false, nil
	}
	places := answeringAt(at.AddrPort())
	uids, known, err = sockets(func(state, local, _ string) bool { return state == listening && slices.Contains(places, local) })
	return uids, known && len(uids) > 0, err
}

// answeringAt are what a program may listen at, as the kernel's tables have it, to be reached at an address.
func answeringAt(at netip.AddrPort) []string {
	addresses := []netip.Addr{at.Addr().Unmap(), netip.IPv6Unspecified()}
	if at.Addr().Unmap().Is4() {
		addresses = append(addresses, netip.IPv4Unspecified(), netip.AddrFrom16(at.Addr().As16()))
	}
	var all []string
	for _, a := range addresses {
		all = append(all, inTable(netip.AddrPortFrom(a, at.Port())))
	}
	return all
}

func listenerOf(conn *net.UnixConn) (uids []int, known bool, err error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return nil, false, err
	}
	var peer *syscall.Ucred
	if failed := raw.Control(func(fd uintptr) {
		peer, err = syscall.GetsockoptUcred(int(fd), syscall.SOL_SOCKET, syscall.SO_PEERCRED)
	}); failed != nil {
		return nil, false, failed
	}
	if err != nil {
		return nil, false, err
	}
	return []int{int(peer.Uid)}, true, nil
}

func unmapped(a netip.AddrPort) netip.AddrPort { return netip.AddrPortFrom(a.Addr().Unmap(), a.Port()) }

// inTable is an address as the kernel's tables have it: words of 32 bits in this machine's order of bytes.
func inTable(a netip.AddrPort) string {
	var b strings.Builder
	for words := a.Addr().AsSlice(); len(words) > 0; words = words[4:] {
		fmt.Fprintf(&b, "%08X", binary.NativeEndian.Uint32(words))
	}
	return fmt.Sprintf("%s:%04X", &b, a.Port())
}

// sockets are the accounts whose programs have the sockets that are wanted.
func sockets(wanted func(state, local, remote string) bool) (uids []int, known bool, err error) {
	for _, name := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		f, err := os.Open(name)
		if errors.Is(err, os.ErrNotExist) {
			continue // a machine without that version of the protocol
		}
		if err != nil {
			return nil, false, err
		}
		more, err := socketsIn(f, wanted)
		_ = f.Close()
		if err != nil {
			return nil, false, err
		}
		uids, known = append(uids, more...), true
	}
	return uids, known, nil
}

// socketsIn reads one of the kernel's tables of sockets.
func socketsIn(table io.Reader, wanted func(state, local, remote string) bool) (uids []int, err error) {
	lines := bufio.NewScanner(table)
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if len(words) < 8 || !wanted(words[3], words[1], words[2]) {
			continue
		}
		uid, err := strconv.Atoi(words[7])
		if err != nil {
			return nil, fmt.Errorf("the kernel's table of sockets: %w", err)
		}
		uids = append(uids, uid)
	}
	return uids, lines.Err()
}
