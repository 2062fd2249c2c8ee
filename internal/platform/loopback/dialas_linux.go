package loopback

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"runtime"
	"syscall"
)

// DialAs is net.Dialer's DialContext; at a socket of the file system, the far end is told that the connection is one of the account
// uid (unix(7), SO_PEERCRED), nil for this one. Only root can speak for another account.
func DialAs(ctx context.Context, network, address string, uid *int) (net.Conn, error) {
	var d net.Dialer
	if network != "unix" || uid == nil || *uid == syscall.Geteuid() {
		return d.DialContext(ctx, network, address)
	}
	type made struct {
		conn net.Conn
		err  error
	}
	done := make(chan made, 1)
	go func() {
		// The account is this thread's alone, and the thread ends with this unless it is root's again.
		runtime.LockOSThread()
		if err := becomes(*uid); err != nil {
			done <- made{nil, fmt.Errorf("speak for the account #%d: %w", *uid, err)}
			return
		}
		conn, err := d.DialContext(ctx, network, address)
		if errors.Is(err, fs.ErrPermission) {
			err = fmt.Errorf("the account #%d, which the site's settings belong to, may not use %s: %w", *uid, address, err)
		}
		if becomes(0) == nil {
			runtime.UnlockOSThread()
		}
		done <- made{conn, err}
	}()
	m := <-done
	return m.conn, m.err
}

// becomes makes an account this thread's effective one; it stays root otherwise (setresuid(2), which is of one thread in the kernel).
func becomes(uid int) error {
	const unchanged = ^uintptr(0)
	if _, _, no := syscall.RawSyscall(syscall.SYS_SETRESUID, unchanged, uintptr(uid), unchanged); no != 0 {
		return no
	}
	return nil
}
