package e2e

import (
	"database/sql"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/pkg/xattr"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// plain is a world whose site is a folder without a database.
func plain(t *testing.T) *world {
	w := newWorld(t)
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	require.NoError(t, os.MkdirAll(w.path("htdocs"), 0o755))
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: ./htdocs, stores: [here], recipe: none}\n")
	return w
}

// attributes lists extended attributes by path.
func attributes(t *testing.T, root string) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(p string, _ os.DirEntry, err error) error {
		names, _ := xattr.LList(p)
		for _, n := range names {
			v, _ := xattr.LGet(p, n)
			all[strings.TrimPrefix(p, root)+" "+n] = string(v)
		}
		return err
	}))
	return all
}

func TestSeveralRootsAndALinkedWebroot(t *testing.T) {
	t.Parallel()
	w := plain(t)
	require.NoError(t, os.RemoveAll(w.path("htdocs")))
	w.write("releases/7/index.html", "seven")
	require.NoError(t, os.Symlink("releases/7", w.path("htdocs")))
	w.write("media/2026/lens.jpg", "a picture")
	w.write("private/keys.txt", "settings kept outside")
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: ./htdocs, roots: {media: ./media, private: ./private}, stores: [here], recipe: none}\n")
	trees := func() []map[string]string {
		return []map[string]string{snapshot(t, w.path("releases/7")), snapshot(t, w.path("media")), snapshot(t, w.path("private"))}
	}
	good := trees()
	w.run("backup")
	w.write("releases/7/planted.php", "x")
	require.NoError(t, os.RemoveAll(w.path("media")))
	w.write("private/keys.txt", "changed")
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, good, trees())
	target, err := os.Readlink(w.path("htdocs"))
	require.NoError(t, err)
	assert.Equal(t, "releases/7", target, "the link stays a link")
	w.run("undo", "kestrelpoint", "--yes")
	assert.NoDirExists(t, w.path("media"))
	assert.FileExists(t, w.path("releases/7/planted.php"))
	w.run("restore", "kestrelpoint", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	assert.Equal(t, good, trees())
	w.clean()
}

func TestADatabaseFileInTheWebrootIsNotTorn(t *testing.T) {
	t.Parallel()
	w := plain(t)
	file := w.path("htdocs/plugins/stats/counts.db")
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=journal_mode(WAL)&_pragma=wal_autocheckpoint(0)")
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("CREATE TABLE hits (page TEXT, n INT); INSERT INTO hits VALUES ('visit', 1871)")
	require.NoError(t, err)
	require.FileExists(t, file+"-wal", "what was written is in the log only")
	w.run("backup")
	w.run("verify", "--full")
	w.run("extract", "kestrelpoint", "plugins", "--to", "out")
	assert.NoFileExists(t, w.path("out/plugins/stats/counts.db-wal"))
	saved, err := sql.Open("sqlite", "file:"+w.path("out/plugins/stats/counts.db"))
	require.NoError(t, err)
	defer saved.Close()
	var n int
	require.NoError(t, saved.QueryRow("SELECT n FROM hits").Scan(&n))
	assert.Equal(t, 1871, n)
	w.write("htdocs/fake.db", "SQLite format 3\x00"+strings.Repeat("but no database ", 100))
	w.run("backup")
	w.run("extract", "kestrelpoint", "fake.db", "--to", "out")
}

