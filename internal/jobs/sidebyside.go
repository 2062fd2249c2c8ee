package jobs

import (
	"context"
	"slices"
	"sync"

	"revlet/internal/platform/memory"
)

// memoryOfSeveral is what the program tries to stay below while it works on several sites at
// a time, in bytes.
const memoryOfSeveral = 200 << 20

// SideBySide has work done for each of several sites. Those on other machines are worked
// on side by side, as many as the configuration allows (`at_once:`): most of what they take
// is waiting, and one that hangs is to hold up nobody else. Those on this machine, which
// has only so much memory and so many disks, are worked on one after the other, meanwhile.
//
// It returns when all of it is done. Once ctx has ended, nothing more is begun. What work
// tells and prints comes from several goroutines.
func (a *Agent) SideBySide(ctx context.Context, names []string, work func(ctx context.Context, name string)) {
	far, here := make(chan string), make(chan string)
	var all sync.WaitGroup
	from := func(names chan string) {
		for name := range names {
			if ctx.Err() == nil {
				work(ctx, name)
			}
		}
	}
	isFar := func(name string) bool { return a.Config.Sites[name].Far() }
	several := 0
	for _, name := range names {
		if isFar(name) {
			several++
		}
	}
	several = min(max(a.Config.AtOnce, 1), several)
	a.together.Store(int64(several))
	defer a.together.Store(0)
	if several > 1 {
		defer memory.Allow(memoryOfSeveral)()
	}
	for range max(several, 1) {
		all.Go(func() { from(far) })
	}
	all.Go(func() { from(here) })
	var feed sync.WaitGroup
	feed.Go(func() {
		defer close(here)
		for _, name := range names {
			if !isFar(name) {
				here <- name
			}
		}
	})
	for _, name := range slices.DeleteFunc(slices.Clone(names), func(name string) bool { return !isFar(name) }) {
		far <- name
	}
	close(far)
	feed.Wait()
	all.Wait()
}
