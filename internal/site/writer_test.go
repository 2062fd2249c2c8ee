package site

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/config"
)

// Root lends a site no more than the account has that may write its settings.
func TestWhoMayWriteTheSettings(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root has rights to lend")
	}
	type file struct {
		uid, gid int
		mode     os.FileMode
	}
	for name, c := range map[string]struct {
		files map[string]file
		root  int
		want  int // 0 is root
	}{
		"root's":                        {map[string]file{"a.php": {0, 0, 0o644}}, 1234, 0},
		"a customer's":                  {map[string]file{"a.php": {1234, 1234, 0o644}}, 0, 1234},
		"his group's, of his number":    {map[string]file{"a.php": {1234, 1234, 0o664}}, 0, 1234},
		"another group's":               {map[string]file{"a.php": {1234, 33, 0o664}}, 0, nobody},
		"root's, and a group's":         {map[string]file{"a.php": {0, 33, 0o664}}, 0, nobody},
		"everybody's":                   {map[string]file{"a.php": {0, 0, 0o666}}, 0, nobody},
		"two, of one":                   {map[string]file{"a.php": {1234, 0, 0o600}, "b.php": {1234, 0, 0o600}}, 0, 1234},
		"root's, and then a customer's": {map[string]file{"a.php": {0, 0, 0o600}, "b.php": {1234, 0, 0o600}}, 0, 1234},
		"two, of two":                   {map[string]file{"a.php": {1234, 0, 0o600}, "b.php": {33, 0, 0o600}}, 0, nobody},
		"none: the folder's":            {nil, 1234, 1234},
	} {
		root := filepath.Join(t.TempDir(), "www")
		require.NoError(t, os.Mkdir(root, 0o755))
		require.NoError(t, os.Chown(root, c.root, c.root))
		for file, f := range c.files {
			at := filepath.Join(root, file)
			require.NoError(t, os.WriteFile(at, []byte("<?php"), 0o600))
			require.NoError(t, os.Chown(at, f.uid, f.gid))
			require.NoError(t, os.Chmod(at, f.mode))
		}
		r := &Recipe{}
		r.Settings.Files = []string{"a.php", "b.php"}
		as := (&Site{Recipe: r}).writer(config.Site{Root: root})
		if c.want == 0 {
			assert.Nil(t, as, name)
		} else if assert.NotNil(t, as, name) {
			assert.Equal(t, c.want, *as, name)
		}
	}
	r := &Recipe{}
	r.Settings.Files = []string{"a.php"}
	above := t.TempDir()
	require.NoError(t, os.Chown(above, 1234, 1234))
	as := (&Site{Recipe: r}).writer(config.Site{Root: filepath.Join(above, "gone/www")})
	require.NotNil(t, as)
	assert.Equal(t, 1234, *as, "it is gone: that of the folder which it was in")
}
