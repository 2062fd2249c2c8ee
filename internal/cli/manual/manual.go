// Package manual is what is said of commands: help on a terminal, pages of a manual, and completion of
// what is typed. All of it is made from the commands themselves and from Examples.
package manual

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

// Example is one way to call a command: what follows the program's name, and what it does.
type Example [2]string

// Words are how parts of a page are told apart.
type Words struct {
	Title, Dim func(string) string
	// Width is of how many columns a line has at most.
	Width int
}

// examplesKey is where a command keeps its examples.
const examplesKey = "examples"

// Set gives a command its examples.
func Set(c *cli.Command, examples []Example) {
	c.Metadata = map[string]any{examplesKey: examples}
}

func examplesOf(c *cli.Command) []Example {
	all, _ := c.Metadata[examplesKey].([]Example)
	return all
}

// Print writes the help of a command.
func Print(w io.Writer, c *cli.Command, words Words) {
	p := &page{Writer: w, Words: words}
	p.para(0, words.Title(c.FullName())+": "+c.Usage)
	p.line("")
	p.para(2, Usage(c))
	for part := range strings.SplitSeq(c.Description, "\n\n") {
		if part != "" {
			p.line("")
			p.para(0, strings.ReplaceAll(part, "\n", " "))
		}
	}
	p.commands(c)
	p.examples(c)
	p.options(c)
	p.end(c)
}

// Usage is how a command is called.
func Usage(c *cli.Command) string {
	usage := c.FullName()
	if len(c.VisibleCommands()) > 0 {
		return usage + " COMMAND …"
	}
	if len(options(c)) > 0 {
		usage += " [OPTION…]"
	}
	return strings.TrimSpace(usage + " " + c.ArgsUsage)
}

type page struct {
	io.Writer
	Words
}

func (p *page) line(text string) { fmt.Fprintln(p.Writer, strings.TrimRight(text, " ")) }

// para writes text, broken into lines that begin with so many blanks.
func (p *page) para(indent int, text string) {
	for _, line := range wrap(text, p.Width-indent) {
		p.line(strings.Repeat(" ", indent) + line)
	}
}

func (p *page) title(text string) {
	p.line("")
	p.line(p.Title(text))
}

// mostLeft is how wide the left one of two columns is at most.
const mostLeft = 24

// columns writes what something is called and what it is, in two columns; what is called by a long name has
// a line of its own.
func (p *page) columns(rows [][2]string) {
	left := 0
	for _, r := range rows {
		if n := width(r[0]); n <= mostLeft {
			left = max(left, n)
		}
	}
	for _, r := range rows {
		head := "  " + r[0]
		if width(r[0]) > left {
			p.line(head)
			head = ""
		}
		for i, line := range wrap(r[1], p.Width-left-4) {
			if i > 0 {
				head = ""
			}
			p.line(head + strings.Repeat(" ", left+4-width(head)) + line)
		}
	}
}

// commands lists what is below a command, in groups.
func (p *page) commands(c *cli.Command) {
	var groups []string
	rows := map[string][][2]string{}
	for _, sub := range c.VisibleCommands() {
		if sub.Name == "help" {
			continue
		}
		group := cmp.Or(sub.Category, "Commands")
		if !slices.Contains(groups, group) {
			groups = append(groups, group)
		}
		rows[group] = append(rows[group], [2]string{sub.Name, sub.Usage})
	}
	for _, group := range groups {
		p.title(group)
		p.columns(rows[group])
	}
}

func (p *page) examples(c *cli.Command) {
	if len(examplesOf(c)) == 0 {
		return
	}
	p.title("Examples")
	for _, e := range examplesOf(c) {
		p.para(2, c.Root().Name+" "+e[0])
		for _, line := range wrap(e[1], p.Width-6) {
			p.line("      " + p.Dim(line))
		}
	}
}

// Option is one option of a command.
type Option struct {
	Names []string
	// Placeholder stands for its value; it is empty where there is none. Text says what it is, with what
	// it is without being given.
	Placeholder, Text string
}

// Label is how an option is written.
func (o Option) Label() string {
	var names []string
	for _, name := range o.Names {
		if len(name) == 1 {
			names = append(names, "-"+name)
		} else {
			names = append(names, "--"+name)
		}
	}
	return strings.TrimSpace(strings.Join(names, ", ") + " " + o.Placeholder)
}

func options(c *cli.Command) (all []Option) {
	for _, f := range c.VisibleFlags() {
		doc, ok := f.(cli.DocGenerationFlag)
		if !ok || slices.Contains(f.Names(), "help") {
			continue
		}
		o := Option{Names: f.Names(), Text: doc.GetUsage()}
		if before, rest, ok := strings.Cut(o.Text, "`"); ok {
			var after string
			o.Placeholder, after, _ = strings.Cut(rest, "`")
			o.Text = before + o.Placeholder + after
		}
		if value := doc.GetValue(); doc.TakesValue() && doc.IsDefaultVisible() && value != "" && value != "[]" && !strings.Contains(o.Text, "(default") {
			o.Text += " (default: " + strings.Trim(value, `"`) + ")"
		}
		all = append(all, o)
	}
	return all
}

func (p *page) options(c *cli.Command) {
	all := options(c)
	if len(all) == 0 {
		return
	}
	p.title("Options")
	var rows [][2]string
	for _, o := range all {
		rows = append(rows, [2]string{o.Label(), o.Text})
	}
	p.columns(rows)
}

// end says where there is more.
func (p *page) end(c *cli.Command) {
	p.line("")
	switch {
	case c == c.Root():
		p.para(0, "More of a command: "+c.Name+" COMMAND --help.")
	case len(c.VisibleCommands()) > 0:
		p.para(0, "More of one: "+c.FullName()+" COMMAND --help. Options of all commands: "+c.Root().Name+" --help.")
	default:
		p.para(0, p.Dim("Options of all commands ("+strings.Join(globals(c.Root()), ", ")+"): "+c.Root().Name+" --help."))
	}
}

func globals(root *cli.Command) (names []string) {
	for _, o := range options(root) {
		if !slices.Contains(o.Names, "version") {
			names = append(names, "--"+o.Names[0])
		}
	}
	return names
}
