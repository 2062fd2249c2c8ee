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
}

func (b *bar) Phase(name string, total int64) {
	b.close()
	b.mu.Lock()
	defer b.mu.Unlock()
	b.group = mpb.New(mpb.WithOutput(b.out), mpb.WithWidth(40), mpb.WithRefreshRate(120*time.Millisecond))
	end := []decor.Decorator{decor.AverageSpeed(decor.SizeB1000(0), "% .1f")}
	if total > 0 {
		end = append(end, decor.Name("  "), decor.OnComplete(decor.AverageETA(decor.ET_STYLE_GO), ""))
	}
	b.bar = b.group.New(total, mpb.BarStyle().Lbound("").Rbound("").Filler("━").Tip("━").Padding("─"),
		mpb.BarRemoveOnComplete(), mpb.PrependDecorators(decor.Name(name+"  "), decor.CurrentKiloByte("% .1f  ")), mpb.AppendDecorators(append([]decor.Decorator{decor.Name("  ")}, end...)...))
}

func (b *bar) Advance(n int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.bar != nil {
		b.bar.IncrInt64(n)
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
