package restore

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

// Whoever the site belongs to puts links in the way of what closes it, at the very moment
// in which it is written: another account's files were truncated, and made readable.
func TestClosingASiteFollowsNoLinkOfTheSite(t *testing.T) {
	for name, attack := range map[string]struct {
		// at is the disk call, and on what, before which the links are put in.
		at, on string
		put    func(tree, victim string) error
	}{
		"in the place of the page": {"open", behindDoor + ".new", func(tree, victim string) error {
			return os.Symlink(filepath.Join(victim, "index.php"), filepath.Join(tree, behindDoor+".new"))
		}},
		"in the place of the door": {"link", behindDoor, func(tree, victim string) error {
			if err := os.Remove(filepath.Join(tree, frontDoor)); err != nil {
				return err
			}
			return os.Symlink(filepath.Join(victim, "index.php"), filepath.Join(tree, frontDoor))
		}},
		"in the place of the tree": {"open", "htdocs", func(tree, victim string) error {
			if err := os.Rename(tree, tree+".away"); err != nil {
				return err
			}
			return os.Symlink(victim, tree)
		}},
		"in the place of the switch": {"open", "maintenance.flag", func(tree, victim string) error {
			return os.Symlink(filepath.Join(victim, "index.php"), filepath.Join(tree, "maintenance.flag"))
		}},
	} {
		for _, opening := range []bool{false, true} {
			dir := t.TempDir()
			tree, victim := filepath.Join(dir, "htdocs"), filepath.Join(dir, "victim")
			for _, d := range []string{tree, victim} {
				require.NoError(t, os.Mkdir(d, 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(d, frontDoor), []byte("door of "+d), 0o600))
			}
			before, err := os.Stat(filepath.Join(victim, frontDoor))
			require.NoError(t, err)
			j := &Journal{Door: "closed", Files: &FilesPlan{Root: tree}}
			if attack.on == "maintenance.flag" {
				j.Door, j.Switch, j.SwitchText = "", "maintenance.flag", "closed"
			}
			d := &disk.Disk{}
			if opening { // it is closed in peace, and attacked while it is opened
				require.NoError(t, j.within(d, tree, j.shut))
			}
			done := false
			d.Fault = func(op, path string) error {
				if !done && op == attack.at && (strings.HasSuffix(path, "/"+attack.on) || path == attack.on || strings.HasSuffix(path, frontDoor) && attack.on == behindDoor) {
					done = true
					return attack.put(tree, victim)
				}
				return nil
			}
			if opening {
				_ = j.within(d, tree, j.unshut)
			} else {
				_ = j.within(d, tree, j.shut)
				assert.True(t, done, "%s: the attack has taken place", name)
			}
			data, err := os.ReadFile(filepath.Join(victim, frontDoor))
			require.NoError(t, err)
			assert.Equal(t, "door of "+victim, string(data), name)
			after, err := os.Stat(filepath.Join(victim, frontDoor))
			require.NoError(t, err)
			assert.Equal(t, before.Mode(), after.Mode(), name)
			names, err := os.ReadDir(victim)
			require.NoError(t, err)
			assert.Len(t, names, 1, name)
		}
	}
}
