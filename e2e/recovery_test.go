package e2e

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
)

var shellBlock = regexp.MustCompile("(?s)```sh\n(.*?)```")

// recoverByHand runs the commands of docs/RECOVERY-BY-HAND.md as they stand
// there, leaving out the block for the other make of database.
func recoverByHand(t *testing.T, w *world, without string, env ...string) {
	t.Helper()
	need(t, "tar", "zstd", "sha256sum", "ssh-keygen")
	doc, err := os.ReadFile("../docs/RECOVERY-BY-HAND.md")
	require.NoError(t, err)
	script := "set -eu\n"
	for _, m := range shellBlock.FindAllStringSubmatch(string(doc), -1) {
		if !strings.HasPrefix(m[1], "# "+without) {
			script += m[1]
		}
	}
	cmd := exec.Command("sh", "-c", script)
	cmd.Env = append(os.Environ(), append(env, "STORE="+w.path("archives"), "SITE=kestrelpoint", "TARGET="+w.path("recovered"), "ARCHIVE="+w.newest(), "SIGNER="+string(w.signer(w.newest())))...)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

func TestMuseumIsRecoveredByHand(t *testing.T) {
	t.Parallel()
	need(t, "sqlite3")
	w, _ := museum(t)
	w.run("backup")
	tree, content := snapshot(t, w.path("htdocs"), "data", "cache/home.html"), rows(t, w)
	recoverByHand(t, w, "MariaDB")
	assert.Equal(t, tree, snapshot(t, w.path("recovered/webroot"), "data"))
	text, err := lampblack.Dump(t.Context(), w.path("recovered/webroot", lampblack.DatabaseFile))
	require.NoError(t, err)
	assert.Equal(t, content, text)

	flip(t, w.parts("kestrelpoint")[0].file)
	cmd := exec.Command("sh", "-c", "cd archives/kestrelpoint/parts && sha256sum ??/* | while read -r sum file; do case $file in */$sum*) ;; *) exit 1;; esac; done")
	cmd.Dir = w.dir
	assert.Error(t, cmd.Run(), "a flipped byte shows without Revlet")
}
