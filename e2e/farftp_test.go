package e2e

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"

	"revlet/internal/practice/place"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pyFTPd runs another real FTP server, whose account sees the world's folder; most is how many
// connections it takes, those for data included. An old one knows what RFC 959 has, and nothing more.
func pyFTPd(t *testing.T, w *world, most int, old bool) (port int) {
	const python = "/usr/bin/python3"
	if err := exec.Command(python, "-c", "import pyftpdlib").Run(); err != nil {
		t.Skip("python3-pyftpdlib is not installed; scripts/setup.sh installs it")
	}
	port = freePort(t)
	kind := map[bool]string{true: "old", false: "new"}[old]
	start(t, listens(port), python, "testdata/ftpd.py", fmt.Sprint(port), w.dir, fmt.Sprint(most), kind)
	return port
}

// ftpSite is a place of the museum behind an FTP server.
type ftpSite struct {
	root  string
	reach string
	// told is what can be told of a tree there, and kept.
	told func(is string) string
}

// exact keeps all that FTP can tell, contentOnly what a file holds.
func exact(is string) string { return is }

var modeAndTime = regexp.MustCompile(`^\S+| \S+Z?$`)

func contentOnly(is string) string {
	return modeAndTime.ReplaceAllString(is, "")
}

var ftpSites = map[string]func(t *testing.T, w *world) ftpSite{
	"proftpd with TLS": func(t *testing.T, w *world) ftpSite {
		port := proftpd(t, w, true)
		return ftpSite{fmt.Sprintf("ftp://keeper@127.0.0.1:%d%s", port, w.path("htdocs")), fmt.Sprintf("password_file: %s, ca_file: %s", w.path("ftp.pw"), w.path("ftp/cert.pem")), exact}
	},
	"two connections": func(t *testing.T, w *world) ftpSite {
		return ftpSite{fmt.Sprintf("plain-ftp://keeper@127.0.0.1:%d/htdocs", pyFTPd(t, w, 4, false)), "password_file: " + w.path("ftp.pw"), exact}
	},
	"an old one with one connection": func(t *testing.T, w *world) ftpSite {
		return ftpSite{fmt.Sprintf("plain-ftp://keeper@127.0.0.1:%d/htdocs", pyFTPd(t, w, 2, true)), "password_file: " + w.path("ftp.pw"), contentOnly}
	},
}

// A site over FTP is saved as it is, as far as FTP tells, and its files come back.
func TestASiteOverFTP(t *testing.T) {
	t.Parallel()
	for name, open := range ftpSites {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w, _ := museum(t)
			require.NoError(t, os.Remove(w.path("htdocs/uploads/2026/a name with\nnewline")))
			w.write("ftp.pw", "practice\n")
			require.NoError(t, os.Chmod(w.path("ftp.pw"), 0o600))
			s := open(t, w)
			w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: %q, stores: [here], reach: {%s}}\n", s.root, s.reach))
			out := w.run("preflight")
			assert.Contains(t, out, "is reached")
			assert.Contains(t, out, "one in a folder, and can be read")
			assert.NotContains(t, out, "begins with a dot")
			if strings.HasPrefix(s.root, "plain-ftp") {
				out = w.run("--config", w.path("adopted.yaml"), "adopt", s.root, "--name", "adopted", "--store", w.path("archives-adopted"), "--password-file", w.path("ftp.pw"))
				assert.Contains(t, out, "Lampblack")
				assert.Contains(t, w.read("adopted.yaml"), s.root)
			}
			good, content := ftpTree(t, w, s), rows(t, w)
			w.run("backup")
			w.run("verify", "--full")
			w.run("rehearse")
			to := filepath.Join(t.TempDir(), "out")
			w.run("extract", "kestrelpoint", "**", "--to", to)
			assert.Equal(t, good, ftpTreeOf(t, to, s))

			breakMuseum(t, w)
			bad := ftpTree(t, w, s)
			r := w.try("compare", "kestrelpoint")
			assert.Equal(t, 4, r.code, r.out+r.err)
			assert.Contains(t, r.out, "uploads/planted.php")
			out = w.run("restore", "kestrelpoint", "--yes")
			assert.Contains(t, out, "was set aside")
			assert.Equal(t, good, ftpTree(t, w, s))
			assert.Equal(t, content, rows(t, w))
			w.run("undo", "kestrelpoint", "--yes")
			assert.Equal(t, bad, ftpTree(t, w, s))
			w.try("restore", "kestrelpoint", "--path", "themes/**", "--yes")
			assert.FileExists(t, w.path("htdocs/themes/lantern/style.css"))
			assert.FileExists(t, w.path("htdocs/uploads/planted.php"))
			w.run("settle", "kestrelpoint", "--yes", "--unsaved")
			assert.Empty(t, leftBeside(t, w))
			if name != "two connections" {
				return
			}
			w.run("restore", "kestrelpoint", "--yes")
			w.run("settle", "kestrelpoint", "--yes", "--unsaved")
			breakMuseum(t, w)
			require.NoError(t, os.WriteFile(w.path("htdocs/robots.txt"), []byte("other, and of another time"), 0o644))
			bad = ftpTree(t, w, s)
			r = w.try("restore", "kestrelpoint", "--path", "**", "--trust-times", "--yes")
			m := regexp.MustCompile(`note: (\d+) of (\d+) files have the archive's length and time`).FindStringSubmatch(r.err)
			require.NotNil(t, m, r.out+r.err)
			assert.NotEqual(t, m[1], m[2], "what differs was sent")
			assert.Equal(t, good, ftpTree(t, w, s))
			w.run("undo", "kestrelpoint", "--yes")
			assert.Equal(t, bad, ftpTree(t, w, s))
			w.fails(2, []string{"--path '**'"}, "restore", "kestrelpoint", "--only", "files", "--trust-times", "--yes")
			w.run("restore", "kestrelpoint", "--yes")
			w.run("settle", "kestrelpoint", "--yes", "--unsaved")
			require.NoError(t, os.Remove(w.path("htdocs/uploads/current")))
			r = w.fails(4, []string{"uploads/current → 2026", "cannot be made"}, "restore", "kestrelpoint", "--yes")
			w.run("settle", "kestrelpoint", "--yes", "--unsaved")
			assert.Empty(t, leftBeside(t, w))
		})
	}
}

