package restore

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
	"revlet/internal/site"
)

// Where root puts a box, nobody else can put another in its place: the owner of the
// folder above a webroot could, and root wrote where he pointed.
func TestABoxIsMadeWhereNobodyElseHasAHand(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root has to mind")
	}
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	for _, p := range []string{"home/keeper/sites/one", "shared/one", "group/one", "sticky/one", "mine/one"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, p), 0o755))
	}
	for _, p := range []string{"home/keeper", "home/keeper/sites"} {
		require.NoError(t, os.Chown(filepath.Join(dir, p), 61871, 61871))
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "shared"), 0o777))
	require.NoError(t, os.Chown(filepath.Join(dir, "group"), 0, 61871))
	require.NoError(t, os.Chmod(filepath.Join(dir, "group"), 0o775))
	require.NoError(t, os.Chmod(filepath.Join(dir, "sticky"), 0o777|os.ModeSticky))
	for folder, want := range map[string]string{"home/keeper/sites/one": "home", "home/keeper/sites": "home", "home/keeper": "home", "home": "home", "shared/one": ".", "group/one": ".", "sticky": "sticky", "mine/one": "mine/one"} {
		assert.Equal(t, filepath.Join(dir, want), boxFolder(filepath.Join(dir, folder)), folder)
	}
	a := newBox(filepath.Join(dir, "home/keeper/htdocs"), "kestrelpoint", "20261127_120000", "token")
	assert.Equal(t, filepath.Join(dir, "home"), filepath.Dir(a))
	assert.True(t, strings.HasSuffix(a, "-token"))
}

// What is there already under a box's name is ours, or refused.
func TestABoxThatIsThereAlreadyIsOurs(t *testing.T) {
	dir := t.TempDir()
	d := &disk.Disk{}
	box := filepath.Join(dir, ".revlet-kestrelpoint-1")
	require.NoError(t, makeBox(d, box))
	require.NoError(t, makeBox(d, box), "made for another folder of the same restore")
	require.NoError(t, os.Chmod(box, 0o755))
	require.Error(t, makeBox(d, box))
	require.NoError(t, os.Remove(box))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "elsewhere"), 0o700))
	require.NoError(t, os.Symlink("elsewhere", box))
	require.Error(t, makeBox(d, box))
	require.NoError(t, os.Remove(box))
	require.NoError(t, os.WriteFile(box, nil, 0o700))
	require.Error(t, makeBox(d, box))
	if os.Geteuid() == 0 {
		require.NoError(t, os.Remove(box))
		require.NoError(t, os.Mkdir(box, 0o700))
		require.NoError(t, os.Chown(box, 61871, 61871))
		require.Error(t, makeBox(d, box))
	}
}

// Where a webroot is a mount point, what is staged lies in a folder of the site's account,
// which can put another one in its place: root then unpacked into wherever that led.
func TestNothingIsStagedInABoxThatSomebodyHasExchanged(t *testing.T) {
	d := &disk.Disk{}
	for name, exchange := range map[string]func(box, victim string) error{
		"by a link":                  func(box, victim string) error { return os.Symlink(victim, box) },
		"by a link to a box of ours": func(box, victim string) error { return errors.Join(os.Chmod(victim, 0o700), os.Symlink(victim, box)) },
		"by a folder that is open":   func(box, _ string) error { return errors.Join(os.Mkdir(box, 0o700), os.Chmod(box, 0o755)) },
		"by nothing":                 func(string, string) error { return nil },
		"by another's folder": func(box, victim string) error {
			if os.Geteuid() != 0 {
				return os.Symlink(victim, box)
			}
			return errors.Join(os.Mkdir(box, 0o700), os.Symlink(victim, filepath.Join(box, "new")), os.Chown(box, 65534, 65534))
		},
	} {
		dir := t.TempDir()
		victim, box := filepath.Join(dir, "victim"), filepath.Join(dir, site.LeftoverPrefix+"kp-1-token")
		require.NoError(t, os.Mkdir(victim, 0o755))
		require.NoError(t, makeBox(d, box))
		whole, err := openTree(d, filepath.Join(box, "new"))
		require.ErrorIs(t, err, fs.ErrNotExist, name)
		require.Nil(t, whole)
		require.NoError(t, os.Rename(box, box+".away"))
		require.NoError(t, exchange(box, victim))
		if os.Geteuid() == 0 && strings.HasPrefix(name, "by a link") { // links of ours are ours: it is another's
			require.NoError(t, os.Lchown(box, 65534, 65534))
		} else if strings.HasPrefix(name, "by a link") {
			continue // that takes root
		}
		r := &run{disk: d}
		assert.Error(t, r.makeStaged(&FilesPlan{Box: box, Inner: true}), name)
		_, err = openTree(d, filepath.Join(box, "new"))
		assert.Error(t, err, name)
		r.journal = &Journal{Files: &FilesPlan{Box: box, Inner: true}}
		r.inside = []insideDatabase{{plan: r.journal.Files, rel: "data/museum.db"}}
		assert.Error(t, r.stageInside(t.Context(), nil), name)
		left, err := os.ReadDir(victim)
		require.NoError(t, err)
		assert.Empty(t, left, name)
	}
}

// A database file goes where the handle leads, and no link that is put on its way is
// followed.
func TestADatabaseIsMovedInThroughTheTreesHandle(t *testing.T) {
	dir := t.TempDir()
	d := &disk.Disk{}
	for _, p := range []string{"victim", "box/new/data"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, p), 0o755))
	}
	scratch := filepath.Join(dir, "main.db")
	loaded := func() { require.NoError(t, os.WriteFile(scratch, []byte("rows"), 0o640)) }
	loaded()
	tree, err := d.OpenRootNoLinks(filepath.Join(dir, "box/new"))
	require.NoError(t, err)
	defer tree.Close()
	require.NoError(t, os.Rename(filepath.Join(dir, "box"), filepath.Join(dir, "away")))
	require.NoError(t, os.Symlink("victim", filepath.Join(dir, "box")))
	r := &run{disk: d}
	require.NoError(t, r.moveIn(scratch, tree, "data/museum.db"))
	info, err := os.Stat(filepath.Join(dir, "away/new/data/museum.db"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o640), info.Mode())
	assert.NoFileExists(t, scratch)

	require.NoError(t, os.RemoveAll(filepath.Join(dir, "away/new/data")))
	require.NoError(t, os.Symlink("../../victim", filepath.Join(dir, "away/new/data")))
	loaded()
	assert.Error(t, r.moveIn(scratch, tree, "data/museum.db"))
	left, err := os.ReadDir(filepath.Join(dir, "victim"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
