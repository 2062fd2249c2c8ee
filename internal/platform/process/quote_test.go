package process

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a shell reads back from ShellQuote is the words that went in.
func TestShellQuoteIsReadBackByAShell(t *testing.T) {
	for _, words := range [][]string{
		{"revlet", "due"}, {""}, {"a b", "c'd", `e"f`}, {"$HOME", "`id`", "$(id)"}, {"a;b", "c|d", "e&f", "g>h"}, {"*", "?", "[a]", "{a,b}"}, {"new\nline"}, {"~", "#no", "!x"}, {`back\slash`},
	} {
		out, err := exec.Command("sh", "-c", "printf '%s\\0' "+ShellQuote(words...)).Output()
		require.NoError(t, err)
		want := ""
		for _, w := range words {
			want += w + "\x00"
		}
		assert.Equal(t, want, string(out), "%q", words)
	}
}
