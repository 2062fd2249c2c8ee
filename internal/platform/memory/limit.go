package memory

import (
	"os"
	"runtime/debug"
)

// Allow raises what the program tries to stay below to so many bytes, until back is called;
// see debug.SetMemoryLimit. Near that, collecting garbage takes much of the time. What the
// environment says (GOMEMLIMIT) counts instead.
func Allow(bytes int64) (back func()) {
	if os.Getenv("GOMEMLIMIT") != "" {
		return func() {}
	}
	was := debug.SetMemoryLimit(-1)
	if was >= bytes {
		return func() {}
	}
	debug.SetMemoryLimit(bytes)
	return func() { debug.SetMemoryLimit(was) }
}
