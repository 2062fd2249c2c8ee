package process

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/reason"
)

// What is run as root is nothing that somebody else could have written.
func TestProgramsOfOthersAreNotRunAsRoot(t *testing.T) {
	if runtime.GOOS == "windows" || os.Geteuid() != 0 {
		require.NoError(t, Trusted([]string{"sh", "/tmp"}))
		t.Skip("only root has to fear that")
	}
	dir := t.TempDir()
	file := func(name string, uid int, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"), 0o600))
		require.NoError(t, os.Chmod(path, mode))
		require.NoError(t, os.Chown(path, uid, 0))
		return path
	}
	ours, theirs := file("ours", 0, 0o755), file("theirs", 4711, 0o755)
	open, script, data := file("open", 0, 0o757), file("site/cli.php", 4711, 0o644), file("data.log", 4711, 0o644)
	inTheirs := file("folder/ours", 0, 0o755)
	require.NoError(t, os.Chown(filepath.Dir(inTheirs), 4711, 0))
	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink(theirs, link))
	for _, words := range [][]string{{ours}, {"sh", ours}, {"sh", "-c", "true", data}, {"no-such-program", "x"}, {"sh", "/nowhere/at-all"}} {
		assert.NoError(t, Trusted(words), "%v", words)
	}
	for _, words := range [][]string{{theirs}, {open}, {inTheirs}, {link}, {"sh", theirs}, {"php", script}} {
		assert.True(t, reason.Is(Trusted(words), reason.ProgramOfOthers), "%v", words)
	}
	assert.NoError(t, Trusted([]string{theirs}, 4711), "who has become root may have his own")

	for line, good := range map[string]bool{
		ours + " && echo done": true, "cd /tmp; php " + script + " down": false, "X=1 " + theirs: false, "sudo -u kestrel php " + script: true,
		theirs + " | sudo -u kestrel cat": false, "echo '" + data + "'": true, "": true, "\"" + theirs + "\"": false,
	} {
		assert.Equal(t, good, TrustedLine(line) == nil, line)
	}
}
