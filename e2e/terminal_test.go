package e2e

import (
	"bytes"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// screen runs the program in a terminal of its own, made by script(1), whose keys are what is written to it.
type screen struct {
	t    *testing.T
	cmd  *exec.Cmd
	keys io.WriteCloser
	lockedBuffer
}

// terminal shows a command line of the shell's on a terminal of so many columns. Ctrl-C is for what the shell
// runs, and not for the shell.
func (w *world) terminal(columns string, line string) *screen {
	w.t.Helper()
	s := &screen{t: w.t}
	like := w.command()
	s.cmd = exec.Command("script", "-qec", "trap : INT; stty cols "+columns+"; "+strings.ReplaceAll(line, "revlet", program), "/dev/null")
	limit := time.AfterFunc(longestRun, func() { _ = s.cmd.Process.Kill() })
	w.t.Cleanup(func() { limit.Stop() })
	s.cmd.Dir, s.cmd.Env, s.cmd.Stdout = like.Dir, append(slices.DeleteFunc(like.Env, func(e string) bool { return strings.HasPrefix(e, "NO_COLOR") }), "TERM=xterm"), &s.lockedBuffer
	var err error
	s.keys, err = s.cmd.StdinPipe()
	require.NoError(w.t, err)
	require.NoError(w.t, s.cmd.Start())
	w.t.Cleanup(func() { _ = s.cmd.Process.Kill() })
	return s
}

// sees waits until something is on the screen.
func (s *screen) sees(text string) {
	s.t.Helper()
	require.Eventually(s.t, func() bool { return strings.Contains(s.String(), text) }, 20*time.Second, 10*time.Millisecond, "%q\n%s", text, s)
}

// ends is the exit code.
func (s *screen) ends() int {
	s.t.Helper()
	_ = s.cmd.Wait()
	return s.cmd.ProcessState.ExitCode()
}

// Ctrl-C at a question acts at once, changes nothing, and is told by the exit code and in the history.
func TestInterrupts(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	w.write("htdocs/index.php", "broken")
	s := w.terminal("80", "revlet restore kestrelpoint; echo ended $?")
	s.sees("[y/N]")
	_, err := io.WriteString(s.keys, "\x03")
	require.NoError(t, err)
	s.sees("ended 130")
	s.sees("nothing half-made is kept")
	assert.Zero(t, s.ends())
	assert.Equal(t, "broken", w.read("htdocs/index.php"))

	require.NoError(t, os.WriteFile(w.path("key"), nil, 0o600))
	require.NoError(t, os.Remove(w.path("key")))
	s = w.terminal("80", "revlet keys new key --passphrase; echo ended $?; stty -a | grep -o ' echo '")
	s.sees("Passphrase of the key")
	_, err = io.WriteString(s.keys, "\x03")
	require.NoError(t, err)
	s.sees("ended 130")
	s.sees(" echo ") // the terminal shows again what is typed
	assert.Zero(t, s.ends())

	// A line that is cut is like Ctrl-C, but for what was told to stay.
	for _, c := range []struct {
		stays bool
		shell string
	}{{false, ""}, {true, "trap '' HUP; "}} {
		cmd := exec.Command("sh", "-c", c.shell+"exec "+program+" standin sftp far --keys keys")
		cmd.Dir = w.dir
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		_, err = out.Read(make([]byte, 1))
		require.NoError(t, err)
		require.NoError(t, cmd.Process.Signal(syscall.SIGHUP))
		gone := make(chan struct{})
		go func() { defer close(gone); _, _ = io.Copy(io.Discard, out); _ = cmd.Wait() }()
		select {
		case <-gone:
			assert.False(t, c.stays)
		case <-time.After(time.Second):
			assert.True(t, c.stays)
			require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
			<-gone
		}
	}
}

// What a terminal shows fits it; what is written elsewhere is whole, and one that cannot be written is an error.
func TestTerminals(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup", "--note", "before the great change of everything that we have long been planning for")
	for _, line := range []string{"revlet archives", "revlet show kestrelpoint", "revlet status", "revlet history", "revlet --help", "revlet stores list"} {
		s := w.terminal("80", line)
		s.ends()
		for row := range strings.SplitSeq(s.String(), "\n") {
			if !strings.HasPrefix(unpainted(row), "Unsafe:") {
				assert.LessOrEqual(t, len([]rune(unpainted(row))), 80, "%s: %s", line, row)
			}
		}
		assert.Contains(t, s.String(), "\x1b[", "colours")
	}
	dumb := w.terminal("60", "TERM=dumb revlet archives")
	dumb.ends()
	assert.NotContains(t, dumb.String(), "\x1b[")
	assert.Contains(t, w.run("archives"), "before the great change of everything that we have long been planning for")

	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	for _, args := range [][]string{{"archives"}, {"archives", "--json"}, {"status"}, {"--help"}, {"completion", "bash"}} {
		cmd := w.command(args...)
		cmd.Stdout = full
		var complaint bytes.Buffer
		cmd.Stderr = &complaint
		assert.Error(t, cmd.Run())
		assert.Equal(t, 1, cmd.ProcessState.ExitCode(), args)
		assert.Contains(t, complaint.String(), "no space left")
	}
}

// unpainted is a row of a terminal without what colours it.
func unpainted(row string) string {
	row = strings.TrimRight(row, "\r")
	for {
		before, rest, ok := strings.Cut(row, "\x1b[")
		if !ok {
			return row
		}
		_, after, _ := strings.Cut(rest, "m")
		row = before + after
	}
}

// Errors are JSON, too, where JSON was asked for, with what can be done, and the text stays where it was.
func TestErrorsAsJSON(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	for _, c := range []struct {
		code   int
		reason string
		args   []string
	}{
		{1, "no-archives", []string{"show", "kestrelpoint", "--json"}},
		{2, "", []string{"backup", "--scop", "full", "--json"}},
		{2, "", []string{"archives", "nowhere", "--json"}},
	} {
		r := w.fails(c.code, nil, c.args...)
		var e struct {
			Error struct {
				Message  string   `json:"message"`
				Next     []string `json:"next"`
				Reasons  []string `json:"reasons"`
				ExitCode int      `json:"exit_code"`
			} `json:"error"`
		}
		require.NoError(t, json.Unmarshal([]byte(r.out), &e), r.out)
		assert.Equal(t, c.code, e.Error.ExitCode)
		assert.Contains(t, r.err, strings.Split(e.Error.Message, "\n")[0])
		if c.reason != "" {
			assert.Equal(t, []string{c.reason}, e.Error.Reasons)
			assert.NotEmpty(t, e.Error.Next)
		}
	}
	assert.Empty(t, w.fails(2, nil, "show").out)
}

// The shell completes names, and evaluates nothing of what is typed.
func TestCompletionInBash(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	w.write("revlet.bash", w.run("completion", "bash"))
	complete := func(words ...string) string {
		cmd := w.command()
		cmd.Path, cmd.Args = "/bin/bash", append([]string{"bash", "-c", `source revlet.bash; COMP_WORDS=("$@"); COMP_CWORD=$(($# - 1)); _revlet; printf '%s ' "${COMPREPLY[@]}"`, "bash", program}, words...)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err)
		return strings.TrimSpace(string(out))
	}
	assert.Equal(t, "stores", complete("stor"))
	assert.Equal(t, "--salvage", complete("restore", "--salv"))
	assert.Equal(t, "kestrelpoint "+w.newest(), complete("restore", "kestrel"))
	assert.Equal(t, "pages", complete("restore", "kestrelpoint", "--table", "pag"))
	assert.Equal(t, "themes", complete("restore", "kestrelpoint", "--only", "th"))
	assert.Equal(t, "here", complete("stores", "copy", "--to", ""))
	assert.Equal(t, "revlet.bash revlet.yaml", complete("keys", "check", "revlet."))
	assert.Empty(t, complete("show", "$(touch pwned)", "`touch pwned`"))
	assert.NoFileExists(t, w.path("pwned"))
	before := len(w.run("history"))
	require.NoError(t, os.RemoveAll(w.path("state")))
	assert.Equal(t, "kestrelpoint", complete("restore", "kestrel"))
	assert.NoDirExists(t, w.path("state"), "completing leaves nothing behind")
	assert.Positive(t, before)
}
