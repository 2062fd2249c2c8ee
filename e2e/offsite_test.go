package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/place"
)

// far is an offsite place: what the configuration says of it, what `discover`
// is told, and the folder on its disk.
type far struct {
	config   string
	discover []string
	dir      string
}

// standin starts a stand-in of a kind that fails as asked. It keeps its keys
// and its disk in the world, so that it can be started again.
func standin(w *world, kind string, f *place.Faults, listen string) (*place.Server, far) {
	secret := w.path("far.pw")
	require.NoError(w.t, os.WriteFile(secret, []byte("practice\n"), 0o600))
	if listen == "" {
		listen = fmt.Sprintf("127.0.0.1:%d", freePort(w.t)) // one that nobody gets meanwhile
	}
	var s *place.Server
	var err error
	// A process that another test is starting just now holds copies of all sockets until it runs a program of its own:
	// the port of a stand-in that was closed may be taken for a moment.
	for range 50 {
		s, err = place.Start(kind, place.Options{Dir: w.path("far"), Keys: w.path("farkeys"), User: "keeper", Password: "practice", Listen: listen, Faults: f})
		if !errors.Is(err, syscall.EADDRINUSE) {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.NoError(w.t, err)
	w.t.Cleanup(s.Close)
	ca := w.path("farkeys/certificate.pem")
	switch kind {
	case place.SFTP:
		return s, far{fmt.Sprintf("{sftp: %q, password_file: %s, silence: 5 seconds}", s.Address+"revlet", secret),
			[]string{s.Address + "revlet", "--password-file", secret, "--trust"}, w.path("far/revlet")}
	case place.WebDAV:
		return s, far{fmt.Sprintf("{webdav: %q, user: keeper, password_file: %s, ca_file: %s, silence: 5 seconds}", s.Address+"/revlet", secret, ca),
			[]string{s.Address + "/revlet", "--user", "keeper", "--password-file", secret, "--ca-file", ca}, w.path("far/revlet")}
	case place.S3:
		return s, far{fmt.Sprintf("{s3: %q, access_key: keeper, secret_file: %s, region: eu-1, ca_file: %s, silence: 5 seconds}", s.Address+"/revlet", secret, ca),
			[]string{strings.Replace(s.Address, "https://", "s3://", 1) + "/revlet", "--access-key", "keeper", "--secret-file", secret, "--region", "eu-1", "--ca-file", ca}, w.path("far/buckets/museum/revlet")}
	default:
		return s, far{fmt.Sprintf("{ftp: %q, password_file: %s, ca_file: %s, silence: 5 seconds}", s.Address+"revlet", secret, ca),
			[]string{s.Address + "revlet", "--password-file", secret, "--ca-file", ca}, w.path("far/revlet")}
	}
}

// offsiteOnly describes the museum's site with one far store.
func offsiteOnly(w *world, address string, f far, more string) {
	w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores:\n  harbour: %s\nsites:\n  kestrelpoint: {root: ./htdocs, address: %q, stores: [harbour], check: {path: /, status: 200}}\n%s", f.config, address, more))
}

func listenAgain(address string) string {
	return regexp.MustCompile(`127\.0\.0\.1:\d+`).FindString(address)
}

// loseTheMachine deletes the site, the configuration and all local state.
func loseTheMachine(w *world) {
	for _, name := range []string{"htdocs", "state", "xstate", "revlet.yaml", "archives"} {
		require.NoError(w.t, os.RemoveAll(w.path(name)))
	}
	settled, err := filepath.Glob(w.path(".revlet-*"))
	require.NoError(w.t, err)
	require.Empty(w.t, settled)
}

// The whole story, over every protocol: the connection dies in the middle of an
// upload, the next run completes it, the machine is lost, and with nothing but
// the offsite place the site comes back as it was.
func TestOnlyTheOffsiteCopyIsLeft(t *testing.T) {
	t.Parallel()
	for _, kind := range place.Kinds {
		t.Run(kind, func(t *testing.T) {
			w, address := museum(t)
			tree, content := snapshot(t, w.path("htdocs"), "data", "cache/home.html"), rows(t, w)
			s, f := standin(w, kind, nil, "")
			offsiteOnly(w, address, f, "")
			if kind == place.SFTP {
				w.fails(1, []string{"is not known yet", s.Fingerprint, "--trust"}, "backup")
				w.run("stores", "test", "harbour", "--trust")
			}
			s.Close()
			s, _ = standin(w, kind, &place.Faults{DieAfter: 700 << 10}, listenAgain(s.Address))
			w.fails(1, []string{"harbour"}, "backup", "--note", "cut")
			s.Close()
			_, f = standin(w, kind, nil, listenAgain(s.Address))
			assert.NotContains(t, w.run("archives"), "kestrelpoint-", "what was cut off is no archive")
			w.run("backup", "--note", "whole")
			w.run("verify", "--full", "--store", "harbour")
			name := w.newest()
			noneLeftOver(t, w, f)

			loseTheMachine(w)
			out := w.run(append([]string{"stores", "discover", "--name", "harbour"}, f.discover...)...)
			assert.Contains(t, out, name)
			assert.Contains(t, out, "    root: "+w.path("htdocs"), "the very text is shown")
			w.fails(2, []string{"nobody has confirmed", "--root " + w.path("htdocs")}, "restore", "kestrelpoint", "--yes")
			w.fails(2, []string{"not at"}, "restore", "kestrelpoint", "--root", w.path("elsewhere"), "--yes")
			w.run("restore", "kestrelpoint", "--root", w.path("htdocs"), "--yes")
			assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data"))
			w.run("settle", "kestrelpoint", "--unsaved", "--yes")
			w.run("restore", "kestrelpoint", "--yes")
			assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data"))
			assert.Equal(t, content, rows(t, w))
			status, _ := get(t, address+"/")
			assert.Equal(t, 200, status)
			w.run("backup")
			w.run("verify", "--full")
		})
	}
}

// noneLeftOver makes sure that a store holds nothing that no record names.
func noneLeftOver(t *testing.T, w *world, f far) {
	t.Helper()
	named := map[string]bool{"READ-ME-FIRST.txt": true, "KEY-FOR-PASSPHRASE.age": true}
	records, err := filepath.Glob(f.dir + "/kestrelpoint/archives/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, records)
	for _, r := range records {
		data, err := os.ReadFile(r)
		require.NoError(t, err)
		var rec struct{ Parts []storedPart }
		require.NoError(t, json.Unmarshal(data, &rec))
		base := strings.TrimSuffix(filepath.Base(r), ".json")
		named["kestrelpoint/archives/"+base+".json"] = true
		named["kestrelpoint/lists/"+base+".jsonl.zst"], named["kestrelpoint/lists/"+base+".jsonl.zst.age"] = true, true
		for _, p := range rec.Parts {
			named["kestrelpoint/parts/"+p.Name[:2]+"/"+p.Name] = true
		}
	}
	require.NoError(t, filepath.WalkDir(f.dir, func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			rel, _ := filepath.Rel(f.dir, p)
			assert.True(t, named[rel] || rel == "STORE.json" || strings.HasPrefix(rel, ".incoming/"), "%s is named by no record", rel)
		}
		return err
	}))
}

// Several stores at once: one that is down does not spoil the archive for the
// others, and is brought up to date by the next run or by hand.
func TestAStoreThatIsDownIsMadeUpFor(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	s, f := standin(w, place.SFTP, nil, "")
	w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores:\n  here: {folder: ./archives}\n  harbour: %s\nsites:\n  kestrelpoint: {root: ./htdocs, address: %q, stores: [here, harbour]}\n", f.config, address))
	w.run("stores", "test", "harbour", "--trust")
	first := w.run("backup", "--note", "first")
	assert.NotContains(t, first, "Unsafe")
	s.Close()
	out := w.fails(3, []string{"still to come to", "harbour"}, "backup", "--note", "second").out
	assert.Contains(t, out, "stores    here\n")
	w.fails(3, []string{"harbour PENDING"}, "archives")
	w.fails(3, []string{"still to come to"}, "backup", "--note", "third")
	assert.Contains(t, w.run("stores", "list"), "2 archives PENDING")
	w.fails(3, []string{"Not copied", "harbour"}, "stores", "copy")

	_, f = standin(w, place.SFTP, nil, listenAgain(s.Address))
	assert.Equal(t, 2, strings.Count(w.run("stores", "copy"), "Copied:"))
	w.run("archives")
	w.run("verify")
	assert.Contains(t, w.run("stores", "copy"), "Nothing to copy")

	// The next backup catches up by itself.
	require.NoError(t, os.Rename(w.path("far"), w.path("gone")))
	w.write("far", "not a folder")
	w.fails(3, nil, "backup", "--note", "fourth")
	require.NoError(t, os.Remove(w.path("far")))
	require.NoError(t, os.Rename(w.path("gone"), w.path("far")))
	w.run("backup", "--note", "fifth")
	var v struct {
		Reports []struct{ Archive, Store string }
	}
	w.json(&v, "verify")
	assert.Len(t, v.Reports, 10, "five archives in two stores")
	noneLeftOver(t, w, f)

	// A store that comes new is filled with what there is.
	require.NoError(t, os.Mkdir(w.path("third"), 0o700))
	config, err := os.ReadFile(w.path("revlet.yaml"))
	require.NoError(t, err)
	w.write("revlet.yaml", strings.Replace(strings.Replace(string(config), "stores:\n", "stores:\n  third: {folder: ./third}\n", 1), "[here, harbour]", "[here, harbour, third]", 1))
	w.run("stores", "copy", "--to", "third")
	w.run("verify", "--store", "third")
}

// A full far end, one that cuts, lags or drops now and then.
func TestAwkwardPlaces(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	faults := &place.Faults{Room: 300 << 10}
	s, f := standin(w, place.WebDAV, faults, "")
	offsiteOnly(w, address, f, "")
	w.fails(1, []string{"no room left"}, "backup")
	s.Close()

	faults = &place.Faults{Lag: 3 * time.Second, DropAfter: 6 << 20}
	_, f = standin(w, place.WebDAV, faults, listenAgain(s.Address))
	w.fails(1, []string{"listing lags behind"}, "stores", "test")
	w.run("backup", "--note", "its listing lags behind")
	time.Sleep(3200 * time.Millisecond)
	w.run("verify")
	noneLeftOver(t, w, f)
}

// Only what changed is sent again, and what is no longer the site's stays out
// of a restore, with Revlet and by hand.
func TestTheNextArchiveCostsWhatChanged(t *testing.T) {
	t.Parallel()
	openAndEncrypted(t, func(t *testing.T, w *world, key []string) {
		for i := range 400 { // enough for parts to be kept
			w.write(fmt.Sprintf("htdocs/uploads/many/%03d.txt", i), strings.Repeat(fmt.Sprint("lamp ", i, "\n"), 100))
		}
		w.write("htdocs/uploads/becomes-a-folder", "file")
		w.write("htdocs/uploads/becomes-a-file/deep/er", "folder")
		time.Sleep(3100 * time.Millisecond) // younger files are read again, to be sure
		w.run("backup", "--note", "first")
		again := w.run("backup", "--note", "nothing changed")
		fresh := newBytes(w)
		assert.Less(t, fresh, int64(40<<10), again)

		w.write("htdocs/uploads/many/007.txt", "changed")
		require.NoError(t, os.Remove(w.path("htdocs/uploads/many/008.txt")))
		require.NoError(t, os.RemoveAll(w.path("htdocs/uploads/2026")))
		require.NoError(t, os.Remove(w.path("htdocs/uploads/becomes-a-folder")))
		w.write("htdocs/uploads/becomes-a-folder/now", "in it")
		require.NoError(t, os.RemoveAll(w.path("htdocs/uploads/becomes-a-file")))
		w.write("htdocs/uploads/becomes-a-file", "now")
		w.run("backup", "--note", "some changed")
		assert.Less(t, newBytes(w), int64(64<<10))
		w.write("htdocs/uploads/many/009.txt", "changed too")
		w.run("backup", "--note", "and again")
		tree, content := snapshot(t, w.path("htdocs"), "data", "cache/home.html"), rows(t, w)
		w.run(append([]string{"verify"}, key...)...)

		recoverByHand(t, w, "MariaDB", "KEY="+w.path("key.txt"))
		assert.Equal(t, tree, snapshot(t, w.path("recovered/webroot"), "data"))
		breakMuseum(t, w)
		w.run(append([]string{"restore", "kestrelpoint", "--yes"}, key...)...)
		assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data"))
		assert.Equal(t, content, rows(t, w))

		// Lost state, or --fresh, costs one whole archive, never a wrong one.
		require.NoError(t, os.RemoveAll(w.path("state/previous")))
		w.run("backup")
		w.run("backup", "--fresh")
		flip(t, w.path("state/previous/kestrelpoint/files.json"))
		w.run("backup")
		// A part that somebody deletes is made again.
		for _, p := range w.parts("kestrelpoint") {
			require.NoError(t, os.Remove(p.file))
		}
		w.run("backup")
		w.run(append([]string{"verify", w.newest()}, key...)...)
		tree = snapshot(t, w.path("htdocs"), "data", "cache/home.html")
		w.run(append([]string{"restore", "kestrelpoint", "--yes"}, key...)...)
		assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data"))
	})
}

func newBytes(w *world) int64 {
	var l struct {
		Archives []struct {
			New int64 `json:"new_bytes"`
		}
	}
	w.json(&l, "archives")
	return l.Archives[0].New
}

// openAndEncrypted has a test run on a museum whose archives are open, and on one whose are encrypted: key is then how
// the program is told of it.
func openAndEncrypted(t *testing.T, test func(t *testing.T, w *world, key []string)) {
	for _, encrypted := range []bool{false, true} {
		t.Run(fmt.Sprintf("encrypted=%v", encrypted), func(t *testing.T) {
			need(t, "sqlite3")
			w, _ := museum(t)
			if encrypted {
				need(t, "age")
				encrypt(w)
			}
			test(t, w, key(w, encrypted))
		})
	}
}

// encrypt has new archives encrypted for a key in key.txt.
func encrypt(w *world) (recipient string) {
	var k struct{ Recipient string }
	w.json(&k, "keys", "new", "key.txt")
	config, err := os.ReadFile(w.path("revlet.yaml"))
	require.NoError(w.t, err)
	w.write("revlet.yaml", string(config)+"encrypt: {to: ["+k.Recipient+"]}\n")
	return k.Recipient
}

func key(w *world, encrypted bool) []string {
	if encrypted {
		return []string{"--key", w.path("key.txt")}
	}
	return nil
}

func TestNobodyElseCanReadIt(t *testing.T) {
	t.Parallel()
	need(t, "age", "sqlite3")
	w, _ := museum(t)
	encrypt(w)
	tree := snapshot(t, w.path("htdocs"), "data", "cache/home.html")
	w.fails(0, []string{"keys check"}, "preflight")
	w.run("backup", "--note", "a secret note")
	secrets := []string{"a secret note", "opening_hours", "keepers_log", "Opening hours", "lantern", "lens.svg", "uploads", "webroot", "museum.db", "htdocs", w.dir}
	require.NoError(t, filepath.WalkDir(w.path("archives"), func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() == "READ-ME-FIRST.txt" {
			return err
		}
		data, err := os.ReadFile(p)
		for _, s := range secrets {
			assert.False(t, bytes.Contains(data, []byte(s)) || strings.Contains(p, "archives/"+s), "%q in %s", s, p)
		}
		return err
	}))

	// On its own machine the listing stays readable; elsewhere it takes the key.
	assert.Contains(t, w.run("archives"), "a secret note")
	require.NoError(t, os.RemoveAll(w.path("state")))
	assert.NotContains(t, w.run("archives"), "a secret note")
	assert.Contains(t, w.run("archives", "--key", "key.txt"), "a secret note")
	w.run("verify", "--quick")
	assert.Contains(t, w.run("verify"), "digests", "without the key, the stored bytes can be compared")
	w.fails(1, []string{"encrypted", "--key"}, "verify", "--full")
	w.fails(1, []string{"encrypted", "--key"}, "restore", "kestrelpoint", "--yes")
	w.run("keys", "new", "other.txt")
	w.fails(1, []string{"another key"}, "restore", "kestrelpoint", "--yes", "--key", "other.txt")
	w.fails(4, []string{"Does not open"}, "keys", "check", "other.txt")
	w.fails(1, []string{"exists"}, "keys", "new", "other.txt")
	assert.Contains(t, w.run("keys", "check", "key.txt"), "Works:")
	assert.NotContains(t, w.run("preflight"), "keys check")
	assert.Contains(t, w.run("verify", "--key", "key.txt"), "full")

	recoverByHand(t, w, "MariaDB", "KEY="+w.path("key.txt"))
	assert.Equal(t, tree, snapshot(t, w.path("recovered/webroot"), "data"))
	flip(t, w.parts("kestrelpoint")[0].file)
	w.fails(4, []string{"DAMAGED"}, "verify", "--digests")
	w.fails(4, []string{"DAMAGED"}, "verify", "--key", "key.txt")
}

