package jobs

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/work/preflight"
)

func TestCheckConfig(t *testing.T) {
	t.Parallel()
	b := newBench(t, "", "")
	file := b.path("revlet.yaml")
	says := func() string {
		var all []string
		for _, f := range CheckConfig(file, false) {
			all = append(all, fmt.Sprintf("%s %s: %s", f.Level, f.About, f.Text))
		}
		return strings.Join(all, "\n")
	}
	assert.Contains(t, says(), "passed configuration: ")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	write := func(text string, mode os.FileMode) {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		require.NoError(t, os.Chmod(file, mode))
	}
	for _, c := range []struct{ old, new, want string }{
		{"root: ./htdocs", "root: ./gone", "stop site kestrelpoint: its webroot, " + b.path("gone") + ", is not there"},
		{"root: ./htdocs", "root: ./revlet.yaml", "is no folder"},
		{"recipe: lampblack", "recipe: lampblak", "stop site kestrelpoint: there is no recipe"},
		{"recipe: lampblack", "recipe: ./own.yaml", "stop site kestrelpoint: its recipe: "},
		{"stores: [here, far]", "stores: [here]", "look stores: no site uses store far"},
		{"far: {folder: ./far}", "far: {folder: ./unplugged}", "look stores: the folder of store far, " + b.path("unplugged") + ", is not there"},
		{"far: {folder: ./far}", "far: {sftp: \"sftp://k@h.example/x\", password_file: ./none}", "stop secrets: the password of store far cannot be read"},
		{"far: {folder: ./far}", "far: {sftp: \"sftp://k@h.example/x\", password_file: ./revlet.yaml}", "look secrets: " + file + " holds a secret and others can read it"},
		{"check: {path: /}", "check: {path: /}\n    schedule: [\"rehearse, every sunday at 05:00\"]\nencrypt: {to: [age1al5ekh3z985xt7l3qc334hn64t7mm94quxxv9l8nlt5xlukuus6qd3fmmn]}", "look site kestrelpoint: its duty `rehearse` needs the key"},
		{"root: ./htdocs", "rot: ./htdocs", `unknown key "rot"; did you mean "root"?`},
	} {
		require.Contains(t, string(text), c.old)
		write(strings.Replace(string(text), c.old, c.new, 1), 0o644)
		assert.Contains(t, says(), c.want)
		assert.NotContains(t, says(), string(preflight.Passed))
	}
	write(string(text), 0o620)
	assert.Contains(t, says(), "chmod go-w")
}