func ftpTree(t *testing.T, w *world, s ftpSite) map[string]string {
	return ftpTreeOf(t, w.path("htdocs"), s)
}

// ftpTreeOf is a folder as FTP can tell of it: no owners, no times of folders or links, and no
// files with several names.
func ftpTreeOf(t *testing.T, dir string, s ftpSite) map[string]string {
	all := snapshot(t, dir)
	for name, is := range all {
		if name == "." || strings.HasPrefix(name, "data") || strings.HasPrefix(name, "cache") {
			delete(all, name)
			continue
		}
		is = fraction.ReplaceAllString(untold.ReplaceAllString(is, ""), "")
		fields := strings.Fields(is)
		fields[1] = "-"
		if strings.HasPrefix(is, "d") || strings.HasPrefix(is, "L") {
			fields = fields[:len(fields)-1]
		}
		kept := fields[:0]
		for _, f := range fields {
			if !strings.HasPrefix(f, "links=") {
				kept = append(kept, f)
			}
		}
		all[name] = s.told(strings.Join(kept, " "))
	}
	return all
}

// What a listing says of rights is not what an account has: some files are opened before an archive is to be taken.
func TestPreflightOpensFilesElsewhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var shut atomic.Value
	shut.Store("")
	s, _ := standin(w, place.FTP, &place.Faults{Fail: func(op, name string) error {
		if op == "open" && shut.Load() != "" && strings.Contains(name, shut.Load().(string)) && path.Ext(name) != "" {
			return fs.ErrPermission
		}
		return nil
	}}, "")
	require.NoError(t, os.Mkdir(w.path("archives"), 0o700))
	for _, name := range []string{"index.php", "themes/lantern.css", "uploads/lamp.jpg", "uploads/lens.jpg"} {
		w.write("far/htdocs/"+name, "of the museum")
	}
	w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: %q, recipe: none, stores: [here], reach: {password_file: far.pw, ca_file: farkeys/certificate.pem}}\n", s.Address+"htdocs"))
	assert.Contains(t, w.run("preflight"), "3 of them were opened, one in a folder, and can be read")
	shut.Store("uploads/")
	assert.Contains(t, w.run("preflight"), "1 of 3 files that were opened over there cannot be read, and would be gaps: uploads/l")
	shut.Store(".")
	assert.Contains(t, w.fails(1, nil, "preflight").out, "of the files that were opened over there not one can be read")
}
