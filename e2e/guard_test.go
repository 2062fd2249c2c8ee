package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
)

// A command that breaks the site is taken back, whatever else it does.
func TestGuard(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	tree := func() map[string]string { return snapshot(t, w.path("htdocs"), "data", "cache") }
	out := w.run("guard", "kestrelpoint", "--", "touch", "htdocs/uploads/new.txt")
	assert.Contains(t, out, "Fine:")
	assert.FileExists(t, w.path("htdocs/uploads/new.txt"))
	assert.Contains(t, w.run("archives"), "before: touch htdocs/uploads/new.txt")
	s := w.terminal("100", "revlet guard kestrelpoint -- sh -c 'test -t 0 && test -t 1 && test -t 2 && echo of-age'")
	s.sees("of-age\r\n") // the terminal itself is the command's
	assert.Zero(t, s.ends())

	before, content := tree(), rows(t, w)
	r := w.fails(5, []string{"Broken:", "removed  themes/lantern/theme.html", "added    uploads/bad.php", "among the uploads", "Put back"},
		"guard", "kestrelpoint", "--patience", "1 second", "--", "sh", "-c", "rm -r htdocs/themes/lantern; echo '<?php' > htdocs/uploads/bad.php")
	assert.Contains(t, r.out, "answers 200")
	assert.Equal(t, before, tree())
	assert.Equal(t, content, rows(t, w))
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")

	w.fails(5, []string{"Put back"}, "guard", "kestrelpoint", "--patience", "1 second", "--", "sh", "-c", "rm -r htdocs state")
	assert.Equal(t, before, tree(), "even when the state folder is gone")
	status, _ := get(t, address+"/")
	assert.Equal(t, 200, status)
	asides, err := filepath.Glob(w.path(".revlet-*"))
	require.NoError(t, err)
	for _, a := range asides {
		require.NoError(t, os.RemoveAll(a))
	}

	w.fails(5, []string{"Put back"}, "guard", "kestrelpoint", "--patience", "1 second", "--", "sh", "-c", "echo no database > htdocs/data/museum.db")
	assert.Equal(t, content, rows(t, w))
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	r = w.fails(5, []string{"Stopped: the command takes longer than 1", "Put back"}, "guard", "kestrelpoint", "--patience", "1 second", "--limit", "1 second", "--", "sh", "-c", "rm -r htdocs/themes/lantern; exec sleep 600")
	assert.Equal(t, before, tree(), r.out)
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	w.fails(1, []string{"kestrelpoint is BROKEN and not put back", "revlet restore"}, "guard", "kestrelpoint", "--patience", "1 second", "--", "sh", "-c", "mv archives away; rm -r htdocs/themes/lantern")
	require.NoError(t, os.RemoveAll(w.path("archives")))
	require.NoError(t, os.Rename(w.path("away"), w.path("archives")))
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, before, tree())
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")

	w.fails(1, []string{"the command failed", "the site works"}, "guard", "kestrelpoint", "--", "false")
	w.fails(2, []string{`no command "nosuch"`, "nothing was done"}, "guard", "kestrelpoint", "--", "nosuch")
	w.fails(2, []string{"needs a SITE and the command"}, "guard", "kestrelpoint")
	r = w.fails(1, []string{"left as it is", "revlet compare", "revlet restore"}, "guard", "kestrelpoint", "--keep-broken", "--patience", "1 second", "--", "rm", "-r", "htdocs/themes/lantern")
	w.fails(4, []string{"500"}, "check")
	w.fails(4, []string{"is broken already"}, "guard", "kestrelpoint", "--", "touch", "never")
	assert.NoFileExists(t, w.path("never"))
	name := strings.TrimSuffix(strings.Fields(r.out)[1], ",")
	w.run("restore", name, "--yes")
	assert.Equal(t, before, tree())

	config, err := os.ReadFile(w.path("revlet.yaml"))
	require.NoError(t, err)
	w.write("revlet.yaml", strings.Replace(string(config), "    check:", "    #", 1))
	w.fails(2, []string{"has no check"}, "guard", "kestrelpoint", "--", "true")
}

// An interrupt is for the command; what it left is judged as ever.
func TestGuardIsInterrupted(t *testing.T) {
	w, _ := museum(t)
	cmd := w.command("guard", "kestrelpoint", "--patience", "1 second", "--", "sh", "-c", "rm -r htdocs/themes/lantern; echo ready; exec sleep 60")
	var said lockedBuffer
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "ready") }, 20*time.Second, 10*time.Millisecond)
	w.fails(1, []string{"another guard"}, "guard", "kestrelpoint", "--", "true")
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	_ = cmd.Wait()
	assert.Equal(t, 5, cmd.ProcessState.ExitCode(), said.String())
	assert.FileExists(t, w.path("htdocs/themes/lantern/theme.html"))
}

