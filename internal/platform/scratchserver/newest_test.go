package scratchserver

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheNewestServerIsTaken(t *testing.T) {
	at := func(v string) string { return "/usr/lib/postgresql/" + v + "/bin/initdb" }
	for want, all := range map[string][]string{
		"16":  {"10", "16", "9", "9.6"},
		"9.6": {"9.1", "9.6", "old"},
		"17":  {"17"},
	} {
		var paths []string
		for _, v := range all {
			paths = append(paths, at(v))
		}
		assert.Equal(t, at(want), newest(paths), "%v", all)
	}
}

// A server clears the folder for temporary files when it starts: that must not be one
// that the live server uses.
func TestAScratchServerClearsNobodysTemporaryFiles(t *testing.T) {
	if _, err := exec.LookPath("mariadbd"); err != nil {
		t.Skip("mariadbd is not installed")
	}
	shared := t.TempDir()
	t.Setenv("TMPDIR", shared)
	others := filepath.Join(shared, "#sql-temptable-1eff-13-30c.MAI")
	require.NoError(t, os.WriteFile(others, nil, 0o600))
	dir, err := os.MkdirTemp("/tmp", "revlet-scratch-") // short, for the socket's name
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	s, err := StartMariaDB(t.Context(), dir, Options{})
	require.NoError(t, err)
	require.NoError(t, s.Stop())
	assert.FileExists(t, others)
}
