package render

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Printer words things for people, on a terminal or in a text.
type Printer struct {
	// printed tells that JSON was written.
	printed bool
	// Out is written to; write errors show when it is closed.
	Out io.Writer
	// Colour is set for a terminal that wants it; Columns is how wide that is, 0 where nothing is to be
	// broken into lines.
	Colour  bool
	Columns int
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
	headings, rows, right = a.leaveOut(headings, rows, right)
	t := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatUpper
	t.SetStyle(style)
	configs := make([]table.ColumnConfig, len(headings))
	for i, most := range a.fit(headings, rows) {
		configs[i] = table.ColumnConfig{Number: i + 1, WidthMax: most, WidthMaxEnforcer: text.WrapSoft}
	}
	for _, n := range right {
		configs[n-1].Align, configs[n-1].AlignHeader = text.AlignRight, text.AlignRight
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

// minor are headings of columns that are left out, the first one first, where a table would be wider than
// the terminal; what is left out is in the command's JSON, and in what is written elsewhere.
var minor = []string{"by", "kind", "new", "size", "scope", "bytes", "took", "note", "place", "elsewhere", "site"}

// leaveOut leaves minor columns out until the rest fits.
func (a *Printer) leaveOut(headings []string, rows [][]string, right []int) ([]string, [][]string, []int) {
	for _, name := range minor {
		at := slices.Index(headings, name)
		if a.Columns == 0 || a.least(headings, rows) <= a.Columns || at < 1 {
			continue
		}
		headings = slices.Delete(slices.Clone(headings), at, at+1)
		fewer := make([][]string, len(rows))
		for i, row := range rows {
			fewer[i] = row
			if at < len(row) {
				fewer[i] = slices.Delete(slices.Clone(row), at, at+1)
			}
		}
		rows = fewer
		var still []int
		for _, n := range right {
			switch {
			case n-1 < at:
				still = append(still, n)
			case n-1 > at:
				still = append(still, n-1)
			}
		}
		right = still
	}
	return headings, rows, right
}

// least is how wide a table is at least.
func (a *Printer) least(headings []string, rows [][]string) int {
	total := gap * (len(headings) - 1)
	for i, heading := range headings {
		most := longestWord(heading)
		for _, row := range rows {
			if i < len(row) {
				most = max(most, longestWord(row[i]))
			}
		}
		total += most
	}
	return total
}

// gap is how far columns are apart.
const gap = 2

// fit says how wide each column of a table may be, so that it fits the terminal; 0 is as wide as it is. The
// widest give way, and none becomes narrower than its longest word: names and figures stay whole.
func (a *Printer) fit(headings []string, rows [][]string) []int {
	most, widest, words := make([]int, len(headings)), make([]int, len(headings)), make([]int, len(headings))
	total := gap * (len(headings) - 1)
	for i, heading := range headings {
		widest[i], words[i] = text.LongestLineLen(heading), longestWord(heading)
		for _, row := range rows {
			if i < len(row) {
				widest[i], words[i] = max(widest[i], text.LongestLineLen(row[i])), max(words[i], longestWord(row[i]))
			}
		}
		total += widest[i]
	}
	for a.Columns > 0 && total > a.Columns {
		at := -1
		for i := range widest {
			if widest[i] > words[i] && (at < 0 || widest[i] > widest[at]) {
				at = i
			}
		}
		if at < 0 {
			break // wider than the terminal even so
		}
		widest[at]--
		total--
		most[at] = widest[at]
	}
	return most
}

// short is how wide a text is that is not broken, such as a date.
const short = 20

// longestWord is the width of the longest part that is not broken: paths are, where they have to be.
func longestWord(s string) (most int) {
	if n := text.LongestLineLen(s); n <= short {
		return n
	}
	for word := range strings.FieldsFuncSeq(s, func(r rune) bool { return r == ' ' || r == '\n' || r == '/' }) {
		most = max(most, text.StringWidthWithoutEscSequences(word))
	}
	return most
}

func toRow(cells []string, each func(string) string) table.Row {
	row := make(table.Row, len(cells))
	for i, c := range cells {
		row[i] = each(c)
	}
	return row
}

// Item prints one of a list's lines behind its mark, and what follows of a long one below its beginning.
func (a *Printer) Item(mark, line string) {
	if room := a.Columns - text.StringWidthWithoutEscSequences(mark) - 3; room > 20 {
		line = strings.ReplaceAll(text.WrapSoft(line, room), "\n", "\n"+strings.Repeat(" ", text.StringWidthWithoutEscSequences(mark)+3))
	}
	for part := range strings.SplitSeq("  "+mark+" "+line, "\n") {
		fmt.Fprintln(a.Out, strings.TrimRight(part, " "))
	}
}

// Facts prints labelled lines, the labels in one column.
func (a *Printer) Facts(lines [][2]string) {
	width := 0
	for _, l := range lines {
		if l[1] != "" {
			width = max(width, len(l[0]))
		}
	}
	for _, l := range lines {
		if l[1] != "" {
			value := l[1]
			if a.Columns > width+20 {
				value = text.WrapSoft(value, a.Columns-width-4)
			}
			value = strings.ReplaceAll(value, "\n", "\n"+strings.Repeat(" ", width+4))
			fmt.Fprintf(a.Out, "  %s  %s\n", a.Dim(fmt.Sprintf("%-*s", width, l[0])), value)
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
