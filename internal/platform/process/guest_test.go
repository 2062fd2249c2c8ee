//go:build linux

package process

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// passable is a folder below which others may come.
func passable(t *testing.T) string {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root has guests")
	}
	dir, err := os.MkdirTemp("/tmp", "revlet-guest-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o711))
	return dir
}

func TestAGuestHasWhatItIsGivenAndNothingElse(t *testing.T) {
	dir := passable(t)
	ours := filepath.Join(dir, "ours")
	copied := filepath.Join(ours, "copy")
	require.NoError(t, os.MkdirAll(filepath.Join(copied, "inner"), 0o700))
	secret := filepath.Join(ours, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("x"), 0o640))
	require.NoError(t, os.Symlink(secret, filepath.Join(copied, "link")))
	require.NoError(t, os.WriteFile(filepath.Join(copied, "inner/file"), []byte("theirs"), 0o600))
	require.NoError(t, CanPass(ours))
	g, err := NewGuest("a site", ours)
	require.NoError(t, err)
	assert.True(t, IsGuest(g.UID))
	assert.NotEqual(t, g.UID, g.Way)
	again, err := NewGuest("a site", ours)
	require.NoError(t, err)
	assert.Equal(t, g, again)
	require.NoError(t, g.Open(ours))
	require.NoError(t, g.Own(copied))

	info, err := os.Stat(secret)
	require.NoError(t, err)
	assert.Zero(t, info.Sys().(*syscall.Stat_t).Uid, "what a link leads to is not given")
	var out strings.Builder
	cmd := exec.Command("sh", "-c", "cat "+copied+"/inner/file; id -u; id -G; grep NoNewPrivs /proc/self/status; ls "+ours+" || echo closed; cat "+copied+"/link || echo shut; "+
		"env -i setsid sleep 60 >/dev/null 2>&1 & while ! grep -qs '^sleep' /proc/*/cmdline; do :; done")
	cmd.Stdout, cmd.Dir = &out, "/"
	require.NoError(t, g.Start(cmd))
	require.NoError(t, cmd.Wait())
	assert.Equal(t, []string{"theirs" + strconv.Itoa(g.UID), strconv.Itoa(g.GID), strconv.Itoa(g.Way), "NoNewPrivs:", "1", "closed", "shut"}, strings.Fields(out.String()))

	busy, err := owners()
	require.NoError(t, err)
	require.True(t, busy[g.UID], "what it has started apart goes on")
	other, err := NewGuest("a site", ours)
	require.NoError(t, err)
	assert.NotEqual(t, g.UID, other.UID, "a number that something runs as is nobody else's")
	require.NoError(t, EndOwnerOf(copied))
	busy, err = owners()
	require.NoError(t, err)
	assert.False(t, busy[g.UID])
	require.NoError(t, EndOwnerOf(secret), "what is root's is not ended")
}

func TestAWayThatIsClosed(t *testing.T) {
	dir := passable(t)
	closed := filepath.Join(dir, "closed")
	require.NoError(t, os.MkdirAll(filepath.Join(closed, "state"), 0o700))
	assert.ErrorIs(t, CanPass(filepath.Join(closed, "state")), ErrClosedWay)
	assert.ErrorContains(t, CanPass(filepath.Join(closed, "state")), closed+":")
	require.NoError(t, os.Chmod(closed, 0o701))
	assert.NoError(t, CanPass(filepath.Join(closed, "state")))
}

func TestAnAccountThatAPersonNames(t *testing.T) {
	g, err := NamedGuest("root", "/state")
	require.NoError(t, err)
	assert.Zero(t, g.UID)
	require.NoError(t, g.End(), "what else it runs is left alone")
	_, err = NamedGuest("nobody-of-this-name", "/state")
	assert.ErrorContains(t, err, "nobody-of-this-name")
}
