package program

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/store"
)

// asks makes a store of a helper that is a shell's script; it has said its greeting.
func asks(t *testing.T, script string) *Store {
	t.Helper()
	s := New(Options{Command: []string{"sh", "-c", "echo 'revlet-store 1'; " + script}, Env: os.Environ(), Lanes: 1, Where: "a helper"})
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// always answers each line with the same.
func always(answer string) string { return "while read line; do printf '%b' '" + answer + "'; done" }

// A helper that does not keep to the protocol, or is up to no good, is an error: never a listing that lacks
// something, or an object that is not whole.
func TestHelpersThatAreWrong(t *testing.T) {
	for name, c := range map[string]struct{ script, want string }{
		"ends":                  {"exit 0", "has ended"},
		"complains and ends":    {"echo no token >&2; sleep 0.2; exit 1", "no token"},
		"says something else":   {always(`hello\n`), "no answer"},
		"a line without an end": {"yes | tr -d '\\n'", "without an end"},
		"lists what is above":   {always(`object 1 1 ../../etc/passwd\nok\n`), "not in museum"},
		"lists another folder":  {always(`object 1 1 other/a\nok\n`), "not in museum"},
		"lists an odd name":     {always(`object 1 1 museum/a%00b\nok\n`), "not in museum"},
		"lists a negative size": {always(`object -1 1 museum/a\nok\n`), "bytes"},
		"lists half":            {"read line; echo 'object 1 1 museum/a'; exit 0", "has ended"},
		"fails":                 {always(`failed the line is down\n`), "the line is down"},
		"refuses":               {always(`refused the account is closed\n`), "the account is closed"},
	} {
		t.Run(name, func(t *testing.T) {
			all, err := asks(t, c.script).List(t.Context(), "museum")
			require.ErrorContains(t, err, c.want)
			assert.NotErrorIs(t, err, store.ErrNotFound)
			_ = all
			_, err = asks(t, c.script).Stat(t.Context(), "museum/a")
			require.Error(t, err)
			assert.NotErrorIs(t, err, store.ErrNotFound, "silence is no absence")
		})
	}
	_, err := New(Options{Command: []string{"echo", "hello"}}).Stat(t.Context(), "a")
	assert.ErrorContains(t, err, "is no helper")
	assert.ErrorIs(t, err, store.ErrRefused)
	_, err = New(Options{Command: []string{filepath.Join(t.TempDir(), "none")}}).Stat(t.Context(), "a")
	assert.ErrorContains(t, err, "cannot be started")
	assert.ErrorIs(t, asks(t, always(`full 0 bytes left\n`)).Put(t.Context(), "a", strings.NewReader("x"), 1), store.ErrFull)
	_, err = asks(t, always(`missing\n`)).Stat(t.Context(), "a")
	assert.ErrorIs(t, err, store.ErrNotFound)
}

func TestAnObjectThatBreaksOff(t *testing.T) {
	in, err := asks(t, "read line; echo 'ok 100'; printf half; exit 0").Open(t.Context(), "a", 0)
	require.NoError(t, err)
	_, err = io.ReadAll(in)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	require.NoError(t, in.Close())
	err = asks(t, "read line; head -c 3 >/dev/null; echo ok; read line; echo 'ok 2 0'; cat >/dev/null").Put(t.Context(), "a", strings.NewReader("abc"), 3)
	assert.ErrorContains(t, err, "did not arrive whole")
}

// Nothing hangs, and nothing that a helper has started is left.
func TestAHelperThatHangs(t *testing.T) {
	ctx, cancel := context.WithTimeoutCause(t.Context(), 300*time.Millisecond, errors.New("enough"))
	defer cancel()
	mark := filepath.Join(t.TempDir(), "mark")
	began := time.Now()
	_, err := asks(t, "(sleep 3; echo late > "+mark+") & sleep 60").Stat(ctx, "a")
	assert.ErrorContains(t, err, "enough")
	assert.Less(t, time.Since(began), 5*time.Second)
	time.Sleep(3500 * time.Millisecond)
	assert.NoFileExists(t, mark)
}

func FuzzHelper(f *testing.F) {
	f.Add("object 1 1 museum/a", "museum")
	f.Add("ok 5 1700000000", ".")
	f.Add("missing", "")
	f.Fuzz(func(t *testing.T, line, dir string) {
		fields, err := parse("a", line)
		if err == nil {
			info, err := infoOf("a", fields)
			assert.True(t, err != nil || info.Bytes >= 0)
		}
		if within(line, dir) {
			assert.NotContains(t, strings.Split(line, "/"), "..")
			assert.False(t, strings.HasPrefix(line, "/"))
		}
	})
}
