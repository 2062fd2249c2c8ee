package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
)

// scratchLeft names what rehearsals have left in temporary folders, and the
// servers that run there.
func scratchLeft(t *testing.T, w *world) (left []string) {
	dirs, err := filepath.Glob(w.tmp + "/revlet-*")
	require.NoError(t, err)
	inState, err := filepath.Glob(w.path("state/rehearsal/*"))
	require.NoError(t, err)
	lines, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, file := range lines {
		line, _ := os.ReadFile(file)
		if strings.Contains(string(line), w.tmp+"/revlet-") {
			left = append(left, string(line))
		}
	}
	return append(append(left, dirs...), inState...)
}

// An archive that restores passes, one that does not is found, and the live
// site is left alone.
func TestRehearse(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	name := w.newest()
	tree, content := snapshot(t, w.path("htdocs"), "data", "cache"), rows(t, w)
	out := w.run("rehearse")
	assert.Contains(t, out, "Restores: "+name)
	assert.Contains(t, out, "8 tables")
	assert.Empty(t, scratchLeft(t, w))
	assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data", "cache"))
	assert.Equal(t, content, rows(t, w))
	var told struct {
		Sites []struct{ Rehearsed *time.Time }
	}
	decodeJSON(t, w.try("status", "--json").out, &told)
	require.NotNil(t, told.Sites[0].Rehearsed)

	config, err := os.ReadFile(w.path("revlet.yaml"))
	require.NoError(t, err)
	serve := "    rehearse: {serve: \"" + program + " standin lampblack {root} --listen 127.0.0.1:{port}\"}\n"
	w.write("revlet.yaml", string(config)+"\n"+serve)
	w.run("rehearse")
	require.NoError(t, os.RemoveAll(w.path("htdocs/themes/lantern")))
	w.run("backup")
	w.fails(4, []string{"DOES NOT RESTORE", "the copy does not work", "500"}, "rehearse")
	w.fails(4, []string{"rehearsal-failed", "does not work"}, "status")
	w.run("rehearse", name)
	w.write("revlet.yaml", string(config)+"\n    rehearse: {serve: \"exit 7 # {root} {port}\"}\n")
	w.fails(1, []string{"could not be served, so that nothing is known", "it ended"}, "rehearse", name)
	w.write("revlet.yaml", string(config))

	// A command that serves outlives a rehearsal that is killed, until the next one.
	w.write("revlet.yaml", string(config)+"\n    rehearse: {serve: \"exec sleep 987 # {root} {port}\"}\n")
	sleeping := func() string { return sh(t, "ps -eo args | grep '^sleep 987' || true") }
	cmd := w.command("rehearse", name)
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return sleeping() != "" }, 20*time.Second, 10*time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	assert.NotEmpty(t, sleeping())
	w.write("revlet.yaml", string(config))
	w.run("rehearse", name)
	assert.Empty(t, sleeping())

	part := w.parts("kestrelpoint")[0].file
	flip(t, part)
	w.fails(4, []string{"DOES NOT RESTORE", "damaged"}, "rehearse", w.newest())
	flip(t, part)
	assert.Empty(t, scratchLeft(t, w))
	assert.Contains(t, w.run("history", "--command", "rehearse"), "damage")

	w.write("revlet.yaml", string(config)+"\n    schedule: [\"rehearse, on day 1 of every month at 05:30\"]\n")
	w.clock = time.Now().UTC().Truncate(time.Second)
	w.run("duties")
	w.clock = w.clock.AddDate(0, 1, 2)
	r := w.try("due")
	assert.Equal(t, 0, r.code, r.err)
	assert.Contains(t, w.run("duties"), "done")
}

// The copy's database is a server of its own: the live one, and its accounts,
// are never used. One that was killed is cleaned up after by the next run.
func TestRehearseWithAServer(t *testing.T) {
	s := mariadb(t)
	db := "rehearsed"
	w := described(t, s, db)
	s.exec(t, "USE "+db+"; CREATE TABLE exhibits (id INT PRIMARY KEY, name TEXT) ENGINE=InnoDB; INSERT INTO exhibits SELECT seq, REPEAT('lens ', 40) FROM seq_1_to_20000; CREATE VIEW lenses AS SELECT id FROM exhibits")
	w.run("backup")
	before := s.describe(t, db)
	out := w.run("rehearse")
	assert.Contains(t, out, "20,000 rows")
	assert.Contains(t, out, "a scratch server of MariaDB")
	assert.Equal(t, before, s.describe(t, db))
	assert.Empty(t, scratchLeft(t, w))

	// A server that does not start is said, and nothing stays behind.
	broken := filepath.Join(w.tmp, "mariadbd")
	require.NoError(t, os.WriteFile(broken, []byte("#!/bin/sh\necho no room for the log >&2\nexit 1\n"), 0o755))
	path := os.Getenv("PATH")
	t.Setenv("PATH", w.tmp+":"+path)
	w.fails(1, []string{"start a scratch database server", "no room for the log"}, "rehearse")
	t.Setenv("PATH", "/nowhere")
	w.fails(1, []string{"a rehearsal needs the programs of a MariaDB server", "the live one is never used"}, "rehearse")
	t.Setenv("PATH", path)
	assert.Empty(t, scratchLeft(t, w))

	for i := range 3 {
		cmd := w.command("rehearse")
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool { return len(scratchLeft(t, w)) > 2+i%2 }, 30*time.Second, 20*time.Millisecond)
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
	}
	assert.NotEmpty(t, scratchLeft(t, w))
	w.run("rehearse")
	assert.Empty(t, scratchLeft(t, w))
	assert.Equal(t, before, s.describe(t, db))
}

