package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/signing"
	"revlet/internal/practice/lampblack"
)

// forge changes one part's content and makes every digest fit again, and the signature, as
// somebody who has the site's machine and the store could.
func (w *world) forge(which func(archive.Part) bool, change func(string) string) {
	t := w.t
	t.Helper()
	base := w.path("archives/kestrelpoint")
	recordFile := filepath.Join(base, "archives", w.newest()+".json")
	data, err := os.ReadFile(recordFile)
	require.NoError(t, err)
	record, err := archive.DecodeRecord(data)
	require.NoError(t, err)
	var old string
	var made archive.Part
	var sum [32]byte
	for i, p := range record.Parts {
		if !which(p) || old != "" {
			continue
		}
		in, err := os.Open(filepath.Join(base, "parts", p.Name[:2], p.Name))
		require.NoError(t, err)
		r, err := archive.NewPartReader(in, p, nil, nil)
		require.NoError(t, err)
		content, err := io.ReadAll(r)
		require.NoError(t, err)
		in.Close()
		forged := change(string(content))
		sum = sha256.Sum256([]byte(forged))
		var stored bytes.Buffer
		enc, err := archive.NewEncoder()
		require.NoError(t, err)
		pw, err := archive.NewPartWriter(&stored, p.Name[64:], enc, nil)
		require.NoError(t, err)
		_, err = io.WriteString(pw, forged)
		require.NoError(t, err)
		made, err = pw.Finish()
		require.NoError(t, err)
		made.Kind, made.Database, made.Table, made.Slice, made.Entries = p.Kind, p.Database, p.Table, p.Slice, p.Entries
		old, record.Parts[i] = p.Name, made
		dir := filepath.Join(base, "parts", made.Name[:2])
		require.NoError(t, os.MkdirAll(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, made.Name), stored.Bytes(), 0o600))
	}
	require.NotEmpty(t, old)
	listFile := filepath.Join(base, "lists", record.Name+".jsonl.zst")
	listed, err := os.ReadFile(listFile)
	require.NoError(t, err)
	n := 0
	lw := archive.NewListWriter(&disk.Disk{}, func() string { n++; return w.path(fmt.Sprint("scratch", n)) })
	require.NoError(t, archive.ReadList(bytes.NewReader(listed), func(e archive.Entry) error {
		if e.Part == old {
			e.Part = made.Name
			if e.Type == archive.TypeRows || e.Type == archive.TypeSchema || e.Type == archive.TypeObjects {
				e.SHA256, e.Size = hex.EncodeToString(sum[:]), made.ContentBytes
			}
		}
		return lw.Add(e)
	}))
	var list bytes.Buffer
	_, err = lw.Finish(&list, nil, "")
	require.NoError(t, err)
	listSum := sha256.Sum256(list.Bytes())
	record.List.Bytes, record.List.SHA256 = int64(list.Len()), hex.EncodeToString(listSum[:])
	require.NoError(t, os.WriteFile(listFile, list.Bytes(), 0o600))
	record.Totals.StoredBytes = 0
	record.Objects(func(_ string, bytes int64, _ string) { record.Totals.StoredBytes += bytes })
	record.Totals.NewBytes = 0
	data, err = record.Encode(w.signingKey())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(recordFile, data, 0o600))
}

// signingKey is the key of the site's machine.
func (w *world) signingKey() *signing.Key {
	w.t.Helper()
	key, err := signing.Open(&disk.Disk{}, w.path("state/signing.key"))
	require.NoError(w.t, err)
	return key
}

func TestForgedSQLIsRefused(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	for _, evil := range []string{"ATTACH DATABASE '/tmp/evil' AS e;\n", "INSERT INTO \"users\" (id) VALUES\n((SELECT 1));\n", "DROP TABLE pages;\n", "PRAGMA trusted_schema = ON;\n"} {
		w.run("backup")
		before := rows(t, w)
		w.forge(func(p archive.Part) bool { return p.Table == "users" }, func(s string) string { return evil + s })
		w.run("verify", w.newest(), "--full") // every digest fits
		w.fails(1, []string{"a statement that Revlet does not write", "the site is unchanged"}, "restore", w.newest(), "--yes")
		assert.Equal(t, before, rows(t, w))
		w.clean()
	}
}

func TestForgedTarIsRefused(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	before := snapshot(t, w.path("htdocs"))
	w.forge(func(p archive.Part) bool { return p.Kind == archive.KindTree && p.Entries > 2 }, func(s string) string { // the one of links has fewer
		return strings.Replace(s, "webroot/uploads/current", "webroot/../../current", 1)
	})
	w.fails(4, []string{"DAMAGED"}, "verify", w.newest())
	w.fails(1, []string{"the site is unchanged"}, "restore", w.newest(), "--yes")
	assert.Equal(t, before, snapshot(t, w.path("htdocs")))
	w.clean()
}

