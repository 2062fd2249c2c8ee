package jobs

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"revlet/internal/platform/memory"
)

// memoryOfSeveral is what the program tries to stay below while it works on several sites at
// a time, in bytes.
const memoryOfSeveral = 200 << 20

// usualPatience is how long others wait for a site, unless Agent.SitePatience says otherwise; mostLate is how many sites that take longer are
// worked on beside those whose turn it is.
const (
	usualPatience = 30 * time.Minute
	mostLate      = 8
)

// SideBySide has work done for each of several sites. Those on other machines are worked
// on side by side, as many as the configuration allows (`at_once:`): most of what they take
// is waiting. Those on this machine, which has only so much memory and so many disks, are worked on one after the other,
// meanwhile. One that takes longer than the others' patience is worked on beside them: a site is what whoever owns it, or has broken
// into it, makes of it, such as a file of zeros without end, and is to hold up nobody else.
//
// It returns when all of it is done. Once ctx has ended, nothing more is begun. What work
// tells and prints comes from several goroutines.
func (a *Agent) SideBySide(ctx context.Context, names []string, work func(ctx context.Context, name string)) {
	_, done := a.beginEach(ctx, names, work)
	<-done
}

// beginEach is SideBySide that does not wait: begun is closed when no site waits any more for another, done when all is done.
func (a *Agent) beginEach(ctx context.Context, names []string, work func(ctx context.Context, name string)) (begun, done <-chan struct{}) {
	far := slices.DeleteFunc(slices.Clone(names), func(name string) bool { return !a.Config.Sites[name].Far() })
	here := slices.DeleteFunc(slices.Clone(names), func(name string) bool { return a.Config.Sites[name].Far() })
	several := min(max(a.Config.AtOnce, 1), len(far))
	a.together.Add(int64(several))
	back := func() {}
	if several > 1 {
		back = memory.Allow(memoryOfSeveral)
	}
	var waiting, all sync.WaitGroup
	lane := func(names <-chan string) {
		for name := range names {
			if ctx.Err() == nil {
				a.waitedFor(ctx, name, work, &all)
			}
		}
	}
	turns := queue(far)
	for range several {
		waiting.Go(func() { lane(turns) })
	}
	waiting.Go(func() { lane(queue(here)) })
	all.Go(waiting.Wait)
	return closedAfter(&waiting), closedAfter(&all, func() { a.together.Add(-int64(several)); back() })
}

// queue is a channel from which names are taken, in their order.
func queue(names []string) <-chan string {
	all := make(chan string, len(names))
	for _, name := range names {
		all <- name
	}
	close(all)
	return all
}

// closedAfter is closed when a group is done, and what comes last.
func closedAfter(group *sync.WaitGroup, last ...func()) <-chan struct{} {
	done := make(chan struct{})
	go func() {
		defer close(done)
		group.Wait()
		for _, do := range last {
			do()
		}
	}()
	return done
}

// waitedFor has work done for a site, and returns when it is done, or when others need not wait for it any longer. all is done when it is.
func (a *Agent) waitedFor(ctx context.Context, name string, work func(ctx context.Context, name string), all *sync.WaitGroup) {
	ended := make(chan struct{})
	all.Go(func() {
		defer close(ended)
		work(ctx, name)
	})
	patience := cmp.Or(a.SitePatience, usualPatience)
	since := time.Now()
	tick := time.NewTicker(patience)
	defer tick.Stop()
	for {
		select {
		case <-ended:
			return
		case <-tick.C:
		}
		if a.late.Add(1) > mostLate {
			a.late.Add(-1)
			continue
		}
		a.warnf("site %s has been worked on for %s: the others do not wait for it any longer", name, time.Since(since).Round(time.Second))
		back := memory.Allow(memoryOfSeveral)
		all.Go(func() {
			<-ended
			a.late.Add(-1)
			back()
		})
		return
	}
}
