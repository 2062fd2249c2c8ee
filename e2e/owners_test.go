package e2e

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
)

// On another machine, and in another account's folder, a number may be somebody else's: the site, with its database's
// password, would belong to him. It belongs to whom the place belongs.
func TestASiteBelongsToWhomThePlaceBelongs(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root gives files away")
	}
	const keeper, lighthouse, web = 61005, 61006, 33
	w, _ := museum(t)
	require.NoError(t, filepath.WalkDir(w.path("htdocs"), func(name string, _ os.DirEntry, err error) error {
		require.NoError(t, err)
		return os.Lchown(name, keeper, keeper)
	}))
	require.NoError(t, os.Lchown(w.path("htdocs/uploads"), web, web))
	w.run("backup")
	owner := func(rel string) [2]uint32 {
		var st syscall.Stat_t
		require.NoError(t, syscall.Lstat(w.path(rel), &st))
		return [2]uint32{st.Uid, st.Gid}
	}
	belongs := func(root string, to uint32) {
		t.Helper()
		for _, rel := range []string{"", "settings.yaml", "themes/lantern", lampblack.DatabaseFile} {
			assert.Equal(t, [2]uint32{to, to}, owner(filepath.Join(root, rel)), rel)
		}
		assert.Equal(t, [2]uint32{web, web}, owner(root+"/uploads"), "who is known here stays")
	}
	require.NoError(t, os.MkdirAll(w.path("home/lighthouse"), 0o755))
	require.NoError(t, os.Chown(w.path("home/lighthouse"), lighthouse, lighthouse))
	w.fails(4, []string{"what belonged to the account 61005 belongs to 61006"}, "move", "kestrelpoint", "--to", "lighthouse", "--root", w.path("home/lighthouse/www"), "--address", "https://lighthouse.example", "--yes")
	belongs("home/lighthouse/www", lighthouse)

	require.NoError(t, os.RemoveAll(w.path("htdocs/themes")))
	w.run("restore", "kestrelpoint", "--yes")
	belongs("htdocs", keeper)

	// A machine that has not taken the archive.
	require.NoError(t, os.Lchown(w.path("htdocs"), lighthouse, lighthouse))
	var told struct{ Given []struct{ Was, Is string } }
	w.json(&told, "restore", "kestrelpoint", "--yes", "--state", w.path("another-machine"))
	assert.Contains(t, told.Given, struct{ Was, Is string }{"account 61005", "61006"})
	belongs("htdocs", lighthouse)
}