func TestAPassphraseIsEnough(t *testing.T) {
	w, _ := museum(t)
	w.write("words", "four lamps beyond the fog\n")
	t.Setenv("REVLET_PASSPHRASE_FILE", w.path("words"))
	var k struct{ Recipient string }
	w.json(&k, "keys", "new", "locked.age", "--passphrase")
	config, err := os.ReadFile(w.path("revlet.yaml"))
	require.NoError(t, err)
	w.write("revlet.yaml", string(config)+"encrypt: {to: ["+k.Recipient+"], passphrase_key: ./locked.age}\n")
	tree := snapshot(t, w.path("htdocs"), "data", "cache/home.html")
	w.run("backup")
	assert.FileExists(t, w.path("archives/KEY-FOR-PASSPHRASE.age"))
	require.NoError(t, os.RemoveAll(w.path("state")))
	require.NoError(t, os.Remove(w.path("locked.age")))
	breakMuseum(t, w)
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data"))
	w.write("words", "three lamps beyond the fog\n")
	w.fails(1, []string{"passphrase does not open"}, "restore", "kestrelpoint", "--yes")
	w.write("words", "short")
	w.fails(2, []string{"at least"}, "keys", "new", "second.age", "--passphrase")
}

func TestHealPutsSoundCopiesBack(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	_, f := standin(w, place.FTP, nil, "")
	w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores:\n  here: {folder: ./archives}\n  harbour: %s\nsites:\n  kestrelpoint: {root: ./htdocs, address: %q, stores: [here, harbour]}\n", f.config, address))
	for i := range 6 {
		w.write(fmt.Sprintf("htdocs/uploads/%d.txt", i), strings.Repeat(fmt.Sprint(i), 5000+i))
		w.run("backup", "--fresh")
	}
	parts, err := filepath.Glob(f.dir + "/kestrelpoint/parts/*/*")
	require.NoError(t, err)
	require.Greater(t, len(parts), 12)
	flip(t, parts[0])
	require.NoError(t, os.Truncate(parts[len(parts)/2], 100))
	require.NoError(t, os.Remove(parts[len(parts)-1]))
	lists, err := filepath.Glob(f.dir + "/kestrelpoint/lists/*")
	require.NoError(t, err)
	require.NoError(t, os.Remove(lists[0]))
	records, err := filepath.Glob(f.dir + "/kestrelpoint/archives/*")
	require.NoError(t, err)
	require.NoError(t, os.Truncate(records[1], 20))

	w.fails(4, []string{"DAMAGED", "stores heal"}, "verify", "--store", "harbour")
	assert.Equal(t, 5, strings.Count(w.run("stores", "heal", "harbour"), "Healed:"), "three parts, a list and a record")
	w.run("verify")
	w.run("archives")
	assert.Contains(t, w.run("stores", "heal", "harbour"), "Nothing to heal: everything of the 6 archives of kestrelpoint in harbour is sound.")
	assert.NotContains(t, w.run("stores", "heal", "harbour", "--quick"), "sound", "lengths say nothing of that")

	// A part that verify has found damaged is not relied on: the next backup that
	// needs it writes it again.
	flip(t, w.parts("kestrelpoint")[1].file)
	w.fails(4, []string{"DAMAGED"}, "verify", "--store", "here")
	w.run("backup")
	w.run("verify")

	// What no store has sound stays damaged, and is said to be.
	damaged := strings.Replace(parts[0], f.dir, w.path("archives"), 1)
	flip(t, parts[0])
	flip(t, damaged)
	w.fails(4, []string{"Still damaged"}, "stores", "heal", "harbour")
}

// A store that was copied by other means, one folder too deep, or the folder of
// one site alone.
func TestDiscoverFindsWhatOthersHavePutThere(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	tree := snapshot(t, w.path("htdocs"), "data", "cache/home.html")
	require.NoError(t, os.MkdirAll(w.path("stick/copy"), 0o755))
	require.NoError(t, exec.Command("cp", "-r", w.path("archives/kestrelpoint"), w.path("stick/copy/")).Run())
	w.run("export", "kestrelpoint", w.path("stick/copy/by-hand.zip"))
	loseTheMachine(w)
	w.fails(2, []string{`"copy"`}, "stores", "discover", "stick")
	w.fails(2, []string{"the folder above"}, "stores", "discover", "stick/copy/kestrelpoint")
	w.fails(1, []string{"No archives are in"}, "stores", "discover", t.TempDir())
	out := w.run("stores", "discover", "stick/copy")
	assert.Contains(t, out, "by-hand.zip")
	assert.Contains(t, out, "revlet import")
	w.run("restore", "kestrelpoint", "--root", w.path("htdocs"), "--yes")
	assert.Equal(t, tree, snapshot(t, w.path("htdocs"), "data"))
}
