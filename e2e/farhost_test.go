package e2e

import (
	"crypto/rand"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"revlet/internal/practice/line"
)

// farHost is a machine of its own: a network namespace with a real sshd in it. Its loopback
// is reached from nowhere else.
type farHost struct {
	name, ip string
	port     int
	// through counts the connections to what was forwarded inside.
	through atomic.Int64
}

var farHosts atomic.Int64

// newFarHost starts one; more are lines of sshd's configuration.
func newFarHost(t *testing.T, w *world, more ...string) *farHost {
	t.Helper()
	need(t, "ip", "sshd", "ssh-keygen")
	n := farHosts.Add(1)
	subnet := fmt.Sprintf("10.%d.%d", 64+os.Getpid()%160, n) // another run of the tests has another one
	h := &farHost{name: fmt.Sprintf("rvfar%d-%d", os.Getpid()%10000, n), ip: subnet + ".2", port: 2222}
	near := fmt.Sprintf("rv%dn%d", os.Getpid()%10000, n)
	if out, err := exec.Command("ip", "netns", "add", h.name).CombinedOutput(); err != nil {
		t.Skipf("no network namespace can be made here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", h.name).Run() })
	sh(t, fmt.Sprintf(`set -e; ip link add %[1]s type veth peer name %[1]sf; ip link set %[1]sf netns %[2]s; ip addr add %[3]s.1/30 dev %[1]s; ip link set %[1]s up
		ip netns exec %[2]s sh -c 'ip addr add %[4]s/30 dev %[1]sf; ip link set %[1]sf up; ip link set lo up'`, near, h.name, subnet, h.ip))
	sh(t, fmt.Sprintf(`cd %s && mkdir -p ssh && ssh-keygen -q -t ed25519 -N '' -f ssh/host && ssh-keygen -q -t ed25519 -N '' -f ssh/id && cat ssh/id.pub > ssh/authorized && chmod 600 ssh/* && mkdir -p /run/sshd`, w.dir))
	w.write("ssh/config", fmt.Sprintf("Port %d\nListenAddress %s\nHostKey %[3]s/ssh/host\nAuthorizedKeysFile %[3]s/ssh/authorized\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nUsePAM no\nStrictModes no\nPermitRootLogin yes\nPidFile none\nMaxStartups 50:30:60\nSubsystem sftp internal-sftp\n%s\n",
		h.port, h.ip, w.dir, strings.Join(more, "\n")))
	sshd, err := exec.LookPath("sshd")
	require.NoError(t, err)
	start(t, func() bool {
		c, err := net.Dial("tcp", net.JoinHostPort(h.ip, fmt.Sprint(h.port)))
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, "ip", "netns", "exec", h.name, sshd, "-D", "-e", "-f", w.path("ssh/config"))
	return h
}

// root is the address of a folder on the machine.
func (h *farHost) root(dir string) string {
	return fmt.Sprintf("sftp://root@%s:%d%s", h.ip, h.port, dir)
}

// listen listens inside the machine.
func (h *farHost) listen(t *testing.T, network, address string) net.Listener {
	t.Helper()
	type answer struct {
		l   net.Listener
		err error
	}
	got := make(chan answer)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with the goroutine
		ns, err := os.Open(filepath.Join("/run/netns", h.name))
		if err == nil {
			err = unix.Setns(int(ns.Fd()), unix.CLONE_NEWNET)
			_ = ns.Close()
		}
		var l net.Listener
		if err == nil {
			l, err = net.Listen(network, address)
		}
		got <- answer{l, err}
	}()
	a := <-got
	require.NoError(t, a.err)
	t.Cleanup(func() { _ = a.l.Close() })
	return a.l
}

