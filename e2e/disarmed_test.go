package e2e

import (
	"io/fs"
	"os"
	"testing"

	"github.com/pkg/xattr"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Root of a machine that was taken over may have put a file into the site that makes everybody root who runs it, and has
// signed the archive. Such rights come back where the archive was taken, and nowhere else.
func TestRightsThatAnotherMachineHasSaved(t *testing.T) {
	t.Parallel()
	w := plain(t)
	const sets = fs.ModeSetuid | fs.ModeSetgid
	w.write("htdocs/shell", "#!/bin/sh\n")
	w.write("htdocs/group", "#!/bin/sh\n")
	w.write("htdocs/able", "#!/bin/sh\n")
	w.write("htdocs/shared/page", "x")
	require.NoError(t, os.Chmod(w.path("htdocs/shell"), 0o755|fs.ModeSetuid))
	require.NoError(t, os.Chmod(w.path("htdocs/group"), 0o755|fs.ModeSetgid))
	require.NoError(t, os.Chmod(w.path("htdocs/shared"), 0o775|fs.ModeSetgid))
	capability := []byte("\x01\x00\x00\x02\x80\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00") // CAP_SETUID, effective
	able := xattr.Set(w.path("htdocs/able"), "security.capability", capability) == nil
	said := []string{"set-user-ID", "shell", "group"}
	if able {
		said = append(said, "able")
		require.NoError(t, xattr.Set(w.path("htdocs/able"), "user.origin", []byte("kestrel point")))
	}
	w.run("backup")
	mode := func(rel string) fs.FileMode {
		info, err := os.Stat(w.path(rel))
		require.NoError(t, err)
		return info.Mode() & (sets | fs.ModePerm)
	}
	harmless := func(root string) {
		assert.Equal(t, fs.FileMode(0o755), mode(root+"/shell"))
		assert.Equal(t, fs.FileMode(0o755), mode(root+"/group"))
		assert.Equal(t, 0o775|fs.ModeSetgid, mode(root+"/shared"), "of a folder it says whose files there are")
		if able {
			names, err := xattr.List(w.path(root + "/able"))
			require.NoError(t, err)
			assert.Equal(t, []string{"user.origin"}, names)
		}
	}

	require.NoError(t, os.RemoveAll(w.path("htdocs")))
	assert.NotContains(t, w.run("restore", "kestrelpoint", "--yes"), "set-user-ID")
	assert.Equal(t, 0o755|fs.ModeSetuid, mode("htdocs/shell"))
	assert.Equal(t, 0o755|fs.ModeSetgid, mode("htdocs/group"))
	if able {
		value, err := xattr.Get(w.path("htdocs/able"), "security.capability")
		require.NoError(t, err)
		assert.Equal(t, capability, value)
	}

	w.fails(0, said, "extract", "kestrelpoint", "shell", "group", "able", "shared", "--to", w.path("copies"))
	harmless("copies")

	w.fails(4, said, "move", "kestrelpoint", "--to", "lighthouse", "--root", w.path("new"), "--address", "https://lighthouse.example", "--also", "https://kestrelpoint.example=https://lighthouse.example", "--yes")
	harmless("new")

	require.NoError(t, os.RemoveAll(w.path("htdocs")))
	w.fails(0, said, "restore", "kestrelpoint", "--yes", "--state", w.path("another-machine"))
	harmless("htdocs")
	var told struct{ Disarmed []string }
	require.NoError(t, os.RemoveAll(w.path("htdocs")))
	w.json(&told, "restore", "kestrelpoint", "--yes", "--state", w.path("a-third-machine"))
	assert.Contains(t, told.Disarmed, "webroot/shell")
}
