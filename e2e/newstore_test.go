package e2e

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/place"
)

// types writes a line, once something is on the screen.
func (s *screen) types(after, line string) {
	s.t.Helper()
	s.sees(after)
	_, err := io.WriteString(s.keys, line+"\n")
	require.NoError(s.t, err)
}

// A new store is asked for on a terminal, tried, and written into the configuration beside what stands there; what
// does not work leaves nothing.
func TestAddingAStore(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	far, _ := standin(w, place.SFTP, nil, "")
	w.run("backup")
	before := w.read("revlet.yaml")

	s := w.terminal("100", "revlet stores add harbour "+far.Address+"revlet; echo ended $?")
	s.types("Password of keeper there", "a guess")
	s.types("is not known yet", "y")
	s.sees("ended 1")
	s.sees("Nothing was written")
	assert.Zero(t, s.ends())
	assert.Equal(t, before, w.read("revlet.yaml"))
	assert.NoFileExists(t, w.path("harbour.password"))

	s = w.terminal("100", "revlet stores add harbour; echo ended $?")
	s.types("Where is it?", far.Address+"revlet")
	s.types("Password of keeper there", "practice")
	s.types("Shall the archives of kestrelpoint go to harbour, too?", "")
	s.sees("ended 0")
	s.sees("Not encrypted")
	assert.Zero(t, s.ends())
	assert.NotContains(t, s.String(), "practice\r\n", "what is typed is not shown")
	w.equalConfig(before, "\n  harbour: {sftp: ", "stores: [here, harbour]")
	info, err := os.Stat(w.path("harbour.password"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	assert.Contains(t, w.run("stores", "copy", "--to", "harbour"), "is in harbour")

	// On the worst day, elsewhere, the same is asked for, and nothing is left of what did not work.
	elsewhere := w.terminal("100", "cd "+w.tmp+" && revlet --config new.yaml --state new stores discover "+far.Address+"re''vlet; echo ended $?")
	elsewhere.types("Password of keeper there", "a guess")
	elsewhere.types("is not known yet", "y")
	elsewhere.sees("ended 1")
	assert.Zero(t, elsewhere.ends())
	assert.NoFileExists(t, filepath.Join(w.tmp, "found.password"))
	assert.NoFileExists(t, filepath.Join(w.tmp, "new.yaml"))
	elsewhere = w.terminal("100", "cd "+w.tmp+" && revlet --config new.yaml --state new stores discover --dry-run "+far.Address+"re''vlet; revlet --config new.yaml --state new stores discover "+far.Address+"re''vlet; echo ended $?")
	elsewhere.types("Password of keeper there", "practice")
	elsewhere.sees("Would be written")
	elsewhere.types("Password of keeper there", "practice")
	elsewhere.sees("What you typed is in")
	elsewhere.sees("ended 0")
	assert.Zero(t, elsewhere.ends())
	assert.FileExists(t, filepath.Join(w.tmp, "found.password"))

	// Where nobody can be asked, everything has to be said.
	w.fails(2, []string{"no terminal", "--password-file"}, "stores", "discover", far.Address+"revlet")
	w.fails(2, []string{"no terminal", "--password-file"}, "stores", "add", "second", far.Address+"second")
	w.fails(2, []string{"taken"}, "stores", "add", "harbour", w.path("disk"))
	w.fails(1, []string{"in a folder of site kestrelpoint"}, "stores", "add", "disk", w.path("htdocs/archives"))
	asIs := w.read("revlet.yaml")
	w.write("media/a.txt", "a")
	w.write("revlet.yaml", strings.Replace(asIs, "  kestrelpoint:\n", "  kestrelpoint:\n    roots: {media: ./media}\n", 1))
	require.NotEqual(t, asIs, w.read("revlet.yaml"))
	w.fails(1, []string{"in a folder of site kestrelpoint"}, "stores", "add", "disk", w.path("media/archives"))
	w.write("revlet.yaml", asIs)
	assert.NoDirExists(t, w.path("htdocs/archives"))
	w.fails(2, []string{`"nobody"`}, "stores", "add", "disk", w.path("disk"), "--for", "nobody")
	assert.NoDirExists(t, w.path("disk"))
	var added struct {
		Added string
		Sites []string
		Test  struct{ OK bool }
	}
	w.json(&added, "stores", "add", "disk", "disk", "--for", "kestrel*")
	assert.True(t, added.Test.OK)
	assert.Equal(t, []string{"kestrelpoint"}, added.Sites)
	assert.Contains(t, w.read("revlet.yaml"), "disk: {folder: "+w.path("disk")+"}")
	assert.Contains(t, w.read("revlet.yaml"), "stores: [here, harbour, disk]")
}

// equalConfig makes sure that the configuration has some things more, and all lines that it had but for the list of stores.
func (w *world) equalConfig(before string, more ...string) {
	w.t.Helper()
	now := w.read("revlet.yaml")
	for _, text := range more {
		assert.Contains(w.t, now, text)
	}
	for line := range strings.Lines(before) {
		if !strings.Contains(line, "stores: [") {
			assert.Contains(w.t, now, line)
		}
	}
}

// A cloud drive is linked by a yes on its page; when that is taken back there is an alarm at once, and another yes
// brings what is pending there.
func TestLinkingAStore(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	grants := &place.Grants{Requests: 20}
	far, err := place.Start(place.WebDAV, place.Options{Dir: w.path("far"), Keys: w.path("farkeys"), Grants: grants, Listen: fmt.Sprintf("127.0.0.1:%d", freePort(t))})
	require.NoError(t, err)
	t.Cleanup(far.Close)
	answers := func(yes bool, args ...string) (string, int) {
		cmd := w.command(args...)
		var out lockedBuffer
		cmd.Stdout, cmd.Stderr = &out, &out
		require.NoError(t, cmd.Start())
		code := regexp.MustCompile(`code: (\S+)`)
		require.Eventually(t, func() bool { return code.MatchString(out.String()) }, 20*time.Second, 10*time.Millisecond, "%s", &out)
		require.True(t, grants.Answer(code.FindStringSubmatch(out.String())[1], yes))
		_ = cmd.Wait()
		return out.String(), cmd.ProcessState.ExitCode()
	}
	add := []string{"stores", "add", "cloud", far.Address + "/revlet", "--issuer", far.Address, "--client", "revlet", "--ca-file", far.CAFile, "--for", "kestrelpoint"}
	before := w.read("revlet.yaml")
	out, code := answers(false, add...)
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "said no")
	assert.Equal(t, before, w.read("revlet.yaml"))
	out, code = answers(true, add...)
	assert.Zero(t, code, out)
	assert.Contains(t, out, far.Address+"/link")
	w.run("backup")
	assert.NotContains(t, w.try("status").out, "not-linked")

	grants.TakeBack()
	w.fails(3, []string{"has ended", "revlet stores link cloud"}, "backup")
	assert.Contains(t, w.try("status", "--json").out, "not-linked")
	out, code = answers(true, "stores", "link", "cloud", "--json")
	assert.Zero(t, code, out)
	assert.Contains(t, w.run("stores", "copy"), "is in cloud")
	assert.NotContains(t, w.try("status", "--json").out, "not-linked")

	w.run("stores", "link", "cloud", "--end")
	w.fails(1, []string{"not linked"}, "stores", "test", "cloud")
	assert.Contains(t, w.try("status", "--json").out, "not-linked")
	w.fails(2, []string{"link:"}, "stores", "link", "here")
}

// From nothing to a site that is scheduled, kept elsewhere, encrypted and rehearsed, with what the commands say to
// do next, and without writing YAML.
func TestTheFirstTenMinutes(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	far, _ := standin(w, place.SFTP, nil, "")
	require.NoError(t, os.Remove(w.path("revlet.yaml")))
	out := w.run("adopt", "htdocs", "--name", "kestrelpoint", "--store", "./disk")
	assert.Contains(t, out, "revlet stores add")
	assert.Contains(t, w.run("backup"), "revlet stores add", "every copy is on the same machine")
	w.run("stores", "add", "harbour", far.Address+"revlet", "--password-file", "far.pw", "--trust", "--for", "kestrelpoint")
	w.run("keys", "new", "museum.key", "--use")
	w.fails(2, []string{"says already"}, "keys", "new", "second.key", "--use")
	assert.NoFileExists(t, w.path("second.key"))
	assert.Contains(t, w.run("schedule", "install", "--cron"), "no site has a `schedule:` yet")
	config := w.read("revlet.yaml")
	require.Equal(t, 2, strings.Count(config, "    # "))
	w.write("revlet.yaml", strings.ReplaceAll(config, "    # ", "    "))
	assert.NotContains(t, w.run("schedule", "install", "--cron"), "no site has")
	assert.Contains(t, w.run("duties", "--ahead", "1"), "full, every day at 03:20")
	w.run("config", "check")
	w.run("backup")
	w.run("keys", "check", "museum.key")
	w.run("rehearse", "--key", "museum.key")
	w.run("stores", "copy")
	var status struct {
		Sites []struct {
			Offsite bool
			Alarms  []any
		}
	}
	w.json(&status, "status")
	assert.True(t, status.Sites[0].Offsite)
	assert.Empty(t, status.Sites[0].Alarms)
}
