//go:build !linux

// Package steady is a clock that nobody sets. This system tells of none.
package steady

import "time"

// Now is how long the machine has been running, and which run of it that is. It is not known here.
func Now() (running time.Duration, boot string, known bool) { return 0, "", false }
