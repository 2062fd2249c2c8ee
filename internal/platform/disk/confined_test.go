package disk

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What lies in a confined folder is found to, however its path is put together: otherwise it would be read like any other,
// through links.
func TestWhatLiesInAConfinedFolder(t *testing.T) {
	for _, c := range []struct{ folder, name, rel string }{
		{"/srv/a", "/srv/a", "."}, {"/srv/a", "/srv/a/", "."}, {"/srv/a", "/srv/a//", "."}, {"/srv/a", "/srv/a/b/c", "b/c"}, {"/srv/a", "/srv//a/b", "b"}, {"/srv/a", "/srv/./a/b", "b"}, {"/srv/a", "/srv/b/../a/c", "c"},
		{"/", "/", "."}, {"/", "/srv/a", "srv/a"}, {"/", "//srv/a", "srv/a"},
		{"/srv/a", "/srv/ab", ""}, {"/srv/a", "/srv/a/../b", "../b"}, {"/srv/a", "/srv", ""},
	} {
		d := &Disk{trees: []tree{{path: filepath.FromSlash(c.folder)}}}
		in, rel := d.below(filepath.FromSlash(c.name))
		assert.Equal(t, filepath.FromSlash(c.rel), rel, "%s in %s", c.name, c.folder)
		assert.Equal(t, c.rel != "", in != nil, "%s in %s", c.name, c.folder)
	}
	in, _ := (*Disk)(nil).below("/srv/a")
	assert.Nil(t, in)
}