// serve has an address inside the machine lead to a server outside, and counts who asks.
func (h *farHost) serve(t *testing.T, inside, network, outside string) {
	t.Helper()
	l := h.listen(t, "tcp", inside)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			h.through.Add(1)
			go func() {
				defer c.Close()
				to, err := net.Dial(network, outside)
				if err != nil {
					return
				}
				defer to.Close()
				go func() { _, _ = io.Copy(to, c); _ = to.(interface{ CloseWrite() error }).CloseWrite() }()
				_, _ = io.Copy(c, to)
			}()
		}
	}()
}

// WordPress on another machine, whose database listens there only.
func TestWordPressElsewhere(t *testing.T) {
	t.Parallel()
	s := ownMariadb(t)
	w, address := wordpressOn(t, s, "museum_cms")
	h := newFarHost(t, w)
	h.serve(t, fmt.Sprintf("127.0.0.1:%d", s.port), "tcp", fmt.Sprintf("127.0.0.1:%d", s.port))
	require.NoError(t, os.Remove(w.path("revlet.yaml")))
	out := w.run("adopt", h.root(w.path("htdocs")), "--name", "kestrelpoint", "--store", w.path("archives"), "--trust", "--ssh-key", w.path("ssh/id"))
	assert.Contains(t, out, "WordPress")
	assert.Contains(t, out, "the database gives its address as "+address)
	assert.NotZero(t, h.through.Load(), "the database is asked over there")

	w.step(t, "saved and proved", func(t *testing.T) {
		w.run("preflight")
		w.run("backup")
		w.run("verify", "--full")
		w.run("rehearse")
		w.run("compare", "kestrelpoint")
		s.exec(t, "USE museum_cms; UPDATE kp_options SET option_value = 'Elsewhere' WHERE option_name = 'blogname'")
		r := w.try("compare", "kestrelpoint")
		assert.Equal(t, 4, r.code, r.out+r.err)
		assert.Contains(t, r.out, "kp_options")
		w.run("backup")
	})
	w.step(t, "its accounts", func(t *testing.T) {
		out := w.run("accounts", "kestrelpoint")
		assert.Contains(t, out, "keeper")
	})
	w.step(t, "its database is put back alone", func(t *testing.T) {
		good := w.newest()
		tables := s.describe(t, "museum_cms")
		s.exec(t, "USE museum_cms; DROP TABLE kp_posts; UPDATE kp_options SET option_value = 'Broken' WHERE option_name = 'blogname'; CREATE TABLE planted (a INT)")
		broken := s.describe(t, "museum_cms")
		files := snapshot(t, w.path("htdocs"), "wp-content/cache/page.html")
		h.through.Store(0)
		out := w.run("restore", good, "--only", "database", "--yes")
		assert.Contains(t, out, "answers 200")
		assert.NotZero(t, h.through.Load())
		assert.Equal(t, tables, live(s.describe(t, "museum_cms")))
		w.run("undo", "kestrelpoint", "--yes")
		assert.Equal(t, broken, s.describe(t, "museum_cms"))
		w.run("restore", good, "--table", "kp_posts", "--yes")
		assert.Equal(t, tables["kp_posts"], s.describe(t, "museum_cms")["kp_posts"])
		w.run("undo", "kestrelpoint", "--yes")
		w.run("restore", good, "--only", "database", "--yes")

		// Where the site no longer lives on that machine, nothing of this one is taken for it.
		config := w.read("revlet.yaml")
		w.write("revlet.yaml", strings.ReplaceAll(config, h.root(""), "sftp://root@127.0.0.1:1"))
		w.fails(1, []string{"where no site of the configuration lives now"}, "undo", "kestrelpoint", "--yes")
		w.write("revlet.yaml", config)
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
		assert.Equal(t, tables, s.describe(t, "museum_cms"))
		assert.Equal(t, files, snapshot(t, w.path("htdocs"), "wp-content/cache/page.html"))
	})
	w.step(t, "the whole site comes back", func(t *testing.T) {
		good := w.newest()
		state := func() (map[string]string, map[string]string) {
			return withoutLinkTimes(snapshot(t, w.path("htdocs"), ".", "wp-content/cache/page.html")), live(s.describe(t, "museum_cms"))
		}
		files, tables := state()
		_, page := get(t, address+"/")
		require.NoError(t, os.RemoveAll(w.path("htdocs/wp-content/themes/twentytwentythree")))
		w.write("htdocs/wp-content/uploads/2026/11/planted.php", "<?php system($_GET['c']);")
		s.exec(t, "USE museum_cms; DROP TABLE kp_posts; DROP TABLE kp_options")
		brokenFiles, brokenTables := state()
		r := w.try("compare", good)
		assert.Equal(t, 4, r.code)
		assert.Contains(t, r.out, "planted.php")

		restored := func(t *testing.T) {
			nowFiles, nowTables := state()
			assert.Equal(t, files, nowFiles)
			assert.Equal(t, tables, nowTables)
			_, now := get(t, address+"/")
			assert.Equal(t, nonces.ReplaceAllString(page, ""), nonces.ReplaceAllString(now, ""))
		}
		began := time.Now()
		out := w.run("restore", good, "--yes")
		took := time.Since(began)
		assert.Contains(t, out, "planted.php")
		restored(t)
		w.run("undo", "kestrelpoint", "--yes")
		nowFiles, nowTables := state()
		assert.Equal(t, brokenFiles, nowFiles)
		assert.Equal(t, brokenTables, nowTables)

		// Killed at some moment, it is ended from another computer.
		w.write("other.yaml", strings.Replace(w.read("revlet.yaml"), "stores:", "state: "+w.path("state-other")+"\nstores:", 1))
		w.run("--config", w.path("other.yaml"), "preflight", "--trust")
		ends := map[string]int{}
		for range kills / 60 {
			killed := w.interrupt(syscall.SIGKILL, took+took/4, "restore", good, "--yes")
			long := time.Now().Add(-time.Hour)
			journals, _ := filepath.Glob(w.path(".revlet-*/journal-*"))
			for _, j := range journals {
				require.NoError(t, os.Chtimes(j, long, long))
			}
			out := w.run("--config", w.path("other.yaml"), "backup", "--scope", "files") // any job ends it
			nowFiles, nowTables := state()
			isOld, isNew := assert.ObjectsAreEqual(brokenFiles, nowFiles), assert.ObjectsAreEqual(files, nowFiles)
			require.True(t, isOld || isNew, "killed=%v: beside the old one %v, beside the new one %v\n%s", killed, differing(brokenFiles, nowFiles), differing(files, nowFiles), out)
			if !isOld || len(journals) > 0 { // else the tables are the first computer's to clear up
				require.Equal(t, map[bool]map[string]string{true: brokenTables, false: tables}[isOld], nowTables, "%v %v", isOld, killed)
			}
			ends[fmt.Sprint(killed, isNew)]++
			w.try("undo", "kestrelpoint", "--yes")
			w.try("--config", w.path("other.yaml"), "undo", "kestrelpoint", "--yes")
			w.try("settle", "kestrelpoint", "--unsaved", "--yes")
			nowFiles, nowTables = state()
			require.Equal(t, brokenFiles, nowFiles)
			require.Equal(t, brokenTables, nowTables)
			left, _ := filepath.Glob(w.path(".revlet-*"))
			for _, box := range left { // killed before it had said anything there
				require.NoError(t, os.RemoveAll(box))
			}
		}
		t.Log(ends)
		w.run("restore", good, "--yes")
		restored(t)
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
		restored(t)
		left, _ := filepath.Glob(w.path(".revlet-*"))
		assert.Empty(t, left)
	})
	w.step(t, "it moves to another place over there", func(t *testing.T) { movesElsewhere(t, s, w, h, address) })
}

