//go:build !linux

package jobs

// listensAs is for Linux, whose kernel alone tells who listens.
func listensAs(int) error { return nil }
