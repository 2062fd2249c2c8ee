package process

import (
	"os"
	"os/exec"
	"strconv"
)

func group(*exec.Cmd) {}

// KillAll ends a command that Start has started, and what it has started, at once.
func KillAll(cmd *exec.Cmd) {
	_ = exec.Command("taskkill", "/T", "/F", "/PID", strconv.Itoa(cmd.Process.Pid)).Run()
	_ = cmd.Process.Kill()
}

// Stop ends a process: here none can be asked to.
func Stop(p *os.Process) error { return p.Kill() }

// As does nothing: no account of Windows is told by a number.
func As(*exec.Cmd, int, int) {}