func TestEverythingInTheFileTree(t *testing.T) {
	t.Parallel()
	w := plain(t)
	at := func(rel string) string { return w.path("htdocs", rel) }
	w.write("htdocs/.hidden/.deep/file", "x")
	w.write("htdocs/bad \xff\xfe utf8\n\t\x1b[31m", "odd")
	w.write("htdocs/"+strings.Repeat("n", 255), "long")
	w.write("htdocs/"+strings.Repeat("deep/", 60)+"file", "deep")
	w.write("htdocs/-rf *", "flag-like")
	w.write("htdocs/empty", "")
	w.write("htdocs/old", "before the epoch of tools")
	w.write("htdocs/readonly/file", "x")
	for rel, target := range map[string]string{"dangling": "nowhere/at/all", "absolute": "/etc/hostname", "up": "../../..", "loop": "loop", "tofolder": ".hidden"} {
		require.NoError(t, os.Symlink(target, at(rel)))
	}
	require.NoError(t, os.MkdirAll(at("none/at/all"), 0o700))
	w.write("htdocs/hard/1", "linked")
	require.NoError(t, os.Link(at("hard/1"), at("hard/2")))
	require.NoError(t, os.Link(at("hard/1"), at("a-hard-3")))
	require.NoError(t, os.Chmod(at("hard"), 0o3775|os.ModeSetgid|os.ModeSticky))
	require.NoError(t, os.Chmod(at("empty"), 0o4711|os.ModeSetuid))
	require.NoError(t, os.Chtimes(at("old"), time.Now(), time.Date(1999, 12, 31, 23, 59, 59, 123456789, time.UTC)))
	for rel, year := range map[string]int{"y1902": 1902, "y1969": 1969, "y2106": 2106, "y2400": 2400} { // as far as the file system goes
		w.write("htdocs/"+rel, "a clock that was wrong")
		when, err := unix.TimeToTimespec(time.Date(year, 12, 31, 23, 59, 59, 999999000, time.UTC))
		require.NoError(t, err)
		require.NoError(t, unix.UtimesNanoAt(unix.AT_FDCWD, at(rel), []unix.Timespec{when, when}, 0))
	}
	big, err := os.Create(at("big.iso"))
	require.NoError(t, err)
	const size = 768<<20 + 12345
	for _, off := range []int64{0, 512 << 20, size - 5} {
		_, err = big.WriteAt([]byte("light"), off)
		require.NoError(t, err)
	}
	require.NoError(t, big.Close())
	if os.Geteuid() == 0 {
		require.NoError(t, os.Lchown(at("old"), 12345, 54321))
		require.NoError(t, os.Lchown(at("dangling"), 33, 33))
	}
	if xattr.Set(at("old"), "user.origin", []byte("kestrel\x00point")) == nil {
		require.NoError(t, xattr.Set(at("none"), "user.folder", []byte("too")))
		acl := []byte("\x02\x00\x00\x00\x01\x00\x06\x00\xff\xff\xff\xff\x02\x00\x04\x00\x21\x00\x00\x00\x04\x00\x04\x00\xff\xff\xff\xff\x10\x00\x04\x00\xff\xff\xff\xff\x20\x00\x00\x00\xff\xff\xff\xff")
		_ = xattr.Set(at("hard/1"), "system.posix_acl_access", acl) // where the file system has them
	}
	require.NoError(t, os.Chmod(at("readonly"), 0o555))
	require.NoError(t, syscall.Mkfifo(at("pipe"), 0o644))
	short := filepath.Join(os.TempDir(), fmt.Sprintf("rv%d", os.Getpid()))
	socket, err := net.Listen("unix", short)
	require.NoError(t, err)
	require.NoError(t, os.Rename(short, at("socket")))
	want, wantAttributes := snapshot(t, w.path("htdocs"), "pipe", "socket", "big.iso"), attributes(t, w.path("htdocs"))
	w.fails(3, []string{"2 paths could not be saved", "a named pipe", "a socket"}, "backup")
	_ = socket.Close()
	w.run("verify", "--quick") // the restore reads all of it
	listing := w.run("show", "kestrelpoint", "--files")
	assert.NotContains(t, listing, "\x1b", "a name cannot play with the terminal")

	require.NoError(t, os.RemoveAll(w.path("htdocs")))
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, want, snapshot(t, w.path("htdocs"), "big.iso"))
	assert.Equal(t, wantAttributes, attributes(t, w.path("htdocs")))
	var st syscall.Stat_t
	require.NoError(t, syscall.Stat(at("big.iso"), &st))
	assert.EqualValues(t, size, st.Size)
	iso, err := os.Open(at("big.iso"))
	require.NoError(t, err)
	defer iso.Close()
	for _, off := range []int64{0, 512 << 20, size - 5} {
		mark := make([]byte, 5)
		_, err = iso.ReadAt(mark, off)
		require.NoError(t, err)
		assert.Equal(t, "light", string(mark))
	}
	assert.Less(t, st.Blocks*512, int64(1<<20), "holes are holes again")
	require.NoError(t, os.Chmod(at("readonly"), 0o755))
}

