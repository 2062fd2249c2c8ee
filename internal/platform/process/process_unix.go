//go:build unix

package process

import (
	"os"
	"os/exec"
	"syscall"
)

func group(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

// KillAll ends a command that Start has started, and what it has started, at once.
func KillAll(cmd *exec.Cmd) { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }

// Stop asks a process to end.
func Stop(p *os.Process) error { return p.Signal(syscall.SIGTERM) }

// As makes a command run as another account; this one is root.
func As(cmd *exec.Cmd, uid, gid int) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
}
