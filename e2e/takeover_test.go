package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"revlet/internal/practice/place"
)

// keeper is a machine of its own with full rights on the same place.
func keeper(w *world, f far, key string) func(code int, words []string, args ...string) {
	w.write("keeper/revlet.yaml", fmt.Sprintf("state: ./state\nstores:\n  harbour: %s\nsites:\n  kestrelpoint: {root: /nowhere/htdocs, recipe: none, stores: [harbour], keep: [newest 2], signed_by: [%q]}\n", f.config, key))
	return func(code int, words []string, args ...string) {
		w.t.Helper()
		w.fails(code, words, append([]string{"--config", w.path("keeper/revlet.yaml")}, args...)...)
	}
}

// With all that is on the site's machine, nothing older than now can be lost, or changed
// unnoticed: by every protocol, as an intruder who has the account tries it.
func TestAMachineThatIsTakenOverDestroysNothing(t *testing.T) {
	t.Parallel()
	for _, kind := range place.Kinds {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			w, address := museum(t)
			s, f := standin(w, kind, &place.Faults{AppendOnly: true}, "")
			plain := f.config
			f.config = strings.TrimSuffix(plain, "}") + ", keeper: elsewhere, keep: [newest 2]}"
			offsiteOnly(w, address, f, "")
			if kind == place.SFTP {
				w.run("stores", "test", "harbour", "--trust")
			}
			assert.Contains(t, w.run("stores", "test"), "could neither delete nor overwrite")
			for i := range 3 {
				w.write("htdocs/uploads/news.txt", strings.Repeat("news ", i+1))
				w.run("backup")
			}
			w.run("verify")
			w.run("check")
			assert.Contains(t, w.run("retention", "--apply"), "the store's keeper removes there")
			var l struct{ Archives []struct{ Name string } }
			w.json(&l, "archives")
			require.Len(t, l.Archives, 3, "this machine removes nothing")
			tree := snapshot(t, w.path("htdocs"), "data", "cache/home.html")

			// The keeper, elsewhere, removes what goes; that is no alarm here.
			key := string(w.signingKey().Public())
			s.Close()
			full, ff := standin(w, kind, nil, listenAgain(s.Address))
			keep := keeper(w, ff, key)
			if kind == place.SFTP {
				keep(0, []string{"Works:"}, "stores", "test", "harbour", "--trust")
			}
			keep(0, []string{"1 archive"}, "retention", "kestrelpoint", "--apply")
			keep(0, []string{"sound"}, "verify", "--quick")
			full.Close()
			_, _ = standin(w, kind, &place.Faults{AppendOnly: true}, listenAgain(s.Address))
			w.json(&l, "archives")
			require.Len(t, l.Archives, 2)
			assert.NotContains(t, w.try("status").out, "vanished", "the rules let it go")

			// The intruder has the account, the keys and the program.
			w.write("evil.yaml", fmt.Sprintf("state: ./state\nstores:\n  harbour: %s\nsites:\n  kestrelpoint: {root: ./htdocs, address: %q, stores: [harbour], keep: [newest 1]}\n", plain, address))
			w.try("--config", w.path("evil.yaml"), "retention", "kestrelpoint", "--apply")
			w.try("--config", w.path("evil.yaml"), "stores", "test")
			require.NoError(t, os.RemoveAll(w.path("state")))
			require.NoError(t, os.RemoveAll(w.path("htdocs")))

			full2, ff := standin(w, kind, nil, "")
			defer full2.Close()
			keep = keeper(w, ff, key)
			if kind == place.SFTP {
				keep(0, []string{"Works:"}, "stores", "test", "harbour", "--trust")
			}
			keep(0, []string{"sound", "Signed by " + w.fingerprint(key)}, "verify", "--full")
			keep(0, nil, "restore", l.Archives[0].Name, "--dry-run", "--only", "files", "--root", "/nowhere/htdocs")
			keep(0, nil, "extract", l.Archives[0].Name, "--to", w.path("back"), "**")
			back := snapshot(t, w.path("back"), "data", "cache/home.html")
			delete(tree, ".") // the folder that was extracted into
			delete(back, ".")
			assert.Equal(t, tree, back)
		})
	}
}

// fingerprint is that of a public key.
func (w *world) fingerprint(key string) string {
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(key))
	require.NoError(w.t, err)
	return ssh.FingerprintSHA256(public)
}

