package loopback

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"strconv"
	"strings"
)

// listening is the state of a socket that others may connect to (TCP_LISTEN).
const listening = "0A"

// Owners are the accounts whose programs others reach at a port of 127.0.0.1, as the kernel tells it (proc_pid_net(5),
// the files tcp and tcp6). Known is false where the system does not tell.
func Owners(at netip.AddrPort) (uids []int, known bool, err error) {
	for _, name := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		f, err := os.Open(name)
		if errors.Is(err, os.ErrNotExist) {
			continue // a machine without that version of the protocol
		}
		if err != nil {
			return nil, false, err
		}
		more, err := ownersIn(f, at.Port())
		_ = f.Close()
		if err != nil {
			return nil, false, err
		}
		uids, known = append(uids, more...), true
	}
	return uids, known, nil
}

// ownersIn reads one of the kernel's tables of sockets.
func ownersIn(table io.Reader, port uint16) (uids []int, err error) {
	want := fmt.Sprintf(":%04X", port)
	lines := bufio.NewScanner(table)
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if len(words) < 8 || words[3] != listening || !strings.HasSuffix(words[1], want) {
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
