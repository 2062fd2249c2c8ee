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
	"revlet/internal/platform/memory"
)

// gcPercent lets the collector do less than Go's default, far from the limit: garbage is most
// a run of Revlet leaves, and time is short. GOMEMLIMIT and GOGC override both.
const gcPercent = 400

func main() {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memory.Usual)
	}
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	go func() {
		<-ctx.Done()
		stop() // a second Ctrl-C ends the program where it is; what was begun is written down
	}()
	os.Exit(cli.Main(ctx, os.Args, os.Stdin, os.Stdout, os.Stderr))
}
