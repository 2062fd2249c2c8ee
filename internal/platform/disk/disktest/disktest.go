// Package disktest lets tests that sync thousands of small trees run in memory: they are
// about the order of what is done, which faults that are injected show, and not about what
// a disk does. Tests that are about a file system do not use it.
package disktest

import (
	"os"
	"runtime/debug"
	"testing"

	"revlet/internal/platform/disk"
)

// least is how much room memory has to have, in bytes.
const least = 2 << 30

// Main runs a package's tests with temporary folders in memory, where there is room and
// $TMPDIR says nothing else, and with less collecting of garbage.
func Main(m *testing.M) {
	const shm = "/dev/shm"
	if room, err := (&disk.Disk{}).Free(shm); err == nil && room > least && os.TempDir() == "/tmp" && disk.Writable(shm) {
		_ = os.Setenv("TMPDIR", shm)
	}
	// Small heaps are collected all the time: that is a fifth of what such tests take.
	debug.SetGCPercent(400)
	os.Exit(m.Run())
}
