package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/signing"
)

// reforge reads a record in the store, changes it, and lays it there again, signed with a
// key or with none.
func (w *world) reforge(name string, key *signing.Key, change func(*archive.Record)) string {
	w.t.Helper()
	data, err := os.ReadFile(w.path("archives/kestrelpoint/archives", name+".json"))
	require.NoError(w.t, err)
	rec, err := archive.DecodeRecord(data)
	require.NoError(w.t, err)
	change(rec)
	data, err = rec.Encode(key)
	require.NoError(w.t, err)
	require.NoError(w.t, os.WriteFile(w.path("archives/kestrelpoint/archives", rec.Name+".json"), data, 0o600))
	return rec.Name
}

// signer is the key that has signed an archive.
func (w *world) signer(name string) signing.Public {
	w.t.Helper()
	rec, err := archive.DecodeRecord([]byte(w.read("archives/kestrelpoint/archives/" + name + ".json")))
	require.NoError(w.t, err)
	return rec.Signer()
}

// later gives a record the name of a later archive. The list is laid under that name, too.
func (w *world) later(by time.Duration) func(*archive.Record) {
	return func(rec *archive.Record) {
		list := filepath.FromSlash(rec.ListPath())
		rec.Taken = rec.Taken.Add(by)
		rec.Name = archive.NewName(rec.Site, rec.Taken)
		data, err := os.ReadFile(filepath.Join(w.path("archives"), list))
		require.NoError(w.t, err)
		require.NoError(w.t, os.WriteFile(filepath.Join(w.path("archives"), filepath.FromSlash(rec.ListPath())), data, 0o600))
	}
}

// Every way to put an archive of one's own into the store was taken for good.
func TestOnlySignedArchivesAreRestored(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	real := w.newest()
	w.write("htdocs/uploads/news.txt", "the real site")
	w.run("backup")
	newest := w.newest()
	before := snapshot(t, w.path("htdocs"))
	stranger, err := signing.Generate()
	require.NoError(t, err)
	keep := func() map[string][]byte { // what the store had
		kept := map[string][]byte{}
		files, err := filepath.Glob(w.path("archives/kestrelpoint/archives/*.json"))
		require.NoError(t, err)
		for _, f := range files {
			kept[f], err = os.ReadFile(f)
			require.NoError(t, err)
		}
		return kept
	}()
	for name, attack := range map[string]struct {
		key    *signing.Key
		of     string
		change func(*archive.Record)
	}{
		"an old one as the newest, unsigned":      {nil, real, w.later(time.Hour)},
		"an old one as the newest, by a stranger": {stranger, real, w.later(time.Hour)},
		"the newest without its signature":        {nil, newest, func(*archive.Record) {}},
		"the newest by a stranger":                {stranger, newest, func(*archive.Record) {}},
		"a part less":                             {stranger, newest, func(r *archive.Record) { r.Totals.StoredBytes -= r.Parts[0].Bytes; r.Parts = r.Parts[1:] }},
	} {
		forged := w.reforge(attack.of, attack.key, attack.change)
		w.fails(1, []string{"nobody known here has signed it", "--signed-by"}, "restore", forged, "--yes")
		w.fails(1, []string{"nobody known here has signed it"}, "extract", forged, "--to", w.path("out"), "settings.php")
		w.fails(4, []string{"nobody known here has signed it"}, "verify")
		w.fails(4, []string{"nobody known here has signed it"}, "archives")
		w.run("restore", "kestrelpoint", "--dry-run") // the newest good one is another
		assert.Equal(t, before, snapshot(t, w.path("htdocs")), name)
		files, err := filepath.Glob(w.path("archives/kestrelpoint/archives/*.json"))
		require.NoError(t, err)
		for _, f := range files {
			require.NoError(t, os.Remove(f))
		}
		for f, data := range keep {
			require.NoError(t, os.WriteFile(f, data, 0o600))
		}
	}
	assert.Contains(t, w.run("verify"), "Signed by this machine, SHA256:")
}

// Whoever asks for it by name gets an archive that nobody known has signed, and that one
// only.
func TestAStrangersArchiveIsTakenByName(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	stranger, err := signing.Generate()
	require.NoError(t, err)
	name := w.reforge(w.newest(), stranger, func(*archive.Record) {})
	said := w.fails(1, []string{stranger.Public().Fingerprint(), string(stranger.Public())}, "restore", name, "--yes")
	assert.Contains(t, said.err, "signed_by:")
	w.fails(1, []string{"nobody known here"}, "restore", name, "--yes", "--signed-by", "nobody")
	w.fails(1, []string{"nobody known here"}, "restore", name, "--yes", "--signed-by", "SHA256:AAAA")
	out := w.run("restore", name, "--yes", "--signed-by", stranger.Public().Fingerprint())
	assert.Contains(t, out, "signed by")
	w.run("undo", "kestrelpoint", "--yes") // what was accepted once stays so
	w.run("show", name)

	unsigned := w.reforge(name, nil, w.later(time.Minute))
	w.fails(2, []string{"by its whole name only"}, "restore", "kestrelpoint", "--yes", "--signed-by", "nobody")
	w.run("restore", unsigned, "--yes", "--signed-by", "nobody")
}

