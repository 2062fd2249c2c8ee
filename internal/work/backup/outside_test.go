//go:build unix

package backup

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
)

func TestLinksThatLeadOut(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	for _, d := range []string{"releases/1/a/b", "releases/10", "shared/uploads", "media"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, d), 0o755))
	}
	require.NoError(t, os.Symlink("releases/1", filepath.Join(dir, "current")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "settings.php"), nil, 0o600))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	o := NewOutside(t.Context(), &disk.Disk{}, &site.Site{Name: "kp", Root: filepath.Join(dir, "current"), Roots: map[string]string{"media": filepath.Join(dir, "media")}})
	for link, target := range map[string]string{ // within, or nothing that could be saved
		"webroot/up":       "a/b",
		"webroot/a/up":     "../a",
		"webroot/absolute": filepath.Join(dir, "releases/1/a"),
		"webroot/self":     ".",
		"webroot/media":    filepath.Join(dir, "media"),
		"media/back":       "../releases/1/a",
		"webroot/gone":     "../../shared/gone",
		"webroot/pipe":     "../../pipe",
		"webroot/null":     "/dev/null",
		"above/x":          "/etc",
	} {
		o.Meet(link, target)
		assert.Empty(t, o.Origin.Outside, link)
	}
	out := map[string]string{
		"webroot/uploads":  "../../shared/uploads",
		"webroot/a/b/c":    "../../../../shared/./uploads/",
		"webroot/settings": filepath.Join(dir, "settings.php"),
		"webroot/parent":   "..",
		"webroot/beside":   "../10", // begins like the folder's own name
		"media/up":         "..",
	}
	for link, target := range out {
		before := len(o.Origin.Outside)
		o.Meet(link, target)
		assert.Len(t, o.Origin.Outside, before+1, link)
	}
	o.Meet("webroot/odd\x1b[2J\n\xff", dir)
	last := o.Origin.Outside[len(o.Origin.Outside)-1]
	assert.Equal(t, "webroot/odd?[2J??", last.Path, "it can be shown")
	require.NoError(t, o.Origin.Check())
	for i := range 1000 {
		o.Meet(fmt.Sprintf("webroot/many/%d", i), "/etc")
	}
	assert.Len(t, o.Origin.Outside, mostOutside)
	assert.Equal(t, int64(len(out)+1+1000-mostOutside), o.Origin.OutsideMore)
	assert.Regexp(t, ` leads to .* and 1,?004 more$`, LeadsOut(o.Origin))
	assert.Empty(t, LeadsOut(archive.Origin{}))
}
