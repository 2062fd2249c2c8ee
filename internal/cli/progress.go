package cli

import (
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"revlet/internal/cli/render"
	"revlet/internal/platform/progress"
)

// observer returns a bar on a terminal, lines elsewhere, nothing when quiet.
func (a *app) observer(quiet bool) (progress.Observer, func()) {
	switch {
	case quiet:
		return progress.Silent{}, func() {}
	case terminal(a.err):
		b := &bar{out: a.err}
		return b, b.close
	default:
		return &lines{out: a.err}, func() {}
	}
}

// lines says what begins, a line each.
type lines struct {
	mu  sync.Mutex
	out io.Writer
}

func (l *lines) Phase(name string, total int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if total > 0 {
		name += " (" + render.Size(total) + ")"
	}
	fmt.Fprintln(l.out, name)
}

func (l *lines) Advance(int64) {}

func (l *lines) Note(text string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	fmt.Fprintln(l.out, text)
}

// bar draws progress with rate and time left.
type bar struct {
	out   io.Writer
	mu    sync.Mutex
	group *mpb.Progress
	bar   *mpb.Bar
	// since are bytes that the bar does not show yet, at is when it was moved last.
	since int64
	at    time.Time
}

// recent is over how many moves of a bar its rate is taken, moveEvery how often it is moved.
const (
	recent    = 40
	moveEvery = 100 * time.Millisecond
)

func (b *bar) Phase(name string, total int64) {
	b.close()
	b.mu.Lock()
	defer b.mu.Unlock()
	b.group = mpb.New(mpb.WithOutput(b.out), mpb.WithWidth(40), mpb.WithRefreshRate(120*time.Millisecond))
	end := []decor.Decorator{decor.EwmaSpeed(decor.SizeB1000(0), "% .1f", recent)}
	if total > 0 {
		end = append(end, decor.Name("  "), decor.OnComplete(decor.EwmaETA(decor.ET_STYLE_GO, recent), ""))
	}
	b.since, b.at = 0, time.Now()
	b.bar = b.group.New(total, mpb.BarStyle().Lbound("").Rbound("").Filler("━").Tip("━").Padding("─"),
		mpb.BarRemoveOnComplete(), mpb.PrependDecorators(decor.Name(name+"  "), decor.CurrentKiloByte("% .1f  ")), mpb.AppendDecorators(append([]decor.Decorator{decor.Name("  ")}, end...)...))
}

func (b *bar) Advance(n int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.since += n
	if passed := time.Since(b.at); b.bar != nil && passed >= moveEvery {
		b.bar.EwmaIncrInt64(b.since, passed)
		b.since, b.at = 0, time.Now()
	}
}

func (b *bar) Note(text string) {
	b.close()
	fmt.Fprintln(b.out, text)
}

func (b *bar) close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.bar != nil {
		// What was announced need not all have come: not every stored byte is
		// paced, and a phase may end early.
		b.bar.Abort(true)
		b.group.Wait()
		b.bar = nil
	}
}

// several watches work on several sites at a time: with a bar for each of those that are
// worked on, on a terminal, or a line for each step.
type several struct {
	mu    sync.Mutex
	out   io.Writer
	quiet bool
	// group draws the bars on a terminal.
	group *mpb.Progress
	bars  map[string]*siteBar
}

func (a *app) several(quiet bool) *several {
	s := &several{out: a.err, quiet: quiet, bars: map[string]*siteBar{}}
	if !quiet && terminal(a.err) {
		s.group = mpb.New(mpb.WithOutput(a.err), mpb.WithWidth(30), mpb.WithRefreshRate(150*time.Millisecond))
	}
	return s
}

// of is the observer of one site's work.
func (s *several) of(site string) progress.Observer {
	if s.quiet {
		return progress.Silent{}
	}
	b := &siteBar{of: s, site: site}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.bars[site] = b
	return b
}

// say writes a line, above the bars if there are any.
func (s *several) say(text string) {
	var out io.Writer = s.out
	if s.group != nil {
		out = s.group
	}
	fmt.Fprintln(out, text)
}

// done says what came of a site.
func (s *several) done(site, words string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.quiet {
		return
	}
	s.bars[site].end()
	s.say(site + ": " + words)
}

func (s *several) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, b := range s.bars {
		b.end()
	}
	if s.group != nil {
		s.group.Wait()
		s.group = nil
	}
}

// siteBar is the progress of one of several sites.
type siteBar struct {
	of   *several
	site string
	bar  *mpb.Bar
}

// Phase implements progress.Observer.
func (b *siteBar) Phase(name string, total int64) {
	b.of.mu.Lock()
	defer b.of.mu.Unlock()
	if b.of.group == nil {
		if total > 0 {
			name += " (" + render.Size(total) + ")"
		}
		fmt.Fprintln(b.of.out, b.site+": "+name)
		return
	}
	b.end()
	b.bar = b.of.group.New(total, mpb.BarStyle().Lbound("").Rbound("").Filler("━").Tip("━").Padding("─"),
		mpb.BarRemoveOnComplete(), mpb.PrependDecorators(decor.Name(b.site, decor.WCSyncSpaceR), decor.CurrentKiloByte("% .1f", decor.WCSyncSpace)),
		mpb.AppendDecorators(decor.AverageSpeed(decor.SizeB1000(0), "% .1f")))
}

// Advance implements progress.Observer.
func (b *siteBar) Advance(n int64) {
	b.of.mu.Lock()
	defer b.of.mu.Unlock()
	if b.bar != nil {
		b.bar.IncrInt64(n)
	}
}

// Note implements progress.Observer.
func (b *siteBar) Note(text string) {
	b.of.mu.Lock()
	defer b.of.mu.Unlock()
	b.of.say(b.site + ": " + text)
}

// end takes the bar away. The lock is held.
func (b *siteBar) end() {
	if b.bar != nil {
		b.bar.Abort(true)
		b.bar = nil
	}
}