// A guard that dies leaves the site as it was or as the command left it, and the
// next command sees to the rest.
func TestGuardIsKilled(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	// Without what is known of the folder that the command changes: its time.
	state := func() string {
		all := snapshot(t, w.path("htdocs"), "data", "cache")
		delete(all, "themes/lantern")
		return fmt.Sprint(all) + rows(t, w)
	}
	before := state()
	require.NoError(t, os.Remove(w.path("htdocs/themes/lantern/theme.html")))
	after := state()
	w.run("restore", "kestrelpoint", "--yes")
	seen := map[string]int{}
	for range kills / 3 {
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
		w.interrupt(syscall.SIGKILL, 1500*time.Millisecond, "guard", "kestrelpoint", "--patience", "1 second", "--", "rm", "htdocs/themes/lantern/theme.html")
		w.try("status")
		assert.NoFileExists(t, w.path("htdocs/maintenance.flag"), "any command ends what was interrupted")
		now := state()
		require.Contains(t, []string{before, after}, now)
		seen[map[bool]string{true: "before", false: "after"}[now == before]]++
		w.run("restore", "kestrelpoint", "--yes")
		require.Equal(t, before, state())
	}
	t.Log(seen)
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	w.run("backup") // clears up after the last one, if it died while its archive was made
	w.clean()
}

// What differs is told as it is: by content, by component, the suspicious first.
func TestCompare(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	first := w.newest()
	require.Contains(t, w.run("compare", "kestrelpoint", "--read"), "Nothing differs:")
	later := time.Now().Add(time.Hour)
	require.NoError(t, os.Chtimes(w.path("htdocs/themes/lantern/style.css"), later, later))
	assert.Contains(t, w.run("compare", "kestrelpoint"), "Nothing differs:", "a new time is no new content")

	same := func(rel, text string) { // the same length and time, other content
		info, err := os.Stat(w.path(rel))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(w.path(rel), []byte(text+strings.Repeat(" ", int(info.Size())-len(text))), 0o644))
		require.NoError(t, os.Chtimes(w.path(rel), info.ModTime(), info.ModTime()))
	}
	same("htdocs/core/lampblack-version.yaml", "version: 2.4.1")
	w.write("htdocs/uploads/2026/ornament.php", "<?php")
	w.write("htdocs/themes/lantern/.cache.php", "<?php")
	w.write("htdocs/themes/lantern/logo.php.jpg", "<?php")
	w.write("htdocs/uploads/.htaccess", "AddHandler x .jpg")
	require.NoError(t, os.Remove(w.path("htdocs/uploads/2026/lens.svg")))
	require.NoError(t, os.Chmod(w.path("htdocs/themes/lantern/style.css"), 0o600))
	db := w.path("htdocs", lampblack.DatabaseFile)
	for _, statement := range []string{"UPDATE pages SET title = 'Hacked' WHERE id = 1", "DROP VIEW IF EXISTS latest_log", "DROP TABLE exhibits", "CREATE TABLE extra (a)", "INSERT INTO extra VALUES (1), (2)"} {
		require.NoError(t, lampblack.Execute(context.Background(), db, statement))
	}
	type change struct{ Path, How, Component, Suspect string }
	var report struct {
		Same   bool
		Files  []change
		Tables []struct {
			Table, How string
			After      int64 `json:"after_rows"`
		}
	}
	decode := func(args ...string) map[string]change {
		r := w.try(append([]string{"compare", first, "--json"}, args...)...)
		require.Equal(t, 4, r.code, r.err)
		report.Files, report.Tables = nil, nil
		decodeJSON(t, r.out, &report)
		all := map[string]change{}
		for _, f := range report.Files {
			all[strings.TrimPrefix(f.Path, "webroot/")] = f
		}
		return all
	}
	files := decode()
	assert.Contains(t, files["core/lampblack-version.yaml"].Suspect, "its version is the same", "its time was set back, and it was touched")
	assert.Equal(t, "removed", files["uploads/2026/lens.svg"].How)
	assert.Equal(t, "rights", files["themes/lantern/style.css"].How)
	for path, why := range map[string]string{"uploads/2026/ornament.php": "among the uploads", "themes/lantern/.cache.php": "hidden script", "themes/lantern/logo.php.jpg": "under the name of something else", "uploads/.htaccess": "web server treats"} {
		assert.Equal(t, "added", files[path].How, path)
		assert.Contains(t, files[path].Suspect, why, path)
	}
	require.Len(t, report.Tables, 3)
	assert.Equal(t, "removed", report.Tables[0].How)
	assert.Equal(t, "added", report.Tables[1].How)
	assert.EqualValues(t, 2, report.Tables[1].After)
	assert.Equal(t, "changed", report.Tables[2].How)
	assert.Contains(t, decode("--read")["core/lampblack-version.yaml"].Suspect, "CMS itself")

	w.fails(4, []string{"1 changed", "was 'Kestrel Point Lighthouse Museum'", "title", "is  'Hacked'"}, "compare", first, "--table", "pages")
	w.fails(4, []string{"2 rows added"}, "compare", first, "--table", "extra")
	w.run("compare", first, "--table", "opening_hours")
	w.fails(2, []string{`no table "none"`}, "compare", first, "--table", "none")

	w.run("backup")
	second := w.newest()
	w.fails(4, []string{"1 changed"}, "compare", first, second, "--table", "main.pages")
	w.fails(4, []string{"Look at these first:", "ornament.php", "uploads"}, "compare", first, second)
	w.run("backup", "--note", "third")
	assert.Regexp(t, "clean until .*"+first+".*first seen .*"+second, w.run("compare", "kestrelpoint", "--since", "uploads/2026/ornament.php"))
	w.fails(2, []string{"no file"}, "compare", "kestrelpoint", "--since", "uploads/none")
}