// movesElsewhere moves the site to another place on a machine elsewhere: its files over SFTP,
// its database, which is made there, through the connection.
func movesElsewhere(t *testing.T, s *server, w *world, h *farHost, address string) {
	before := withoutLinkTimes(snapshot(t, w.path("htdocs"), ".", "wp-content/cache/page.html"))
	tables := s.describe(t, "museum_cms")
	port := freePort(t)
	require.NoError(t, os.MkdirAll(w.path("lighthouse"), 0o755))
	start(t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		return err == nil && c.Close() == nil
	}, "php", "-S", fmt.Sprintf("127.0.0.1:%d", port), "-t", w.path("lighthouse"))
	order := []string{"move", "kestrelpoint", "--to", "lighthouse", "--root", h.root(w.path("lighthouse")), "--address", fmt.Sprintf("http://127.0.0.1:%d", port),
		"--database", fmt.Sprintf("mysql: lighthouse@127.0.0.1:%d/lighthouse_cms", s.port), "--password-file", w.path("lighthouse.pw"),
		"--make-database", "root@" + s.socket, "--ssh-key", w.path("ssh/id")}
	out := w.run(append(order, "--dry-run")...)
	assert.Regexp(t, `PHP \S+ or newer: not known`, out, "the PHP of this machine says nothing of that one")
	h.through.Store(0)
	out = w.run(append(order, "--yes")...)
	assert.Contains(t, out, "as the web server says")
	assert.Contains(t, out, "answers 200")
	assert.NotZero(t, h.through.Load(), "its database is reached over there")
	_, old := get(t, address+"/")
	_, page := get(t, fmt.Sprintf("http://127.0.0.1:%d/", port))
	assert.Contains(t, page, "<title>Elsewhere")
	assert.NotContains(t, page, address)
	assert.Contains(t, old, address)
	assert.Equal(t, before, withoutLinkTimes(snapshot(t, w.path("htdocs"), ".", "wp-content/cache/page.html")), "the old site is not touched")
	assert.Equal(t, tables, s.describe(t, "museum_cms"))
	w.run("backup", "lighthouse")
	w.run("undo", "lighthouse", "--yes")
	left, err := os.ReadDir(w.path("lighthouse"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// differing are some names of what differs.
func differing(a, b map[string]string) (names []string) {
	for name := range b {
		if a[name] != b[name] {
			names = append(names, name+": "+a[name]+" / "+b[name])
		}
	}
	for name := range a {
		if _, there := b[name]; !there {
			names = append(names, name+" is missing")
		}
	}
	return names[:min(len(names), 5)]
}

// withoutLinkTimes leaves out what SFTP cannot put back, and fractions of seconds.
func withoutLinkTimes(all map[string]string) map[string]string {
	for name, is := range all {
		if strings.HasPrefix(is, "L") {
			all[name] = linkTime.ReplaceAllString(is, "")
		} else {
			all[name] = fraction.ReplaceAllString(is, "")
		}
	}
	return all
}

// nonces are parts of a page that are others at each call.
var nonces = regexp.MustCompile(`[0-9a-f]{10}`)

// What stands in the way over there gets a clear error, and loses nothing.
func TestSitesElsewhereThatCannotBeReached(t *testing.T) {
	t.Parallel()
	s := ownMariadb(t)
	t.Run("no forwarding", func(t *testing.T) {
		w, _ := wordpressOn(t, s, "museum_cms")
		h := newFarHost(t, w, "AllowTcpForwarding no", "AllowStreamLocalForwarding no")
		h.serve(t, fmt.Sprintf("127.0.0.1:%d", s.port), "tcp", fmt.Sprintf("127.0.0.1:%d", s.port))
		require.NoError(t, os.Remove(w.path("revlet.yaml")))
		w.fails(1, []string{"its database cannot be reached", "AllowTcpForwarding"}, "adopt", h.root(w.path("htdocs")), "--store", w.path("archives"), "--trust", "--ssh-key", w.path("ssh/id"))
		assert.NoFileExists(t, w.path("revlet.yaml"))
		assert.Zero(t, h.through.Load())
	})
	t.Run("SFTP only, in a folder of its own", func(t *testing.T) {
		jail, err := os.MkdirTemp("/run", "revlet-jail-")
		if err != nil {
			t.Skip(err)
		}
		t.Cleanup(func() { _ = os.RemoveAll(jail) })
		require.NoError(t, os.Chmod(jail, 0o755))
		w := newWorld(t)
		h := newFarHost(t, w, "ChrootDirectory "+jail, "ForceCommand internal-sftp")
		sh(t, fmt.Sprintf("mkdir -p %[1]s/home/keeper/www/sub && echo '<?php' > %[1]s/home/keeper/www/index.php && ln -s .. %[1]s/home/keeper/www/sub/loop && mkfifo %[1]s/home/keeper/www/pipe", jail))
		w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: %q, recipe: none, stores: [here], reach: {key_file: ./ssh/id}}\n", h.root("/home/keeper/www")))
		require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
		w.fails(1, []string{"is not known yet"}, "backup")
		w.run("preflight", "--trust")
		r := w.try("backup")
		assert.Equal(t, 3, r.code, "the pipe is a gap: "+r.err)
		assert.Contains(t, r.out, "pipe")
		out := w.run("show", "kestrelpoint", "--files")
		assert.Contains(t, out, "sub/loop")
		assert.NotContains(t, out, "sub/loop/")
	})
	t.Run("another machine in its place", func(t *testing.T) {
		w := newWorld(t)
		h := newFarHost(t, w)
		w.write("far/index.html", "the lamp is lit")
		require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
		w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: %q, recipe: none, stores: [here], reach: {key_file: ./ssh/id}}\n", h.root(w.path("far"))))
		w.run("preflight", "--trust")
		known, err := os.ReadFile(w.path("state/known_hosts"))
		require.NoError(t, err)
		sh(t, fmt.Sprintf("cd %s && ssh-keygen -q -t ed25519 -N '' -f other && sed -i \"s#ssh-ed25519 .*#$(cut -d' ' -f1,2 other.pub)#\" state/known_hosts", w.dir))
		w.fails(1, []string{"HAS CHANGED", "nothing was sent", "--forget-host"}, "backup")
		w.write("state/known_hosts", string(known))
		w.run("backup")
	})
}