// Another machine that is named in the configuration is believed; one that is not there any
// more is not.
func TestSignersOfTheConfiguration(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	other, err := signing.Generate()
	require.NoError(t, err)
	name := w.reforge(w.newest(), other, w.later(time.Minute))
	w.fails(4, []string{"nobody known here"}, "archives")
	text, err := os.ReadFile(w.path("revlet.yaml"))
	require.NoError(t, err)
	with := strings.Replace(string(text), "    stores:", "    signed_by: [\""+string(other.Public())+" keeper@harbour\"]\n    stores:", 1)
	require.NotEqual(t, string(text), with)
	w.write("revlet.yaml", with)
	assert.Contains(t, w.run("show", name), "named in the configuration")
	assert.Contains(t, w.run("keys", "signers"), other.Public().Fingerprint())
	w.write("revlet.yaml", strings.Replace(with, "ssh-ed25519 ", "ssh-rsa ", 1))
	w.fails(2, []string{"revlet.yaml:", "no public key"}, "archives")
}

// A new machine believes the keys that it finds on the first day, shows and pins them; what
// comes later by another does not count.
func TestTheFirstSightOfAStoreIsPinned(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	name, key := w.newest(), w.signingKey()
	require.NoError(t, os.Rename(w.path("state"), w.path("old-state")))
	w.write("revlet.yaml", "state: ./state\n")
	found := w.run("stores", "discover", "./archives", "--name", "here")
	assert.Contains(t, found, "1 archive signed by "+key.Public().Fingerprint())
	text, err := os.ReadFile(w.path("revlet.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(text), string(key.Public()), "pinned")
	assert.Contains(t, w.run("verify"), key.Public().Fingerprint())
	stranger, err := signing.Generate()
	require.NoError(t, err)
	forged := w.reforge(name, stranger, w.later(time.Minute))
	w.fails(1, []string{"nobody known here"}, "restore", forged, "--yes")

	// Without a pin it is the state that remembers.
	require.NoError(t, os.RemoveAll(w.path("state")))
	require.NoError(t, os.Remove(w.path("archives/kestrelpoint/archives", forged+".json")))
	lines := strings.Split(string(text), "\n")
	for i := range lines {
		if strings.Contains(lines[i], "signed_by:") {
			lines[i] = ""
		}
	}
	w.write("revlet.yaml", strings.Join(lines, "\n"))
	assert.Contains(t, w.try("archives").err, "are taken from now on")
	assert.NotContains(t, w.try("archives").err, "are taken from now on", "told once")
	w.reforge(name, stranger, w.later(time.Minute))
	w.fails(4, []string{"nobody known here"}, "archives")
}

// Archives that somebody has made up pushed the real ones out: they counted as newer.
func TestForgedArchivesPushNothingOut(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.write("revlet.yaml", strings.Replace(w.read("revlet.yaml"), "    stores:", "    keep: [newest 1]\n    stores:", 1))
	w.run("backup")
	real := w.newest()
	for i := range 3 {
		w.reforge(real, nil, w.later(time.Duration(i+1)*time.Minute))
	}
	w.try("retention", "kestrelpoint", "--apply")
	w.try("due")
	assert.FileExists(t, w.path("archives/kestrelpoint/archives", real+".json"))
	w.fails(4, []string{"nobody known here"}, "archives")
	w.fails(4, []string{"Alarm: kestrelpoint/forged"}, "status")
	w.run("status", "--accept", "kestrelpoint/forged", "--why", "they are a test")
	w.try("archives")
	assert.NotContains(t, w.try("status").out, "Alarm: kestrelpoint/forged", "it was accepted, and nothing has come since")
	forged, err := filepath.Glob(w.path("archives/kestrelpoint/archives/*.json"))
	require.NoError(t, err)
	for _, f := range forged {
		if !strings.Contains(f, real) {
			require.NoError(t, os.Remove(f))
		}
	}
	w.run("archives")
	assert.NotContains(t, w.try("status").out, "forged")
}

// A person checks with OpenSSH's tool who has signed a record.
func TestARecordIsCheckedByHand(t *testing.T) {
	t.Parallel()
	need(t, "ssh-keygen")
	w, _ := museum(t)
	w.run("backup")
	name := w.newest()
	guide, err := os.ReadFile("../docs/RECOVERY-BY-HAND.md")
	require.NoError(t, err)
	_, script, ok := strings.Cut(string(guide), "<!-- check a signature -->\n```sh\n")
	require.True(t, ok)
	script, _, _ = strings.Cut(script, "```")
	check := func() ([]byte, error) {
		cmd := exec.Command("sh", "-euc", script)
		cmd.Env = append(os.Environ(), "STORE="+w.path("archives"), "SITE=kestrelpoint", "ARCHIVE="+name, "TARGET="+t.TempDir(), "SIGNER="+string(w.signingKey().Public()))
		return cmd.CombinedOutput()
	}
	out, err := check()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "Good")
	file := "archives/kestrelpoint/archives/" + name + ".json"
	w.write(file, strings.Replace(w.read(file), `"format": 1`, `"format": 2`, 1))
	_, err = check()
	assert.Error(t, err)
}

// Between adopting a site and its first backup somebody has put archives into the store:
// they were there when the machine first looked.
func TestAnAdoptedSiteIsKnownFromItsFirstMoment(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	stranger, err := signing.Generate()
	require.NoError(t, err)
	forged := w.reforge(w.newest(), stranger, w.later(-time.Minute))
	laid := w.read("archives/kestrelpoint/archives/" + forged + ".json")
	for _, gone := range []string{"archives/kestrelpoint/archives", "state", "revlet.yaml"} {
		require.NoError(t, os.RemoveAll(w.path(gone)))
	}
	w.write("revlet.yaml", "state: ./state\n")
	w.run("adopt", "htdocs", "--store", w.path("archives"), "--name", "kestrelpoint")
	w.write("archives/kestrelpoint/archives/"+forged+".json", laid)
	r := w.try("backup")
	assert.NotContains(t, r.err, "taken from now on")
	w.fails(4, []string{"nobody known here has signed it"}, "archives")
	w.fails(1, []string{"nobody known here has signed it"}, "restore", forged, "--yes")
}
