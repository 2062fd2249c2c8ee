package manual

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
)

// Man writes the page of section 1 of a manual (man(7)) for the program, or for one of its commands with all
// that is below it.
func Man(w io.Writer, c *cli.Command, version string, at time.Time) {
	m := &man{w}
	title := strings.ReplaceAll(c.FullName(), " ", "-")
	m.put(".TH %q 1 %q %q %q", strings.ToUpper(title), at.UTC().Format("2006-01-02"), "revlet "+version, "Revlet")
	m.put(".SH NAME")
	m.put("%s \\- %s", m.text(title), m.text(c.Usage))
	m.put(".SH SYNOPSIS")
	m.put(".B %s", m.text(Usage(c)))
	m.body(c, ".SH")
	if c == c.Root() {
		m.put(".SH COMMANDS")
		for _, sub := range c.VisibleCommands() {
			m.put(".TP\n.BR revlet-%s (1)\n%s", m.text(sub.Name), m.text(sub.Usage))
		}
		m.put(".SH EXIT STATUS")
		for _, code := range []string{"0 done", "1 failed", "2 wrong usage or configuration", "3 done with gaps, a store still pending, or some of several sites failed", "4 damage or trouble found", "5 the guarded command broke the site, and it was put back", "130 stopped by Ctrl-C or another signal"} {
			number, text, _ := strings.Cut(code, " ")
			m.put(".TP\n.B %s\n%s", number, text)
		}
	} else {
		m.below(c)
	}
	m.put(".SH SEE ALSO")
	m.put(".BR revlet (1)")
}

type man struct{ io.Writer }

func (m *man) put(format string, args ...any) { fmt.Fprintf(m.Writer, format+"\n", args...) }

// text keeps what a page's language takes for its own (groff(7)).
func (m *man) text(s string) string {
	s = strings.NewReplacer(`\`, `\e`, "-", `\-`, "'", `\(aq`, "`", "", "…", `\&...`).Replace(s)
	if strings.HasPrefix(s, ".") {
		s = `\&` + s
	}
	return s
}

// body is the description, the examples and the options of a command, under headings of a level.
func (m *man) body(c *cli.Command, heading string) {
	if c.Description != "" {
		m.put("%s DESCRIPTION", heading)
		for part := range strings.SplitSeq(c.Description, "\n\n") {
			m.put(".PP\n%s", m.text(strings.ReplaceAll(part, "\n", " ")))
		}
	}
	if all := options(c); len(all) > 0 {
		m.put("%s OPTIONS", heading)
		for _, o := range all {
			m.put(".TP\n.B %s\n%s", m.text(o.Label()), m.text(o.Text))
		}
	}
	if all := examplesOf(c); len(all) > 0 {
		m.put("%s EXAMPLES", heading)
		for _, e := range all {
			m.put(".TP\n.B %s\n%s", m.text(c.Root().Name+" "+e[0]), m.text(e[1]))
		}
	}
}

// below are the commands below one, each a section.
func (m *man) below(c *cli.Command) {
	for _, sub := range c.VisibleCommands() {
		m.put(".SH %s", m.text(strings.ToUpper(sub.FullName())))
		m.put("%s", m.text(sub.Usage))
		m.put(".PP\n.B %s", m.text(Usage(sub)))
		m.body(sub, ".SS")
		m.below(sub)
	}
}