func TestABombIsRefused(t *testing.T) {
	t.Parallel()
	w := plain(t)
	w.write("htdocs/zeros", strings.Repeat("\x00", 3<<20))
	w.run("backup")
	record := w.path("archives/kestrelpoint/archives", w.newest()+".json")
	data, err := os.ReadFile(record)
	require.NoError(t, err)
	rec, err := archive.DecodeRecord(data)
	require.NoError(t, err)
	found := false
	for i := range rec.Parts {
		if n := &rec.Parts[i].ContentBytes; *n > 3<<20 {
			*n, found = *n/10, true
		}
	}
	require.True(t, found)
	forged, err := rec.Encode(w.signingKey())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(record, forged, 0o600))
	w.fails(4, []string{"DAMAGED"}, "verify", "--full")
}

func TestAFullStoreLosesNothing(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting a small file system takes root")
	}
	w, _ := museum(t)
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=3m", "none", w.path("archives")).CombinedOutput(); err != nil {
		t.Skipf("no tmpfs can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", w.path("archives")).Run() })
	w.run("backup", "--note", "fits")
	for i := range 3 {
		noise := make([]byte, 900<<10)
		for k := range noise {
			noise[k] = byte(k*k>>3 + k*i)
		}
		require.NoError(t, os.WriteFile(w.path(fmt.Sprintf("htdocs/uploads/%d.jpg", i)), noise, 0o644))
	}
	w.fails(1, []string{"no space left on device"}, "backup")
	assert.Contains(t, w.run("verify"), "sound")
	for i := range 3 {
		require.NoError(t, os.Remove(w.path(fmt.Sprintf("htdocs/uploads/%d.jpg", i))))
	}
	w.run("backup", "--note", "fits again")
	w.clean()
	assert.Equal(t, stored(t, w), named(t, w), "what did not fit is cleared away")
}

func TestNoRoomToStageIsRefusedFirst(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting a small file system takes root")
	}
	w := plain(t)
	require.NoError(t, os.MkdirAll(w.path("small"), 0o755))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=30m", "none", w.path("small")).CombinedOutput(); err != nil {
		t.Skipf("no tmpfs can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", w.path("small")).Run() })
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: ./small/htdocs, stores: [here], recipe: none}\n")
	w.write("small/htdocs/picture.jpg", strings.Repeat("0123456789abcdef", 1<<20))
	w.run("backup")
	before := snapshot(t, w.path("small"))
	w.fails(1, []string{"no room to stage", "MiB are needed", "nothing was changed"}, "restore", "kestrelpoint", "--yes")
	assert.Equal(t, before, snapshot(t, w.path("small")))
	assert.Contains(t, w.run("preflight"), "a restore stages")
}

// A webroot that is a mount point is exchanged from inside; its database, a file in it, is
// loaded elsewhere and moved in.
func TestAWebrootThatIsAMountPoint(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting a small file system takes root")
	}
	w, _ := museum(t)
	require.NoError(t, os.Rename(w.path("htdocs"), w.path("content")))
	require.NoError(t, os.Mkdir(w.path("htdocs"), 0o755))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=30m", "none", w.path("htdocs")).CombinedOutput(); err != nil {
		t.Skipf("no tmpfs can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", w.path("htdocs")).Run() })
	require.NoError(t, exec.Command("cp", "-a", w.path("content")+"/.", w.path("htdocs")).Run())
	require.NoError(t, os.Chmod(w.path("htdocs", lampblack.DatabaseFile), 0o660))
	require.NoError(t, os.Chown(w.path("htdocs", lampblack.DatabaseFile), 61871, 61871))
	w.run("backup")
	// The names in it change one by one, so that its own time does; the database is made
	// anew with the same rows in other pages, the cache by the CMS.
	tree := func() map[string]string {
		all := snapshot(t, w.path("htdocs"), filepath.Dir(lampblack.DatabaseFile), "cache")
		delete(all, ".")
		return all
	}
	whole, content := tree(), rows(t, w)
	breakMuseum(t, w)
	broken := tree()
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, content, rows(t, w))
	assert.NoFileExists(t, w.path("htdocs/uploads/planted.php"))
	info, err := os.Stat(w.path("htdocs", lampblack.DatabaseFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o660), info.Mode())
	assert.Equal(t, uint32(61871), info.Sys().(*syscall.Stat_t).Uid)
	entries, err := os.ReadDir(w.path("state/inside/kestrelpoint"))
	assert.True(t, err != nil || len(entries) == 0, "nothing is left of the scratch copy")
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, tree())
	w.run("restore", "kestrelpoint", "--yes")
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	assert.Equal(t, whole, tree())
}