// The recipe of docs/SECURITY.md for an account of OpenSSH that may only add, with the real
// server: everything works, and an intruder with the key can neither delete nor change.
func TestAnAccountOfOpenSSHThatMayOnlyAdd(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("another account takes root")
	}
	w, address := museum(t)
	port := sshd(t, w)
	guide, err := os.ReadFile("../docs/SECURITY.md")
	require.NoError(t, err)
	_, command, ok := strings.Cut(string(guide), "ForceCommand ")
	require.True(t, ok)
	command, rest, _ := strings.Cut(command, "\n")
	_, script, ok := strings.Cut(rest, "```sh\n")
	require.True(t, ok)
	script, _, _ = strings.Cut(script, "```")
	config := w.read("ssh/config")
	w.write("ssh/config2", strings.Replace(config, fmt.Sprintf("Port %d", port), fmt.Sprintf("Port %d", freePort(t)), 1)+"Match User nobody\n    ForceCommand "+command+"\n")
	port2 := 0
	_, err = fmt.Sscanf(w.read("ssh/config2"), "Port %d", &port2)
	require.NoError(t, err)
	binary, err := exec.LookPath("sshd")
	require.NoError(t, err)
	start(t, listens(port2), binary, "-D", "-e", "-f", w.path("ssh/config2"))
	sh(t, fmt.Sprintf("cd %s && chmod 755 ssh && chmod 644 ssh/authorized && export STORE=%[1]s/kept/revlet ACCOUNT=nobody && sh -euc '%[2]s' && p=%[1]s; while [ $p != / ]; do chmod o+x $p; p=$(dirname $p); done", w.dir, strings.ReplaceAll(script, "'", `'"'"'`)))
	f := far{config: fmt.Sprintf("{sftp: \"sftp://nobody@127.0.0.1:%d%s/revlet\", key_file: %s, keeper: elsewhere}", port2, w.path("kept"), w.path("ssh/id"))}
	offsiteOnly(w, address, f, "")
	assert.Contains(t, w.run("stores", "test", "harbour", "--trust"), "could neither delete nor overwrite")
	w.run("backup")
	w.write("htdocs/uploads/news.txt", "news")
	w.run("backup")
	w.run("verify", "--full")
	before := contents(t, w.path("kept/revlet/kestrelpoint"))

	client := dialSFTP(t, w, port2)
	for name := range before {
		file := w.path("kept/revlet/kestrelpoint", name)
		assert.Error(t, client.Remove(file), name)
		assert.Error(t, client.Truncate(file, 0), name)
		assert.Error(t, client.Chmod(file, 0o600), name)
		_, err := client.OpenFile(file, os.O_WRONLY)
		assert.Error(t, err, name)
		_, err = client.Create(file)
		assert.Error(t, err, name)
		assert.Error(t, client.PosixRename(w.path("kept/revlet/STORE.json"), file), name)
		assert.Error(t, client.Rename(w.path("kept/revlet/STORE.json"), file), name)
	}
	assert.Equal(t, before, contents(t, w.path("kept/revlet/kestrelpoint")))
	w.run("verify", "--full")
}

func dialSFTP(t *testing.T, w *world, port int) *sftp.Client {
	key, err := os.ReadFile(w.path("ssh/id"))
	require.NoError(t, err)
	signer, err := ssh.ParsePrivateKey(key)
	require.NoError(t, err)
	conn, err := ssh.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port), &ssh.ClientConfig{User: "nobody", Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	client, err := sftp.NewClient(conn)
	require.NoError(t, err)
	return client
}

// contents maps the files below a folder to what is in them.
func contents(t *testing.T, dir string) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(p)
		rel, _ := filepath.Rel(dir, p)
		all[rel] = string(data)
		return err
	}))
	return all
}

// With ordinary rights archives can be deleted. That is noticed.
func TestArchivesThatVanishAreAnAlarm(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	w.write("htdocs/uploads/news.txt", "news")
	w.run("backup")
	newest := w.newest()
	record := w.path("archives/kestrelpoint/archives", newest+".json")
	data, err := os.ReadFile(record)
	require.NoError(t, err)
	require.NoError(t, os.Remove(record))
	w.write("htdocs/uploads/news.txt", "more news")
	w.run("backup")
	w.fails(4, []string{"vanished", newest + " is gone from here"}, "status")
	require.NoError(t, os.WriteFile(record, data, 0o600))
	w.run("archives")
	assert.NotContains(t, w.try("status").out, "vanished", "it is back")
	require.NoError(t, os.Remove(record))
	w.try("archives")
	w.run("status", "--accept", "kestrelpoint/vanished", "--why", "I did it")
	assert.NotContains(t, w.try("status").out, "vanished")
}
