package scratchserver

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"strings"
	"time"

	"revlet/internal/platform/loopback"
	"revlet/internal/platform/process"
)

// account is the one of the operating system that a server runs as.
type account struct {
	name string
	// other is set for another account than this process's, uid and gid are that one's.
	other    bool
	uid, gid int
}

// self is the name of this process's account, which a database server looks up.
func self() (string, error) {
	uid := strconv.Itoa(os.Geteuid())
	u, err := user.LookupId(uid)
	if err != nil {
		return "", fmt.Errorf("this account has a number (%s) and no name on this machine, and a database server needs one: add it to /etc/passwd", uid)
	}
	return u.Username, nil
}

// unprivileged chooses an account without rights, if this one is root: name, or nobody
// where there is none of that name. dir becomes its own, and nobody else's.
func unprivileged(name, dir string) (*account, error) {
	if os.Geteuid() != 0 {
		me, err := self()
		if err != nil {
			return nil, err
		}
		return &account{name: me}, os.Chmod(dir, 0o700)
	}
	u, err := user.Lookup(name)
	if err != nil {
		if u, err = user.Lookup("nobody"); err != nil {
			return nil, err
		}
	}
	a := &account{name: u.Username, other: true}
	if a.uid, err = strconv.Atoi(u.Uid); err != nil {
		return nil, err
	}
	if a.gid, err = strconv.Atoi(u.Gid); err != nil {
		return nil, err
	}
	return a, errors.Join(os.Chmod(dir, 0o700), os.Chown(dir, a.uid, a.gid))
}

// mkdir makes a folder that is the account's own.
func (a *account) mkdir(dir string) error {
	if err := os.Mkdir(dir, 0o700); err != nil || !a.other {
		return err
	}
	return os.Chown(dir, a.uid, a.gid)
}

// runs makes a command run as the account.
func (a *account) runs(cmd *exec.Cmd) {
	if a.other {
		process.As(cmd, a.uid, a.gid)
	}
}

// running is a server that was started.
type running struct {
	cmd   *exec.Cmd
	ended chan struct{}
	err   error
}

// start starts a server and notices when it ends.
func start(cmd *exec.Cmd) (*running, error) {
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	p := &running{cmd: cmd, ended: make(chan struct{})}
	go func() {
		p.err = cmd.Wait()
		close(p.ended)
	}()
	return p, nil
}

// stop tells the server to end and waits until it has.
func (p *running) stop(sig os.Signal) error {
	select {
	case <-p.ended:
		return nil
	default:
	}
	if err := p.cmd.Process.Signal(sig); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	<-p.ended
	return p.err
}

// mostLog bounds what of a log is said, in bytes.
const mostLog = 64 << 10

// launch starts a server, and waits until it answers. Its log has no name: where the server's account may write, one
// could be a link to anything.
func launch(ctx context.Context, cmd *exec.Cmd, answers func(context.Context, *running) error) (*running, error) {
	log, err := os.CreateTemp("", "revlet-log-")
	if err != nil {
		return nil, err
	}
	defer log.Close()
	if err := os.Remove(log.Name()); err != nil {
		return nil, err
	}
	cmd.Stdout, cmd.Stderr = log, log
	p, err := start(cmd)
	if err != nil {
		return nil, fmt.Errorf("start a scratch database server: %w", err)
	}
	if err := answers(ctx, p); err != nil {
		text, _ := io.ReadAll(io.NewSectionReader(log, 0, mostLog))
		return nil, errors.Join(fmt.Errorf("start a scratch database server: %w: %s", err, text), p.stop(os.Kill))
	}
	return p, nil
}

// mostTries is how often a server is started that wants a port.
const mostTries = 3

// onFreePort starts a server that listens on a port: on another one, where somebody else
// takes the port before it does.
func onFreePort(launch func(port int) error) error {
	for tries := 1; ; tries++ {
		port, err := loopback.Free()
		if err != nil {
			return err
		}
		if err = launch(port); err == nil || tries == mostTries || !strings.Contains(err.Error(), "ddress already in use") {
			return err
		}
	}
}

// answers waits until a server does.
func (p *running) answers(ctx context.Context, ask func() bool) error {
	for end := time.Now().Add(startWait); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if ask() {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-p.ended:
			return fmt.Errorf("it ended at once (%w)", errors.Join(p.err))
		default:
		}
	}
	return errors.New("it does not answer")
}
