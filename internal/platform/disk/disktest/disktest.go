// Package disktest lets tests that sync thousands of small trees run in memory: they are
// about the order of what is done, which faults that are injected show, and not about what
// a disk does. Tests that are about a file system do not use it.
package disktest

import (
	"os"
	"runtime/debug"
	"testing"

	"golang.org/x/sys/unix"
)

// least is how much room memory has to have, in bytes.
const least = 2 << 30

// Main runs a package's tests with temporary folders in memory, where there is room and
// $TMPDIR says nothing else, and with less collecting of garbage.
func Main(m *testing.M) {
	const shm = "/dev/shm"
	var s unix.Statfs_t
	if os.TempDir() == "/tmp" && unix.Access(shm, unix.W_OK) == nil && unix.Statfs(shm, &s) == nil && int64(s.Bavail)*s.Bsize > least {
		_ = os.Setenv("TMPDIR", shm)
	}
	// Small heaps are collected all the time: that is a fifth of what such tests take.
	debug.SetGCPercent(400)
	os.Exit(m.Run())
}
