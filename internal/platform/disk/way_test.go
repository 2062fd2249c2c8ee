//go:build linux

package disk

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// The owner of a webroot puts a link in its place, or in that of his settings: root saved another customer's site as his, and
// would have put his in its place.
func TestRootIsLedToNobodyElsesThings(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("others are led where they may go themselves")
	}
	const mallory, other = 61871, 61872
	dir := t.TempDir()
	at := func(rel string) string { return filepath.Join(dir, rel) }
	folder := func(rel string, owner int) {
		require.NoError(t, os.MkdirAll(at(rel), 0o755))
		require.NoError(t, os.WriteFile(at(rel+"/settings"), []byte(rel), 0o600))
		require.NoError(t, os.Lchown(at(rel), owner, owner))
		require.NoError(t, os.Lchown(at(rel+"/settings"), owner, owner))
	}
	link := func(rel, target string, owner int) {
		require.NoError(t, os.Symlink(target, at(rel)))
		require.NoError(t, os.Lchown(at(rel), owner, owner))
	}
	folder("mallory", mallory)
	folder("mallory/releases", mallory)
	folder("mallory/releases/5", mallory)
	folder("other", other)
	folder("etc", 0)
	link("mallory/current", "releases/5", mallory)
	link("mallory/stolen", "../other", mallory)
	link("mallory/system", at("etc"), mallory)
	link("mallory/new", at("etc/new"), mallory)
	link("mallory/late", "releases/6", mallory)
	link("mallory/twice", "stolen", mallory)
	link("byroot", "mallory/current", 0)
	link("byroot2", "other", 0)
	link("mallory/through", "../byroot2", mallory)
	link("mallory/releases/5/linked", at("other/settings"), mallory)
	link("mallory/loop", "loop", mallory)
	for rel, want := range map[string]string{
		"mallory": "mallory", "mallory/current": "mallory/releases/5", "byroot": "mallory/releases/5", "byroot2": "other", "mallory/late": "mallory/releases/6",
		"mallory/current/gone": "mallory/releases/5/gone", "gone": "gone",
		"mallory/stolen": "", "mallory/system": "", "mallory/new": "", "mallory/twice": "", "mallory/through": "", "mallory/current/linked": "", "mallory/stolen/settings": "",
	} {
		real, err := Way(at(rel))
		if want == "" {
			assert.ErrorIs(t, err, ErrLedAway, rel)
			_, err = ReadLed(at(rel+"/settings"), 100)
			assert.Error(t, err, rel)
			_, _, err = (&Disk{}).Confined(at(rel))
			assert.True(t, err != nil || rel == "mallory/new", rel)
			continue
		}
		require.NoError(t, err, rel)
		assert.Equal(t, at(want), real, rel)
	}
	_, err := Way(at("mallory/loop"))
	assert.ErrorContains(t, err, "too many links")
	data, err := ReadLed(at("byroot/settings"), 100)
	require.NoError(t, err)
	assert.Equal(t, "mallory/releases/5", string(data))
	_, err = ReadLed(at("mallory/gone"), 100)
	assert.ErrorIs(t, err, fs.ErrNotExist)

	// At whatever moment.
	ended, stop := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-stop:
				return
			default:
				_ = unix.Renameat2(unix.AT_FDCWD, at("mallory/current"), unix.AT_FDCWD, at("mallory/stolen"), unix.RENAME_EXCHANGE)
			}
		}
	}()
	for range 3000 {
		if data, err := ReadLed(at("mallory/current/settings"), 100); err == nil {
			require.Equal(t, "mallory/releases/5", string(data))
		}
		if d, done, err := (&Disk{}).Confined(at("mallory/current")); err == nil {
			info, err := d.Lstat(at("mallory/current"))
			require.NoError(t, err)
			a, _ := AttributesOf(info)
			require.Equal(t, mallory, a.UID)
			done()
		}
	}
	close(stop)
	<-ended
}

// Whom an access control list lets write, permissions do not say.
func TestAFolderInWhichAnotherMayWrite(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("folders are root's")
	}
	dir := t.TempDir()
	require.True(t, OnlyRoots(dir))
	for _, c := range []struct {
		mode     fs.FileMode
		uid, gid int
		only     bool
	}{{0o775, 0, 0, true}, {0o775, 0, 61871, false}, {0o757, 0, 0, false}, {0o777 | fs.ModeSticky, 0, 0, true}, {0o755, 61871, 0, false}} {
		require.NoError(t, os.Chown(dir, c.uid, c.gid))
		require.NoError(t, os.Chmod(dir, c.mode))
		assert.Equal(t, c.only, OnlyRoots(dir), "%v", c)
		assert.Equal(t, c.only || c.uid != 0, OnlyOf(dir, 61871), "%v", c)
	}
	require.NoError(t, os.Chown(dir, 0, 0))
	require.NoError(t, os.Chmod(dir, 0o755))

	// By links.
	for _, d := range []string{"mine/inner", "theirs"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, d), 0o755))
	}
	require.NoError(t, os.Symlink("mine", filepath.Join(dir, "link")))
	require.NoError(t, os.Symlink("theirs", filepath.Join(dir, "totheirs")))
	require.NoError(t, os.Symlink("../mine", filepath.Join(dir, "theirs/back")))
	require.NoError(t, os.Symlink("mine", filepath.Join(dir, "foreign")))
	for _, d := range []string{"theirs", "foreign"} {
		require.NoError(t, os.Lchown(filepath.Join(dir, d), 61871, 61871))
	}
	for d, only := range map[string]bool{"mine/inner": true, "link/inner": true, "link": true, "totheirs": false, "theirs/back": false, "theirs/back/inner": false, "foreign/inner": false, "gone": false} {
		assert.Equal(t, only, OnlyRoots(filepath.Join(dir, d)), d)
	}
	entry := func(tag, perm, id byte) string { return string([]byte{tag, 0, perm, 0, id, 0, 0, 0}) }
	acl := "\x02\x00\x00\x00" + entry(1, 7, 255) + entry(2, 7, 33) + entry(4, 5, 255) + entry(0x10, 7, 255) + entry(0x20, 5, 255)
	if err := unix.Setxattr(dir, "system.posix_acl_access", []byte(acl), 0); err != nil {
		t.Skip("no access control lists here")
	}
	assert.False(t, OnlyRoots(dir))
}
