package cli

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"revlet/internal/platform/progress"
)

// printer words things for people, on a terminal or in a text.
type printer struct {
	out    io.Writer
	colour bool
	now    func() time.Time
}

// plain returns what show prints, without colours.
func (a *printer) plain(show func(*printer)) string {
	var text strings.Builder
	show(&printer{out: &text, now: a.now})
	return text.String()
}

func (a *printer) paint(c text.Color, s string) string {
	if !a.colour {
		return s
	}
	return c.EscapeSeq() + s + text.Reset.EscapeSeq()
}

func (a *printer) good(s string) string { return a.paint(text.FgGreen, s) }
func (a *printer) bad(s string) string  { return a.paint(text.FgHiRed, s) }
func (a *printer) dim(s string) string  { return a.paint(text.Faint, s) }
func (a *printer) bold(s string) string { return a.paint(text.Bold, s) }

// table prints rows under headings, two spaces apart; columns named in right
// are aligned to the right.
func (a *printer) table(headings []string, rows [][]string, right ...int) {
	t := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatUpper
	t.SetStyle(style)
	var configs []table.ColumnConfig
	for _, n := range right {
		configs = append(configs, table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(toRow(headings, a.dim))
	for _, r := range rows {
		t.AppendRow(toRow(r, func(s string) string { return s }))
	}
	for line := range strings.SplitSeq(t.Render(), "\n") {
		fmt.Fprintln(a.out, strings.TrimRight(line, " "))
	}
}

func toRow(cells []string, each func(string) string) table.Row {
	row := make(table.Row, len(cells))
	for i, c := range cells {
		row[i] = each(c)
	}
	return row
}

// facts prints labelled lines, the labels in one column.
func (a *printer) facts(lines [][2]string) {
	width := 0
	for _, l := range lines {
		width = max(width, len(l[0]))
	}
	for _, l := range lines {
		if l[1] != "" {
			fmt.Fprintf(a.out, "  %s  %s\n", a.dim(fmt.Sprintf("%-*s", width, l[0])), l[1])
		}
	}
}

func size(n int64) string { return humanize.Bytes(uint64(max(n, 0))) }

func count(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(n) + " " + many
}

// when writes a moment in local time.
func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// age words how long ago a moment was.
func (a *printer) age(t time.Time) string { return humanize.RelTime(t, a.now(), "ago", "from now") }

// took words a duration as people time things.
func took(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.2f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	default:
		return d.Round(time.Second).String()
	}
}

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
		name += " (" + size(total) + ")"
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