// An archive can verify and still not work. A rehearsal that serves the copy finds
// that out; the copy leads to its own database, never to the live one.
func TestRehearseServesTheCopy(t *testing.T) {
	t.Parallel()
	w, s, _ := wordpress(t, "trial_cms")
	w.run("adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives")
	data, err := os.ReadFile(w.path("revlet.yaml"))
	require.NoError(t, err)
	config := string(data)
	serve := "\n    rehearse: {serve: \"php -S 127.0.0.1:{port} -t {root}\"}\n    checks: [{path: /, contains: Kestrel Point Lighthouse Museum}]\n"
	w.write("revlet.yaml", config+serve)
	w.write("htdocs/wp-content/mu-plugins/hours.php", "<?php require __DIR__ . '/hours/opening.php';")
	w.write("htdocs/wp-content/mu-plugins/hours/opening.php", "<?php // when the museum is open")
	w.run("backup")
	good := w.newest()
	tree, before := snapshot(t, w.path("htdocs")), s.describe(t, "trial_cms")
	assert.Contains(t, w.run("rehearse"), "the copy works")
	assert.Empty(t, scratchLeft(t, w))

	w.write("revlet.yaml", config+serve+"    skip: [wp-content/mu-plugins/hours/**]\n")
	w.run("backup")
	w.run("verify", "--full")
	w.fails(4, []string{"DOES NOT RESTORE", "the copy does not work"}, "rehearse")
	w.write("revlet.yaml", config+serve)
	w.run("backup")
	w.forge(func(p archive.Part) bool { return p.Table == "kp_options" && p.Kind == archive.KindRows }, func(sql string) string {
		return strings.Replace(sql, "'blogname'", "'blognone'", 1)
	})
	w.run("verify", "--full")
	w.fails(4, []string{"DOES NOT RESTORE", "the copy does not work", "Kestrel Point"}, "rehearse")
	assert.Equal(t, tree, snapshot(t, w.path("htdocs")), "the live site is left alone")
	assert.Equal(t, before, s.describe(t, "trial_cms"))

	// Settings that cannot be pointed elsewhere stop it: the copy would use what is
	// live.
	settings, err := os.ReadFile(w.path("htdocs/wp-config.php"))
	require.NoError(t, err)
	w.write("htdocs/wp-config.php", strings.Replace(string(settings), "'127.0.0.1:", "'127.0.' . '0.1:", 1))
	w.run("backup")
	w.fails(1, []string{"DB_HOST", "not written as one plain value"}, "rehearse")
	w.write("htdocs/wp-config.php", string(settings))

	// A database that is named for it, instead of a server of its own.
	s.exec(t, "CREATE DATABASE scratch; CREATE USER trial@'127.0.0.1' IDENTIFIED BY 'x'; GRANT ALL ON scratch.* TO trial@'127.0.0.1'")
	t.Cleanup(func() { s.exec(t, "DROP DATABASE scratch; DROP USER trial@'127.0.0.1'") })
	w.write("trial.pw", "x")
	require.NoError(t, os.Chmod(w.path("trial.pw"), 0o600))
	named := func(db string) string {
		return fmt.Sprintf("%s\n    checks: [{path: /, contains: Kestrel Point Lighthouse Museum}]\n    rehearse:\n      serve: \"php -S 127.0.0.1:{port} -t {root}\"\n      databases: {main: {mysql: \"%s\", password_file: trial.pw}}\n", config, fmt.Sprintf(db, s.port))
	}
	w.write("revlet.yaml", named("trial@127.0.0.1:%d/scratch"))
	empty := func() []string {
		return s.column(t, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'scratch'")
	}
	out := w.run("rehearse", good)
	assert.Contains(t, out, "the copy works")
	assert.NotContains(t, out, "a scratch server")
	assert.Empty(t, empty(), "it is empty again")
	for range 2 {
		cmd := w.command("rehearse", good)
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool { return len(empty()) > 8 }, 30*time.Second, 10*time.Millisecond)
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
	}
	w.run("rehearse", good)
	assert.Empty(t, empty())
	s.exec(t, "CREATE TABLE scratch.mine (a INT)")
	w.fails(1, []string{"is not empty", "mine"}, "rehearse", good)
	w.write("revlet.yaml", named("trial_cms@127.0.0.1:%d/trial_cms"))
	w.fails(1, []string{"is the site's live one"}, "rehearse", good)
	assert.Equal(t, before, s.describe(t, "trial_cms"))
}