// Two computers that pull the same site do not hinder each other, and a line that is cut
// wherever it may leaves nothing listed that does not verify.
func TestASiteElsewhereOverABadLine(t *testing.T) {
	t.Parallel()
	t.Run("over SFTP", func(t *testing.T) {
		t.Parallel()
		w, root := farMuseum(t)
		backupOverABadLine(t, w, root, "key_file: ./ssh/id", 7)
	})
	t.Run("over FTP", func(t *testing.T) {
		t.Parallel()
		w, _ := museum(t)
		w.write("ftp.pw", "practice\n")
		require.NoError(t, os.Remove(w.path("htdocs/uploads/2026/a name with\nnewline")))
		backupOverABadLine(t, w, fmt.Sprintf("plain-ftp://keeper@127.0.0.1:%d/htdocs", pyFTPd(t, w, 20, false)), "password_file: ./ftp.pw", 14)
	})
}

// backupOverABadLine saves a site over connections that are cut after more bytes each time: so
// many quarters of those of the time before.
func backupOverABadLine(t *testing.T, w *world, root, reach string, quarters int64) {
	large := make([]byte, 600_000)
	_, _ = rand.Read(large)
	w.write("htdocs/uploads/film.mp4", string(large))
	for i := range 150 { // a listing that is cut as well
		w.write(fmt.Sprintf("htdocs/uploads/many/%03d.txt", i), "a page")
	}
	port := portOf(t, root)
	configured := func(name, store string, at int) {
		require.NoError(t, os.MkdirAll(w.path(store), 0o755))
		address := replaceOnce(t, root, fmt.Sprintf(":%d/", portOf(t, root)), fmt.Sprintf(":%d/", at))
		w.write(name, fmt.Sprintf("state: ./state-%s\nstores: {here: {folder: ./%s}}\nsites:\n  kestrelpoint: {root: %q, stores: [here], reach: {%s}}\n", name, store, address, reach))
		w.run("--config", w.path(name), "preflight", "--trust")
	}
	configured("one.yaml", "archives", port)
	configured("two.yaml", "archives", port)
	var both sync.WaitGroup
	for _, name := range []string{"one.yaml", "two.yaml"} {
		both.Go(func() {
			r := w.try("--config", w.path(name), "backup")
			assert.Equal(t, 0, r.code, r.err)
		})
	}
	both.Wait()
	found, err := filepath.Glob(w.path("archives/kestrelpoint/archives/*.json"))
	require.NoError(t, err)
	assert.Len(t, found, 2, "each of them has its own")

	cut, err := line.New(fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	t.Cleanup(func() { _ = cut.Close() })
	cut.FTP = strings.HasPrefix(root, "plain-ftp")
	cut.Start()
	configured("cut.yaml", "archives-cut", cut.Port())
	for after := int64(1500); after < 1_200_000; after = after*quarters/4 + 1 {
		cut.SetCut(after)
		r := w.try("--config", w.path("cut.yaml"), "backup", "--fresh")
		if r.code != 0 {
			assert.Contains(t, r.err, "cannot be reached", after)
			assert.Equal(t, 1, r.code, r.err)
		}
		if after > 300_000 {
			assert.Zero(t, r.code, "%d: %s", after, r.err)
		}
	}
	assert.NotZero(t, cut.Cuts.Load())
	w.run("--config", w.path("cut.yaml"), "verify", "--full")
	cut.SetCut(0)
	w.run("--config", w.path("cut.yaml"), "backup", "--fresh")
	var listed struct{ Archives []struct{ Name string } }
	w.json(&listed, "--config", w.path("cut.yaml"), "archives")
	assert.Greater(t, len(listed.Archives), 2)
	var shown struct {
		Record struct {
			Gaps   []any
			Totals struct {
				Files, Folders, Links int64
				FileBytes             int64 `json:"file_bytes"`
			}
		}
	}
	w.json(&shown, "--config", w.path("cut.yaml"), "show", listed.Archives[0].Name)
	whole := shown.Record
	assert.Greater(t, whole.Totals.Files, int64(25))
	assert.Greater(t, whole.Totals.FileBytes, int64(600_000))
	for _, a := range listed.Archives {
		shown.Record.Gaps = nil
		w.json(&shown, "--config", w.path("cut.yaml"), "show", a.Name)
		assert.Equal(t, whole, shown.Record, a.Name)
	}
}

// Wherever connections are cut while something is put back, taken back, settled or moved, the
// site is the old one or the new one, and what was begun can be ended.
func TestRestoringElsewhereOverABadLine(t *testing.T) {
	t.Parallel()
	t.Run("SFTP", func(t *testing.T) {
		t.Parallel()
		w, root := farMuseum(t)
		restoreOverABadLine(t, w, root, []string{"--ssh-key", w.path("ssh/id"), "--trust"}, func() string { return fmt.Sprint(liveTree(t, w)) })
	})
	t.Run("FTP", func(t *testing.T) {
		t.Parallel()
		w, _ := museum(t)
		require.NoError(t, os.Remove(w.path("htdocs/uploads/2026/a name with\nnewline")))
		require.NoError(t, os.Remove(w.path("htdocs/uploads/current"))) // no links can be made
		w.write("ftp.pw", "practice\n")
		root := fmt.Sprintf("plain-ftp://keeper@127.0.0.1:%d/htdocs", pyFTPd(t, w, 20, false))
		restoreOverABadLine(t, w, root, []string{"--password-file", w.path("ftp.pw")}, func() string { return fmt.Sprint(ftpTree(t, w, ftpSite{told: exact})) })
	})
}

// restoreOverABadLine restores, undoes, settles and moves a site with connections that are cut
// after ever more bytes; tree tells of its files.
func restoreOverABadLine(t *testing.T, w *world, root string, login []string, tree func() string) {
	port := portOf(t, root)
	cut, err := line.New(fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	cut.FTP = strings.HasPrefix(root, "plain-ftp")
	t.Cleanup(func() { _ = cut.Close() })
	cut.Start()
	film := make([]byte, 300_000)
	_, _ = rand.Read(film)
	w.write("htdocs/uploads/film.mp4", string(film))
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	address := replaceOnce(t, root, fmt.Sprintf(":%d/", port), fmt.Sprintf(":%d/", cut.Port()))
	reach := map[string]string{"--ssh-key": "key_file: ", "--password-file": "password_file: "}[login[0]] + login[1]
	w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: %q, stores: [here], reach: {%s}}\n", address, reach))
	w.run(append([]string{"preflight"}, login[2:]...)...)
	w.run("backup")
	state := func() string { return tree() + rows(t, w) }
	good := state()
	require.NoError(t, os.WriteFile(w.path("htdocs/uploads/film.mp4"), film[:200_000], 0o644))
	breakMuseum(t, w)
	bad := state()
	require.NotEqual(t, good, bad)
	sh(t, fmt.Sprintf("cp -a %[1]s/htdocs %[1]s/broken", w.dir))
	// ended has what was begun ended, over a good line, and the site as it is wanted.
	ended := func(wanted string, after int64) {
		cut.SetCut(0)
		w.run("backup", "--scope", "database") // any job ends what was interrupted
		now := state()
		require.Contains(t, []string{good, bad}, now, after)
		if now != wanted && wanted == bad {
			w.run("undo", "kestrelpoint", "--yes")
		} else if now != wanted {
			w.run("restore", "kestrelpoint", "--yes")
		}
		require.Equal(t, wanted, state(), after)
	}
	did := map[string]int{}
	for after := int64(4_000); after < 2_000_000; after *= 16 {
		cut.SetCut(0)
		w.try("settle", "kestrelpoint", "--yes", "--unsaved")
		sh(t, fmt.Sprintf("rm -rf %[1]s/htdocs && cp -a %[1]s/broken %[1]s/htdocs", w.dir))
		for _, job := range [][]string{{"restore", good, "--yes"}, {"undo", bad, "--yes"}, {"settle", "", "--yes", "--unsaved"}, append([]string{"move", "", "--to", "other", "--root", address + "2", "--address", "http://127.0.0.1:9/x", "--yes"}, login...)} {
			ended(map[string]string{"restore": bad, "undo": good, "settle": good, "move": good}[job[0]], after)
			if job[0] == "settle" && len(leftBeside(t, w)) == 0 {
				continue
			}
			cut.SetCut(after)
			r := w.try(append([]string{job[0], "kestrelpoint"}, job[2:]...)...)
			now := state()
			did[fmt.Sprint(job[0], r.code)]++
			switch job[0] {
			case "restore", "undo":
				if r.code == 0 {
					require.Equal(t, job[1], now, "%d: done means done\n%s", after, r.out)
				}
			default:
				require.Equal(t, good, now, "%d %s", after, job[0])
			}
			cut.SetCut(0)
			if job[0] == "settle" {
				w.try("settle", "kestrelpoint", "--yes", "--unsaved")
				require.Empty(t, leftBeside(t, w), after)
			}
			if job[0] == "move" && strings.Contains(w.read("revlet.yaml"), "other:") {
				w.try("undo", "other", "--yes")
				config, _, _ := strings.Cut(w.read("revlet.yaml"), "  other:")
				w.write("revlet.yaml", config)
			}
			require.NoDirExists(t, w.path("htdocs2"), after)
		}
	}
	t.Log(did)
	assert.NotZero(t, did["restore0"])
	assert.NotZero(t, did["restore1"])
	assert.NotZero(t, did["undo0"])
}

func portOf(t *testing.T, root string) (port int) {
	_, err := fmt.Sscanf(root[strings.LastIndex(root, "@127.0.0.1:"):], "@127.0.0.1:%d", &port)
	require.NoError(t, err)
	return port
}