// A folder so deep that no call of the system takes its path keeps nobody from restoring: what
// could not be put back is no part of an archive, and goes where its folder goes.
func TestAFolderThatIsTooDeep(t *testing.T) {
	t.Parallel()
	w := plain(t)
	plant := func(levels int) {
		dir, err := os.OpenRoot(w.path("htdocs"))
		require.NoError(t, err)
		for range levels {
			require.NoError(t, dir.MkdirAll("inner", 0o755))
			require.NoError(t, dir.Mkdir(strings.Repeat("d", 200), 0o755))
			next, err := dir.OpenRoot(strings.Repeat("d", 200))
			require.NoError(t, err)
			require.NoError(t, dir.Close())
			dir = next
		}
		require.NoError(t, dir.WriteFile("bottom", []byte("x"), 0o644))
		require.NoError(t, dir.Close())
	}
	w.write("htdocs/index.html", "a page")
	w.run("backup")
	plant(40)
	w.run("restore", "kestrelpoint", "--yes") // planted since
	assert.NoDirExists(t, w.path("htdocs", strings.Repeat("d", 200)))
	w.run("undo", "kestrelpoint", "--yes")
	w.fails(3, []string{"1 path could not be saved", "longer than 3500 bytes"}, "backup")
	require.NoError(t, os.WriteFile(w.path("htdocs", "index.html"), []byte("hacked"), 0o644))
	assert.Contains(t, w.run("restore", "kestrelpoint", "--yes"), "it was carried over")
	text, err := os.ReadFile(w.path("htdocs", "index.html"))
	require.NoError(t, err)
	assert.NotEqual(t, "hacked", string(text))
	w.run("restore", "kestrelpoint", "--yes", "--clean")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	left, err := filepath.Glob(w.path(".revlet-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// What is locked (chattr +i) goes aside with its folder, and is deleted with that; a folder that
// cannot be exchanged is refused before anything changes.
func TestLockedFiles(t *testing.T) {
	t.Parallel()
	w := plain(t)
	lock := func(how string, rel string) bool {
		return exec.Command("chattr", how, w.path("htdocs", rel)).Run() == nil
	}
	w.write("htdocs/index.html", "a page")
	w.run("backup")
	w.write("htdocs/planted.php", "<?php")
	if os.Geteuid() != 0 || !lock("+i", "planted.php") {
		t.Skip("nothing can be locked here")
	}
	w.write("htdocs/log/errors.txt", "x")
	require.True(t, lock("+a", "log/errors.txt") && lock("+i", "log"))
	w.write("outside/file", "not the site's")
	require.True(t, lock("+i", "../outside/file"))
	require.NoError(t, os.Symlink(w.path("outside"), w.path("htdocs/away")))
	t.Cleanup(func() { _ = exec.Command("chattr", "-R", "-i", "-a", w.dir).Run() })

	require.True(t, lock("+i", "."))
	refused := w.fails(1, []string{"is locked against changes", "nothing was changed", "chattr -i -a"}, "restore", "kestrelpoint", "--yes")
	assert.Contains(t, refused.err, w.path("htdocs"))
	require.True(t, lock("-i", "."))
	w.fails(1, []string{"htdocs/log is locked", "nothing was changed"}, "restore", "kestrelpoint", "--path", "index.html", "--yes")
	w.run("restore", "kestrelpoint", "--yes")
	assert.NoFileExists(t, w.path("htdocs/planted.php"))
	w.run("undo", "kestrelpoint", "--yes")
	assert.FileExists(t, w.path("htdocs/planted.php"))
	w.run("restore", "kestrelpoint", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	left, err := filepath.Glob(w.path(".revlet-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.Error(t, os.Remove(w.path("outside/file")), "what a link leads to stays locked")
}

// An archive of folders that lie one inside the other could not be put back: none is taken.
func TestFoldersOneInsideTheOther(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("htdocs/uploads/lens.jpg", "a picture")
	require.NoError(t, os.Symlink("htdocs/uploads", w.path("media")))
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: ./htdocs, recipe: none, stores: [here], roots: {media: ./media}}\n")
	w.fails(1, []string{"lie one inside the other", w.path("htdocs/uploads")}, "backup")
	assert.Contains(t, w.try("preflight", "kestrelpoint").out, "lie one inside the other")
}

// What lies behind a link out of the site is in no archive: that is said at every turn, until it is taken along.
func TestWhatLiesBehindALinkIsNotSavedWithoutAWord(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("htdocs/index.html", "a page")
	w.write("shared/uploads/lens.jpg", "a picture")
	require.NoError(t, os.Symlink("../shared/uploads", w.path("htdocs/uploads")))
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	config := "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    recipe: none\n    stores: [here]\n"
	w.write("revlet.yaml", config)
	leads := "uploads leads to " + w.path("shared/uploads")
	w.fails(0, []string{leads}, "preflight", "kestrelpoint")
	assert.Contains(t, w.run("backup"), leads)
	assert.Contains(t, w.run("show", "kestrelpoint"), leads)
	w.fails(4, []string{"leads-out", leads}, "status")
	w.run("export", w.newest(), "out.zip")

	w.write("revlet.yaml", config+"    roots: {uploads: ./shared/uploads}\n")
	w.run("backup")
	require.NotContains(t, w.try("status").out, "leads-out")
	require.NotContains(t, w.run("show", "kestrelpoint")+w.try("preflight", "kestrelpoint").out, leads)
	require.NoError(t, os.Remove(w.path("shared/uploads/lens.jpg")))
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, "a picture", w.read("htdocs/uploads/lens.jpg"))
}

// What is mounted inside a site stays there: a folder that is exchanged would take it along, and settle would delete
// what is on it.
func TestWhatIsMountedInsideASite(t *testing.T) {
	t.Parallel()
	need(t, "unshare", "mount", "umount")
	w := newWorld(t)
	server := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(server.Close)
	w.write("htdocs/index.html", "a page")
	require.NoError(t, os.MkdirAll(w.path("htdocs/uploads"), 0o755))
	require.NoError(t, os.MkdirAll(w.path("volume"), 0o755))
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    address: "+server.URL+"\n    check: {path: /, status: 404}\n    recipe: none\n    stores: [here]\n")
	inside := func(script string) (string, int) {
		cmd := w.command()
		cmd.Path, _ = exec.LookPath("unshare")
		cmd.Args = []string{"unshare", "-m", "sh", "-c", "R=$0; " + script, program}
		out, err := cmd.CombinedOutput()
		if cmd.ProcessState == nil {
			require.NoError(t, err)
		}
		return string(out), cmd.ProcessState.ExitCode()
	}
	// Of the same file system, so that no number tells.
	const bound = "mount --bind volume htdocs/uploads && echo lens > htdocs/uploads/lens.jpg && "
	if out, code := inside(bound + "true"); code != 0 {
		t.Skip("nothing can be mounted here: " + out)
	}
	out, code := inside(bound + "$R preflight kestrelpoint; $R backup && $R verify && rm htdocs/index.html && $R restore kestrelpoint --yes")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "something else is mounted inside "+w.path("htdocs")+": "+w.path("htdocs/uploads"))
	assert.Contains(t, out, "a restore would refuse", "preflight says so")
	assert.Contains(t, out, "nothing was changed")
	assert.NoFileExists(t, w.path("htdocs/index.html"))
	out, code = inside(bound + "$R guard kestrelpoint -- touch ran")
	assert.NotZero(t, code)
	assert.Contains(t, out, "could not be put back: something else is mounted")
	assert.NoFileExists(t, w.path("ran"))

	w.run("restore", "kestrelpoint", "--yes")
	aside, err := filepath.Glob(w.path(".revlet-kestrelpoint-*/old/uploads"))
	require.NoError(t, err)
	require.Len(t, aside, 1)
	out, code = inside("mount --bind volume '" + aside[0] + "' && $R settle kestrelpoint --yes --unsaved")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "umount")
	assert.Equal(t, "lens\n", w.read("volume/lens.jpg"), "what is mounted is not deleted")
	out, code = inside("mount --bind volume htdocs/uploads && $R undo kestrelpoint --yes")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "something else is mounted inside "+w.path("htdocs"))
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, "lens\n", w.read("volume/lens.jpg"))

	// A webroot that is mounted itself is exchanged from inside, whatever it is mounted from. What is only named like a
	// restore's own folder does not stay there.
	w.write("htdocs/.revlet-kestrelpoint-20261129_104405-45c25c04db/evil.php", "<?php evil();")
	w.write("htdocs/.revlet-top.php", "<?php evil();")
	out, code = inside("mount --bind htdocs volume && sed -i 's#./htdocs#./volume#' revlet.yaml && $R restore kestrelpoint --yes && find volume && $R backup && $R show kestrelpoint --files '**' && $R settle kestrelpoint --yes --unsaved && ls -a volume")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "index.html")
	found, shown, _ := strings.Cut(out, "Saved kestrelpoint")
	assert.Contains(t, found, "/old/.revlet-top.php", "it is set aside")
	assert.Contains(t, found, "/old/.revlet-kestrelpoint-20261129_104405-45c25c04db/evil.php")
	assert.NotContains(t, found, "volume/.revlet-top.php")
	shown, _, _ = strings.Cut(shown, "Exists nowhere else")
	assert.Contains(t, shown, "set aside by a restore")
	assert.NotContains(t, shown, "evil.php", "what a restore has set aside is in no archive")
}

