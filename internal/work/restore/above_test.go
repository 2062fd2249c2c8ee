//go:build linux

package restore_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever a list says lies above the webroot: only the settings file that the recipe
// knows there is put back, and undo takes it away again, unless it is another by then.
func TestOnlyASettingsFileIsPutAboveTheWebroot(t *testing.T) {
	for name, want := range map[string]bool{"settings.php": true, ".bashrc": false, "authorized_keys": false, "settings.php.bak": false, "Settings.php": false} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			b.above = name
			b.write(name, "settings")
			require.NoError(t, b.backup())
			b.remove(name)
			file := filepath.Join(b.dir, name)
			require.NoError(t, b.restore())
			data, err := os.ReadFile(file)
			if !want {
				require.ErrorIs(t, err, os.ErrNotExist)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, "settings", string(data))
			info, err := os.Stat(file)
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o600), info.Mode())
			require.NoError(t, b.undo())
			assert.NoFileExists(t, file)

			require.NoError(t, b.restore())
			b.replace(name, "edited since")
			require.NoError(t, b.undo())
			data, err = os.ReadFile(file)
			require.NoError(t, err)
			assert.Equal(t, "edited since", string(data))
		})
	}
}

// What lies in its place, such as a link that whoever owns the folder has put there, is
// not written through.
func TestASettingsFileIsWrittenThroughNoLink(t *testing.T) {
	b := newBench(t)
	b.above = "settings.php"
	b.write("settings.php", "settings")
	require.NoError(t, b.backup())
	b.remove("settings.php")
	victim := filepath.Join(b.dir, "victim")
	require.NoError(t, os.WriteFile(victim, []byte("theirs"), 0o600))
	require.NoError(t, os.Symlink(victim, filepath.Join(b.dir, ".new-settings.php")))
	require.NoError(t, os.Symlink(filepath.Join(b.dir, "nowhere"), filepath.Join(b.dir, "settings.php")))
	require.NoError(t, b.restore())
	data, err := os.ReadFile(victim)
	require.NoError(t, err)
	assert.Equal(t, "theirs", string(data))
	assert.NoFileExists(t, filepath.Join(b.dir, "nowhere"))
}
