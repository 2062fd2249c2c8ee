// Package process starts and ends other programs, by each operating system's own means.
package process

import "os/exec"

// Start starts a command in a group of its own, with all that it will start.
func Start(cmd *exec.Cmd) error {
	group(cmd)
	return cmd.Start()
}
