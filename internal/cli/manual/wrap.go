package manual

import (
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
)

// width is how many columns a text takes on a terminal.
func width(s string) int { return text.StringWidthWithoutEscSequences(s) }

// wrap breaks a text at blanks into lines of so many columns, or of one word that is longer. What stands in
// backquotes, such as a command, is broken as well: a line is not to be wider than the terminal.
func wrap(s string, columns int) (lines []string) {
	line := ""
	for word := range strings.FieldsSeq(s) {
		switch {
		case line == "":
			line = word
		case width(line)+1+width(word) <= columns:
			line += " " + word
		default:
			lines = append(lines, line)
			line = word
		}
	}
	return append(lines, line)
}
