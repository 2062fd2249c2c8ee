package jobs

import (
	"os"
	"runtime/debug"
	"testing"
)

// Small heaps are collected all the time: that is a fifth of what these tests take.
func TestMain(m *testing.M) {
	debug.SetGCPercent(400)
	os.Exit(m.Run())
}
