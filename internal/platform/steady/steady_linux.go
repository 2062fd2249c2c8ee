// Package steady is a clock that nobody sets: it tells how long this machine has been running, so that a clock which was set shows
// by what lies between the two.
package steady

import (
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Now is how long the machine has been running (CLOCK_BOOTTIME of clock_gettime(2), sleep included), and which run of it that is
// (/proc/sys/kernel/random/boot_id, random(4)); false where that cannot be told.
func Now() (running time.Duration, boot string, known bool) {
	var t unix.Timespec
	id, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil || unix.ClockGettime(unix.CLOCK_BOOTTIME, &t) != nil {
		return 0, "", false
	}
	return time.Duration(t.Nano()), strings.TrimSpace(string(id)), true
}
