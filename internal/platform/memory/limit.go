package memory

import "runtime/debug"

// Usual is what the program tries to stay below, in bytes: near it the collector works
// harder.
const Usual = 128 << 20

// Allow raises what the program tries to stay below to so many bytes, until back is called;
// see debug.SetMemoryLimit. A limit that is not the usual one, such as from the
// environment (GOMEMLIMIT), stays.
func Allow(bytes int64) (back func()) {
	was := debug.SetMemoryLimit(-1)
	if was != Usual {
		return func() {}
	}
	debug.SetMemoryLimit(bytes)
	return func() { debug.SetMemoryLimit(was) }
}
