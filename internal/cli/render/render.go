package render

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Printer words things for people, on a terminal or in a text.
type Printer struct {
	// Out is written to; write errors show when it is closed.
	Out io.Writer
	// Colour is set for a terminal that wants it.
	Colour bool
	// Now is the clock that ages are told by.
	Now func() time.Time
}

// Plain returns what show prints, without colours.
func (a *Printer) Plain(show func(*Printer)) string {
	var text strings.Builder
	show(&Printer{Out: &text, Now: a.Now})
	return text.String()
}

// Paint gives a text a colour, where colours are wanted.
func (a *Printer) Paint(c text.Color, s string) string {
	if !a.Colour {
		return s
	}
	return c.EscapeSeq() + s + text.Reset.EscapeSeq()
}

// Good marks what is as it should be.
func (a *Printer) Good(s string) string { return a.Paint(text.FgGreen, s) }

// Bad marks what somebody should look at.
func (a *Printer) Bad(s string) string { return a.Paint(text.FgHiRed, s) }

// Dim marks what is of less importance.
func (a *Printer) Dim(s string) string { return a.Paint(text.Faint, s) }

// Bold marks names and headings.
func (a *Printer) Bold(s string) string { return a.Paint(text.Bold, s) }

// Table prints rows under headings, two spaces apart; columns named in right
// are aligned to the right.
func (a *Printer) Table(headings []string, rows [][]string, right ...int) {
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
	t.AppendHeader(toRow(headings, a.Dim))
	for _, r := range rows {
		t.AppendRow(toRow(r, func(s string) string { return s }))
	}
	for line := range strings.SplitSeq(t.Render(), "\n") {
		fmt.Fprintln(a.Out, strings.TrimRight(line, " "))
	}
}

func toRow(cells []string, each func(string) string) table.Row {
	row := make(table.Row, len(cells))
	for i, c := range cells {
		row[i] = each(c)
	}
	return row
}

// Facts prints labelled lines, the labels in one column.
func (a *Printer) Facts(lines [][2]string) {
	width := 0
	for _, l := range lines {
		width = max(width, len(l[0]))
	}
	for _, l := range lines {
		if l[1] != "" {
			fmt.Fprintf(a.Out, "  %s  %s\n", a.Dim(fmt.Sprintf("%-*s", width, l[0])), l[1])
		}
	}
}

// Size words an amount of bytes, in powers of 1000.
func Size(n int64) string { return humanize.Bytes(uint64(max(n, 0))) }

// Count words a number of things.
func Count(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(n) + " " + many
}

// When writes a moment in local time.
func When(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// Age words how long ago a moment was.
func (a *Printer) Age(t time.Time) string { return humanize.RelTime(t, a.Now(), "ago", "from now") }

// Took words a duration as people time things.
func Took(d time.Duration) string {
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
