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

// memory is what the program tries to stay below, in bytes: beyond it the collector works
// harder. GOMEMLIMIT overrides it.
const memory = 200 << 20

func main() {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memory)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(cli.Main(ctx, os.Args, os.Stdin, os.Stdout, os.Stderr))
}
