package scratchserver

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"time"
)

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
