package e2e

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
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
	h := &farHost{name: fmt.Sprintf("rvfar%d-%d", os.Getpid()%10000, n), ip: fmt.Sprintf("10.213.%d.2", n), port: 2222}
	near := fmt.Sprintf("rv%dn%d", os.Getpid()%10000, n)
	if out, err := exec.Command("ip", "netns", "add", h.name).CombinedOutput(); err != nil {
		t.Skipf("no network namespace can be made here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", h.name).Run() })
	sh(t, fmt.Sprintf(`set -e; ip link add %[1]s type veth peer name %[1]sf; ip link set %[1]sf netns %[2]s; ip addr add 10.213.%[3]d.1/30 dev %[1]s; ip link set %[1]s up
		ip netns exec %[2]s sh -c 'ip addr add %[4]s/30 dev %[1]sf; ip link set %[1]sf up; ip link set lo up'`, near, h.name, n, h.ip))
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
	s := ownMariadb(t)
	w, address := wordpressOn(t, s, "museum_cms")
	h := newFarHost(t, w)
	h.serve(t, fmt.Sprintf("127.0.0.1:%d", s.port), "tcp", fmt.Sprintf("127.0.0.1:%d", s.port))
	require.NoError(t, os.Remove(w.path("revlet.yaml")))
	out := w.run("adopt", h.root(w.path("htdocs")), "--name", "kestrelpoint", "--store", w.path("archives"), "--trust", "--key-file", w.path("ssh/id"))
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
}
