// Package process starts and ends other programs, by each operating system's own means.
package process

import (
	"errors"
	"os"
	"os/exec"
	"slices"
	"strings"
)

// passed are variables of this program's environment that programs of the user's get, too: what they need
// to find programs and speak to a person, and no secret.
var passed = []string{"PATH", "HOME", "USER", "LOGNAME", "SHELL", "LANG", "LC_ALL", "TZ", "TMPDIR", "SystemRoot", "TEMP", "TMP", "PATHEXT", "ComSpec"}

// Environment is what programs of the user's get of this one's.
func Environment() (all []string) {
	for _, e := range os.Environ() {
		if name, _, _ := strings.Cut(e, "="); slices.Contains(passed, name) {
			all = append(all, e)
		}
	}
	return all
}

// Wait waits for a command that was started. One that has ended well, and has left something running that keeps
// its output open, has ended well; what that prints after the command's WaitDelay is lost.
func Wait(cmd *exec.Cmd) error {
	if err := cmd.Wait(); !errors.Is(err, exec.ErrWaitDelay) {
		return err
	}
	return nil
}

// Start starts a command in a group of its own, with all that it will start.
func Start(cmd *exec.Cmd) error {
	group(cmd)
	return cmd.Start()
}