// A file may have names in several folders of a site, and each of them can be taken alone.
func TestNamesOfAFileInSeveralFolders(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("htdocs/m/a.txt", "the lamp is lit")
	w.write("media/index.txt", "pictures")
	require.NoError(t, os.Link(w.path("htdocs/m/a.txt"), w.path("htdocs/z.txt")))
	require.NoError(t, os.Link(w.path("htdocs/m/a.txt"), w.path("media/also.txt")))
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: ./htdocs, recipe: none, stores: [here], roots: {media: ./media}}\n")
	w.run("backup")
	w.run("verify")
	seen := func() [2]map[string]string {
		both := [2]map[string]string{snapshot(t, w.path("htdocs")), snapshot(t, w.path("media"))}
		for _, tree := range both {
			for name, what := range tree {
				tree[name] = regexp.MustCompile(`links=\d+`).ReplaceAllString(what, "")
			}
		}
		return both
	}
	tree := seen()
	for _, dir := range []string{"htdocs", "media"} {
		require.NoError(t, os.RemoveAll(w.path(dir)))
		require.NoError(t, os.Mkdir(w.path(dir), 0o755))
	}
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, tree, seen())
	w.run("extract", "kestrelpoint", "z.txt", "--to", "out")
	assert.Equal(t, "the lamp is lit", w.read("out/z.txt"))
	assert.NoDirExists(t, w.path("out/m"))
	assert.Contains(t, w.run("versions", "kestrelpoint", "z.txt"), w.newest())
}

