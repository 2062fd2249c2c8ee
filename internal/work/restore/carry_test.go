package restore

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

// A site that is hostile has a link in its archive where its database's folder is live:
// what was carried over then replaced files of others.
func TestDatabaseFilesAreCarriedThroughNoLink(t *testing.T) {
	for name, lead := range map[string]string{"up": "../../../victim", "absolute": "", "in two steps": "../step"} {
		for _, byMove := range []bool{false, true} {
			t.Run(name, func(t *testing.T) {
				dir := t.TempDir()
				victim := filepath.Join(dir, "victim")
				if lead == "" {
					lead = victim
				}
				f := &FilesPlan{Root: filepath.Join(dir, "htdocs"), Box: filepath.Join(dir, ".revlet-box"), Carried: []string{"data/museum.db"}, CarryByMove: byMove}
				for _, p := range []string{victim, filepath.Join(f.Root, "data"), f.staged(), filepath.Join(dir, "htdocs2")} {
					require.NoError(t, os.MkdirAll(p, 0o755))
				}
				require.NoError(t, os.Chmod(f.Box, 0o700))
				for _, suffix := range databaseFiles {
					require.NoError(t, os.WriteFile(filepath.Join(victim, "museum.db"+suffix), []byte("theirs"), 0o600))
					require.NoError(t, os.WriteFile(filepath.Join(f.Root, "data/museum.db"+suffix), []byte("the site's"), 0o600))
				}
				require.NoError(t, os.Symlink(victim, filepath.Join(f.Box, "step")))
				require.NoError(t, os.Symlink(lead, filepath.Join(f.staged(), "data")))
				d := &disk.Disk{}
				whole, err := openTree(d, f.staged())
				require.NoError(t, err, "it is not the box that is refused")
				require.NoError(t, whole.Close())
				require.Error(t, f.noteCarried(d), "it is told before anything changes")
				f.CarryByMove = byMove
				if byMove { // the trees have changed places
					require.NoError(t, os.Rename(f.Root, filepath.Join(dir, "was")))
					require.NoError(t, os.Rename(f.staged(), f.Root))
					require.Error(t, f.moveCarried(d, filepath.Join(dir, "was")))
				} else {
					require.Error(t, f.carry(d, f.Root, f.staged()))
				}
				for _, suffix := range databaseFiles {
					data, err := os.ReadFile(filepath.Join(victim, "museum.db"+suffix))
					require.NoError(t, err)
					assert.Equal(t, "theirs", string(data))
				}
			})
		}
	}
}

// A link that stays inside the tree leads nowhere else.
func TestALinkInsideTheTreeIsFollowed(t *testing.T) {
	dir := t.TempDir()
	f := &FilesPlan{Root: filepath.Join(dir, "htdocs"), Box: filepath.Join(dir, ".revlet-box"), Carried: []string{"data/museum.db"}}
	require.NoError(t, os.MkdirAll(filepath.Join(f.Root, "data"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(f.Root, "data/museum.db"), []byte("the site's"), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(f.staged(), "private"), 0o755))
	require.NoError(t, os.Chmod(f.Box, 0o700))
	require.NoError(t, os.Symlink("private", filepath.Join(f.staged(), "data")))
	require.NoError(t, f.noteCarried(&disk.Disk{}))
	require.NoError(t, f.carry(&disk.Disk{}, f.Root, f.staged()))
	data, err := os.ReadFile(filepath.Join(f.staged(), "private/museum.db"))
	require.NoError(t, err)
	assert.Equal(t, "the site's", string(data))
}
