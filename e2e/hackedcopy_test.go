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
)

// What an intruder has left in a site runs when a copy of it is served. Root serves it as an account without rights:
// it gets at nothing but the copy, sees no secret, and nothing of it is left.
func TestAHackedCopyGetsNoRights(t *testing.T) {
	t.Parallel()
	need(t, "php")
	if os.Geteuid() != 0 {
		t.Skip("only root serves as another account")
	}
	for _, closed := range []bool{true, false} {
		t.Run(fmt.Sprintf("closed=%v", closed), func(t *testing.T) {
			w, _ := museum(t)
			if !closed { // nobody else comes to what lies in a test's own folder otherwise
				for dir := w.dir; dir != "/"; dir = filepath.Dir(dir) {
					info, err := os.Stat(dir)
					require.NoError(t, err)
					require.NoError(t, os.Chmod(dir, info.Mode()|0o011))
				}
			}
			loot, err := os.MkdirTemp("/tmp", "revlet-loot-")
			require.NoError(t, err)
			t.Cleanup(func() { _ = os.RemoveAll(loot) })
			require.NoError(t, os.Chmod(loot, 0o1777))
			w.write("htdocs/opening.php", strings.NewReplacer("LOOT", loot, "STATE", w.path("state"), "LIVE", w.path("htdocs")).Replace(`<?php
file_put_contents('LOOT/uid', posix_geteuid() . ' ' . implode(' ', posix_getgroups()));
file_put_contents('LOOT/env', print_r(getenv(), true));
@copy('STATE/signing.key', 'LOOT/key');
@file_put_contents('LOOT/state', implode(' ', @scandir('STATE') ?: []));
@file_put_contents('LIVE/planted.php', 'x');
@file_put_contents('STATE/planted', 'x');
@file_put_contents(dirname(__DIR__) . '/state/planted', 'x');
exec('env -i setsid sh -c "trap : HUP TERM; while sleep 988; do :; done" >/dev/null 2>&1 &');
exec('setsid sh -c "sleep 988" >/dev/null &');
echo file_put_contents(__DIR__ . '/data/writable', 'x') === 1 && fopen(__DIR__ . '/data/museum.db', 'r+') ? 'open all day' : 'shut';`))
			config, err := os.ReadFile(w.path("revlet.yaml"))
			require.NoError(t, err)
			serve := "\n    rehearse: {serve: \"php -S 127.0.0.1:{port} -t {root}\"AS}\n    checks: [{path: /opening.php, contains: open all day}]\n"
			w.write("revlet.yaml", string(config)+strings.Replace(serve, "AS", "", 1))
			w.run("backup")
			began, cmd := time.Now(), w.command("rehearse")
			cmd.Env = append(cmd.Env, "AWS_SECRET_ACCESS_KEY=hidden-in-the-environment")
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, string(out))
			assert.Contains(t, string(out), "the copy works")
			assert.Less(t, time.Since(began), time.Minute, "nobody waits for what keeps its output open")

			read := func(name string) string {
				data, _ := os.ReadFile(filepath.Join(loot, name))
				return string(data)
			}
			ids := strings.Fields(read("uid"))
			require.NotEmpty(t, ids)
			assert.NotContains(t, ids, "0")
			assert.NotContains(t, read("env"), "hidden-in-the-environment")
			assert.Empty(t, read("key"))
			assert.Empty(t, read("state"))
			assert.NoFileExists(t, w.path("htdocs/planted.php"))
			assert.NoFileExists(t, w.path("state/planted"))
			assert.Empty(t, sh(t, "ps -eo uid,stat,args | grep '^ *"+ids[0]+" *[^ Z]' || true"), "all that it has started is ended")
			assert.Empty(t, scratchLeft(t, w))

			w.write("revlet.yaml", string(config)+strings.Replace(serve, "AS", ", as: root", 1))
			w.run("rehearse")
			assert.Equal(t, "0", strings.Fields(read("uid"))[0], "if it is asked for by name")
			_ = sh(t, "pkill -9 -f 'sleep 98[8]' || true")
			w.write("revlet.yaml", string(config)+strings.Replace(serve, "AS", ", as: nobody-of-this-name", 1))
			w.fails(2, []string{"as: nobody-of-this-name"}, "rehearse")
		})
	}
}
