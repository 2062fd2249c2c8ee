// Revlet keeps a content-managed web site recoverable.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	_ "time/tzdata" // for machines without a database of time zones

	"revlet/internal/cli"
)

// memory is what the program tries to stay below, in bytes: near it the collector works
// harder. Far from it, it has less to do than Go's default: garbage is most a run of Revlet
// leaves, and time is short. GOMEMLIMIT and GOGC override both.
const (
	memory    = 128 << 20
	gcPercent = 400
)

func main() {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memory)
	}
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(cli.Main(ctx, os.Args, os.Stdin, os.Stdout, os.Stderr))
}