// Anybody may give a file a name like Revlet's own: it is saved, compared and found like any other.
func TestNamesLikeRevletsOwnHideNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("htdocs/index.html", "a page")
	w.write("htdocs/uploads/.revlet-notes", "the keeper's own")
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: ./htdocs, recipe: none, stores: [here], skip: [cache/**]}\n")
	w.run("backup")
	assert.NotContains(t, w.run("compare", "kestrelpoint"), "Left out")
	w.write("htdocs/cache/evil.php", "<?php evil();")
	assert.Contains(t, w.try("compare", "kestrelpoint").out, "Left out by rule: 1 × cache/**", "where nobody has looked is said")
	require.NoError(t, os.RemoveAll(w.path("htdocs/cache")))
	assert.Contains(t, w.run("show", "kestrelpoint", "--files", "**"), "uploads/.revlet-notes")
	for _, name := range []string{"uploads/.revlet-x.php", ".revlet-top.php", ".revlet-index.php", ".revlet-kestrelpoint-20261129_104405-45c25c04db/evil.php"} {
		w.write("htdocs/"+name, "<?php evil();")
		r := w.try("compare", "kestrelpoint")
		assert.Contains(t, r.out, name)
		require.NoError(t, os.RemoveAll(w.path("htdocs", strings.Split(name, "/")[0])))
		w.run("restore", "kestrelpoint", "--yes")
	}
	assert.Equal(t, "the keeper's own", w.read("htdocs/uploads/.revlet-notes"))
}
