package scratchserver

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"
	"time"
)

// account is the one of the operating system that a server runs as.
type account struct {
	name string
	// credential is set for another account than this process's.
	credential *syscall.Credential
}

// unprivileged chooses an account without rights, if this one is root: name, or nobody
// where there is none of that name. dir becomes its own, and nobody else's.
func unprivileged(name, dir string) (*account, error) {
	if os.Geteuid() != 0 {
		me, err := user.Current()
		if err != nil {
			return nil, err
		}
		return &account{name: me.Username}, os.Chmod(dir, 0o700)
	}
	u, err := user.Lookup(name)
	if err != nil {
		if u, err = user.Lookup("nobody"); err != nil {
			return nil, err
		}
	}
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	if err != nil {
		return nil, err
	}
	gid, err := strconv.ParseUint(u.Gid, 10, 32)
	if err != nil {
		return nil, err
	}
	a := &account{u.Username, &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	return a, errors.Join(os.Chmod(dir, 0o700), os.Chown(dir, int(uid), int(gid)))
}

// mkdir makes a folder that is the account's own.
func (a *account) mkdir(dir string) error {
	if err := os.Mkdir(dir, 0o700); err != nil || a.credential == nil {
		return err
	}
	return os.Chown(dir, int(a.credential.Uid), int(a.credential.Gid))
}

// process is a server that was started.
type process struct {
	cmd   *exec.Cmd
	ended chan struct{}
	err   error
}

// start starts a server and notices when it ends.
func start(cmd *exec.Cmd) (*process, error) {
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	p := &process{cmd: cmd, ended: make(chan struct{})}
	go func() {
		p.err = cmd.Wait()
		close(p.ended)
	}()
	return p, nil
}

// stop tells the server to end and waits until it has.
func (p *process) stop(sig os.Signal) error {
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

// answers waits until a server does.
func (p *process) answers(ctx context.Context, ask func() bool) error {
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