func TestTwoStoresCoverForEachOther(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	config, err := os.ReadFile(w.path("revlet.yaml"))
	require.NoError(t, err)
	text := strings.Replace(string(config), "stores:\n", "stores:\n  disk: {folder: ./second}\n", 1)
	w.write("revlet.yaml", strings.Replace(text, "stores: [here]", "stores: [here, disk]", 1))
	require.NoError(t, os.MkdirAll(w.path("second"), 0o755))
	w.run("backup")
	content := rows(t, w)
	assert.Contains(t, w.run("archives"), "here, disk")
	for i, p := range w.parts("kestrelpoint") {
		if i%2 == 0 {
			flip(t, p.file)
		} else {
			require.NoError(t, os.Remove(p.file))
		}
	}
	w.fails(4, []string{"DAMAGED", "sound"}, "verify")
	w.run("verify", "--store", "disk")
	breakMuseum(t, w)
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, content, rows(t, w))
	assert.FileExists(t, w.path("htdocs/themes/lantern/style.css"))
	w.fails(2, []string{`in a store "nowhere"`}, "verify", "--store", "nowhere")
}

func TestReadOnlyStore(t *testing.T) {
	w, _ := museum(t)
	require.NoError(t, exec.Command("true").Run())
	if os.Geteuid() == 0 {
		if err := syscall.Mount(w.path("archives"), w.path("archives"), "", syscall.MS_BIND, ""); err != nil {
			t.Skip("no bind mount can be made here")
		}
		t.Cleanup(func() { _ = syscall.Unmount(w.path("archives"), 0) })
		require.NoError(t, syscall.Mount("", w.path("archives"), "", syscall.MS_BIND|syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	} else {
		require.NoError(t, os.Chmod(w.path("archives"), 0o555))
	}
	w.fails(1, []string{"store here", "cannot be written to"}, "backup")
	assert.Contains(t, w.run("archives"), "No archives yet")
}

func TestTwoRunsAtOnce(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	noise := bytes.Repeat([]byte("a lamp in the fog "), 16<<20)
	require.NoError(t, os.WriteFile(w.path("htdocs/uploads/long.txt"), noise, 0o644))
	first := w.command("backup")
	require.NoError(t, first.Start())
	require.Eventually(t, func() bool {
		holder, _ := os.ReadFile(w.path("state/locks/kestrelpoint.lock"))
		return strings.TrimSpace(string(holder)) == fmt.Sprint(first.Process.Pid)
	}, 10*time.Second, 5*time.Millisecond)
	w.fails(1, []string{"another run of Revlet works on this site", fmt.Sprint(first.Process.Pid)}, "backup")
	require.NoError(t, first.Wait())
	w.run("verify", "--full")
}

func TestAnotherSiteIsNotOverwritten(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	w.run("backup")
	config, err := os.ReadFile(w.path("revlet.yaml"))
	require.NoError(t, err)
	w.write("revlet.yaml", strings.Replace(string(config), address, "https://elsewhere.example", 1))
	before := snapshot(t, w.path("htdocs"))
	w.fails(1, []string{"looks like another site", "nothing was changed"}, "restore", "kestrelpoint", "--yes")
	assert.Equal(t, before, snapshot(t, w.path("htdocs")))
	w.write("revlet.yaml", strings.Replace(string(config), "recipe: lampblack", "recipe: none", 1))
	w.fails(1, []string{"holds a database \"main\"", "nothing was changed"}, "restore", "kestrelpoint", "--yes")
}

// What a restore refuses before it writes anything, its dry run refuses in the same words; and it leaves nothing.
func TestADryRunRefusesWhatTheRestoreRefuses(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	w.write("a/1", "1")
	w.write("b/2", "2")
	config := w.read("revlet.yaml")
	w.write("revlet.yaml", config+"\n    roots: {x: ./a, y: ./b}\n")
	w.run("backup")
	for name, c := range map[string]struct{ config, says string }{
		"folders one in the other":  {config + "\n    roots: {x: ./a, y: ./a/b}\n", "lie one inside the other"},
		"another site":              {strings.Replace(config, address, "https://elsewhere.example", 1) + "\n    roots: {x: ./a, y: ./b}\n", "looks like another site"},
		"no database":               {strings.Replace(config, "recipe: lampblack", "recipe: none", 1) + "\n    roots: {x: ./a, y: ./b}\n", `holds a database "main"`},
		"a database that is locked": {config + "\n    roots: {x: ./a, y: ./b}\n    databases: {main: {sqlite: ./nowhere/museum.db}}\n", "nowhere"},
	} {
		w.write("revlet.yaml", c.config)
		said := func(r result) string {
			require.Equal(t, 1, r.code, "%s: %s%s", name, r.out, r.err)
			_, trouble, _ := strings.Cut(r.err, "revlet: ")
			return trouble
		}
		dry := said(w.try("restore", "kestrelpoint", "--dry-run"))
		assert.Contains(t, dry, c.says, name)
		assert.Equal(t, dry, said(w.try("restore", "kestrelpoint", "--yes")), name)
	}
	w.write("revlet.yaml", strings.Replace(config, "root: "+w.path("htdocs"), "root: "+w.path("new/deep/htdocs"), 1)+"\n    roots: {x: ./a, y: ./also/new/b}\n    databases: {main: {sqlite: ./new/deep/htdocs/data/museum.db}}\n")
	before := sh(t, "find "+w.path(".")+" -path '*/history.db*' -prune -o -print | sort")
	w.run("restore", "kestrelpoint", "--dry-run")
	assert.Equal(t, before, sh(t, "find "+w.path(".")+" -path '*/history.db*' -prune -o -print | sort"), "a dry run makes nothing")
	w.run("restore", "kestrelpoint", "--yes")
	assert.FileExists(t, w.path("also/new/b/2"))
}

func TestFilesThatChangeWhileTheyAreRead(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	stop := make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		grow, _ := os.OpenFile(w.path("htdocs/uploads/access.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		defer grow.Close()
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
			}
			_, _ = grow.Write(bytes.Repeat([]byte("GET /visit\n"), 200))
			name := w.path("htdocs/uploads", fmt.Sprintf("passing-%d", i%50))
			_ = os.WriteFile(name, bytes.Repeat([]byte{byte(i)}, i%9000), 0o644)
			_ = os.Remove(w.path("htdocs/uploads", fmt.Sprintf("passing-%d", (i+25)%50)))
			_ = lampblack.Execute(t.Context(), w.path("htdocs", lampblack.DatabaseFile), "UPDATE settings SET value = value || 'x' WHERE name = 'season'")
		}
	}()
	for range 6 {
		r := w.try("backup")
		require.Contains(t, []int{0, 3}, r.code, r.out+r.err)
		if r.code == 3 {
			assert.Contains(t, r.out, "moving")
		}
	}
	close(stop)
	<-done
	w.run("verify", "--full")
	w.run("restore", "kestrelpoint", "--yes")
}

// A file of the state folder that is damaged is told with what can be done about it, and
// taken for no other thing; where a machine was copied, an undo that cannot be is not begun.
func TestStateThatIsDamaged(t *testing.T) {
	t.Parallel()
	w := plain(t)
	w.write("htdocs/index.html", "a page")
	w.run("backup")
	w.run("restore", "kestrelpoint", "--yes")
	w.write("htdocs/index.html", "since")
	for file, told := range map[string]string{
		"signers/kestrelpoint.json":    "whose archives of kestrelpoint are taken, is damaged",
		"databases/kestrelpoint.json":  "",
		"chain/kestrelpoint.json":      "the last record of kestrelpoint, is damaged",
		"stores/*.json":                "which store is at",
		"signing.key":                  "the signing key",
		"journals/kestrelpoint/*.json": "the restore journal",
	} {
		files, err := filepath.Glob(w.path("state", file))
		require.NoError(t, err)
		if told == "" && len(files) == 0 {
			continue
		}
		require.NotEmpty(t, files, file)
		good, err := os.ReadFile(files[0])
		require.NoError(t, err)
		for _, bad := range []string{"", "\x00\x00", "{"} {
			require.NoError(t, os.WriteFile(files[0], []byte(bad), 0o600))
			args := []string{"backup"}
			if strings.HasPrefix(file, "journals") {
				args = []string{"undo", "kestrelpoint", "--yes"}
			}
			r := w.fails(1, nil, args...)
			assert.Contains(t, r.err, told, file)
			assert.Contains(t, r.err, "mv "+files[0], file)
		}
		require.NoError(t, os.WriteFile(files[0], good, 0o600))
	}
	boxes, err := filepath.Glob(w.path(".revlet-*"))
	require.NoError(t, err)
	require.Len(t, boxes, 1)
	require.NoError(t, os.CopyFS(w.path("copied"), os.DirFS(boxes[0])))
	require.NoError(t, os.Rename(boxes[0], w.path("moved")))
	require.NoError(t, os.Rename(w.path("copied"), boxes[0]))
	for range 2 {
		w.fails(1, []string{"is no longer in", "settle kestrelpoint"}, "undo", "kestrelpoint", "--yes")
	}
	w.run("restore", "kestrelpoint", "--yes")
	text, err := os.ReadFile(w.path("htdocs/index.html"))
	require.NoError(t, err)
	assert.Equal(t, "a page", string(text))
}
