package process

import (
	"regexp"
	"strings"
)

// plain matches words that a shell takes as they are.
var plain = regexp.MustCompile(`^[A-Za-z0-9_./:@%+=,-]+$`)

// ShellQuote quotes words for a POSIX shell.
func ShellQuote(words ...string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		if !plain.MatchString(w) {
			w = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
		quoted[i] = w
	}
	return strings.Join(quoted, " ")
}
