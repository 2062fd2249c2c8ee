package e2e

import (
	"crypto/rand"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
	"revlet/internal/site/dnszone"
)

// namespace is a machine of its own with an address, reached over a link.
type namespace struct{ name, ip string }

// newNamespace makes one with further addresses in the same network.
func newNamespace(t *testing.T, more int) namespace {
	t.Helper()
	need(t, "ip")
	n := farHosts.Add(1)
	subnet := fmt.Sprintf("10.%d.%d", 64+os.Getpid()%160, n)
	ns := namespace{name: fmt.Sprintf("rvcut%d-%d", os.Getpid()%10000, n), ip: subnet + ".2"}
	if out, err := exec.Command("ip", "netns", "add", ns.name).CombinedOutput(); err != nil {
		t.Skipf("no network namespace can be made here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", ns.name).Run() })
	near := fmt.Sprintf("rv%dc%d", os.Getpid()%10000, n)
	sh(t, fmt.Sprintf(`set -e; ip link add %[1]s type veth peer name %[1]sf; ip link set %[1]sf netns %[2]s; ip addr add %[3]s.1/24 dev %[1]s; ip link set %[1]s up
		ip netns exec %[2]s sh -c 'ip link set %[1]sf up; ip link set lo up'`, near, ns.name, subnet))
	for i := range 1 + more {
		sh(t, fmt.Sprintf("ip netns exec %s ip addr add %s.%d/24 dev %sf", ns.name, subnet, 2+i, near))
	}
	return ns
}

// other is another address of the machine.
func (n namespace) other(i int) string {
	return n.ip[:strings.LastIndex(n.ip, ".")+1] + fmt.Sprint(2+i)
}

// answering tells whether something listens.
func answering(address string) func() bool {
	return func() bool {
		c, err := net.DialTimeout("tcp", address, time.Second)
		return err == nil && c.Close() == nil
	}
}

// realZones are a root, a top level and the museum's own zone, delegated one to the next with glue.
func realZones(dns namespace, site string) map[string]string {
	soa := func(zone, server string) string {
		return fmt.Sprintf("$ORIGIN %s\n$TTL 2\n@ 2 SOA %s keeper.kestrelpoint.example. %d 3600 600 86400 1\n@ NS %s\n", zone, server, time.Now().UnixMilli()/100%1e9, server)
	}
	glue := "ns1.kestrelpoint.example. A " + dns.ip + "\n"
	return map[string]string{
		".":                     soa(".", "ns1.kestrelpoint.example.") + "example. NS ns1.kestrelpoint.example.\n" + glue,
		"example.":              soa("example.", "ns1.kestrelpoint.example.") + "kestrelpoint.example. NS ns1.kestrelpoint.example.\n" + glue,
		"kestrelpoint.example.": soa("kestrelpoint.example.", "ns1.kestrelpoint.example.") + glue + "@ A " + site + "\n@ MX 10 mail\nmail A 192.0.2.25\nwww CNAME @\n",
	}
}

// nameServers starts an authoritative server, a caching one, and one that checks signatures against a key
// that the zone does not have, and returns the addresses of the two resolvers, and what changes the museum's
// record.
func nameServers(t *testing.T, w *world, dns namespace, site string) (caching, validating string, change func(to string)) {
	t.Helper()
	need(t, "nsd", "unbound")
	write := func(to string) {
		for zone, text := range realZones(dns, to) {
			w.write("dns/zone-"+zone+"txt", text)
		}
	}
	write(site)
	conf := fmt.Sprintf("server:\n ip-address: %s\n username: \"\"\n chroot: \"\"\n zonesdir: %[2]q\n pidfile: %[3]q\n database: \"\"\n xfrdfile: %[4]q\n zonelistfile: %[5]q\n xfrdir: %[2]q\n server-count: 1\nremote-control:\n control-enable: no\n",
		dns.ip, w.path("dns"), w.path("dns/nsd.pid"), w.path("dns/xfrd"), w.path("dns/zonelist"))
	for zone := range realZones(dns, site) {
		conf += fmt.Sprintf("zone:\n name: %q\n zonefile: \"zone-%stxt\"\n", zone, zone)
	}
	w.write("dns/nsd.conf", conf)
	w.write("dns/root.hints", ". 3600 NS ns1.kestrelpoint.example.\nns1.kestrelpoint.example. 3600 A "+dns.ip+"\n")
	nsd, err := exec.LookPath("nsd")
	require.NoError(t, err)
	start(t, answering(dns.ip+":53"), "ip", "netns", "exec", dns.name, nsd, "-d", "-c", w.path("dns/nsd.conf"))
	for i, module := range []string{"iterator", "validator iterator"} {
		at := dns.other(1 + i)
		text := fmt.Sprintf("server:\n interface: %s\n outgoing-interface: %[1]s\n access-control: 0.0.0.0/0 allow\n username: \"\"\n chroot: \"\"\n directory: %[2]q\n pidfile: %[3]q\n use-syslog: no\n root-hints: %[4]q\n module-config: %[5]q\n do-ip6: no\n",
			at, w.path("dns"), w.path(fmt.Sprintf("dns/unbound%d.pid", i)), w.path("dns/root.hints"), module)
		if i == 1 {
			text += " trust-anchor: \"kestrelpoint.example. 3600 IN DS 12345 13 2 " + strings.Repeat("ab", 32) + "\"\n"
		}
		name := w.path(fmt.Sprintf("dns/unbound%d.conf", i))
		require.NoError(t, os.WriteFile(name, []byte(text+"remote-control:\n control-enable: no\n"), 0o644))
		unbound, err := exec.LookPath("unbound")
		require.NoError(t, err)
		start(t, answering(at+":53"), "ip", "netns", "exec", dns.name, unbound, "-d", "-c", name)
	}
	return dns.other(1), dns.other(2), func(to string) {
		write(to)
		pid, err := os.ReadFile(w.path("dns/nsd.pid"))
		require.NoError(t, err)
		var n int
		_, err = fmt.Sscan(string(pid), &n)
		require.NoError(t, err)
		require.NoError(t, syscall.Kill(n, syscall.SIGHUP))
	}
}

// The whole way with real name servers, each machine in a network of its own: a visitor who writes all the
// while is asked to come back for a moment, and loses nothing.
func TestCutoverWithRealNameServers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.drain = 250 * time.Millisecond
	old, now, dns := newNamespace(t, 0), newNamespace(t, 0), newNamespace(t, 2)
	caching, validating, change := nameServers(t, w, dns, old.ip)
	require.NoError(t, os.MkdirAll(w.path("store"), 0o755))
	require.NoError(t, lampblack.Build(t.Context(), w.path("old"), "http://kestrelpoint.example:8080"))
	w.write("revlet.yaml", "state: "+w.path("state")+"\nstores: {here: {folder: "+w.path("store")+"}}\nsites:\n  kestrelpoint: {root: "+w.path("old")+", address: \"http://kestrelpoint.example:8080/\", stores: [here]}\n")
	long := os.Getenv("REVLET_LONG") != "" // `make test-long`: a site of 20,000 files and 2 GiB
	if long {
		manyFiles(t, w.path("old/uploads/many"))
	}
	for root, ns := range map[string]namespace{"old": old, "new": now} {
		start(t, answering(ns.ip+":8080"), "ip", "netns", "exec", ns.name, program, "standin", "lampblack", w.path(root), "--listen", ns.ip+":8080")
	}
	asked := []string{"--to", now.ip, "--resolver", caching}
	w.run("backup")
	w.fails(4, []string{"Came up"}, "move", "kestrelpoint", "--to", "lighthouse", "--root", w.path("new"), "--address", "http://kestrelpoint.example:8080", "--yes")
	w.step(t, "the plan", func(t *testing.T) {
		out := w.run(append([]string{"cutover", "plan", "kestrelpoint"}, asked...)...)
		assert.Regexp(t, `answered for by +ns1\.kestrelpoint\.example`, out)
		assert.Regexp(t, `change +kestrelpoint\.example +A +`+old.ip+` +`+now.ip, out)
		bad := w.try("cutover", "plan", "kestrelpoint", "--to", now.ip, "--resolver", caching, "--resolver", validating)
		assert.Equal(t, 4, bad.code)
		assert.Contains(t, bad.out, "DNSSEC signatures do not hold")
		w.fails(1, []string{"DNSSEC signatures do not hold"}, "cutover", "plan", "kestrelpoint", "--to", now.ip, "--resolver", validating)
		w.fails(1, []string{"no resolver answers"}, "cutover", "plan", "kestrelpoint", "--to", now.ip, "--resolver", old.ip)
	})
	w.step(t, "both are alike", func(t *testing.T) {
		assert.Contains(t, w.run("cutover", "match", "kestrelpoint", "--at", now.ip, "--old", old.ip, "--rate", "1000"), "0 differ, 0 not compared")
	})
	w.step(t, "a browser", func(t *testing.T) { w.browserLooks(now, "new") })
	v := &visitor{ask: &dnszone.Asker{}, resolver: caching + ":53", page: &url.URL{Scheme: "http", Host: "kestrelpoint.example:8080", Path: "/visit"}}
	done, ended := make(chan struct{}), make(chan struct{})
	go func() { defer close(ended); v.post(t.Context(), done) }()
	time.Sleep(500 * time.Millisecond)
	if long {
		for i := 0; i < 20000; i += 100 {
			w.write(fmt.Sprintf("old/uploads/many/%d/%d.bin", i/200, i), "changed since")
		}
	}
	var finished struct {
		Shut float64 `json:"shut_seconds"`
	}
	w.json(&finished, "cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
	change(now.ip)
	text := w.run(append([]string{"cutover", "watch", "kestrelpoint", "--times", "3", "--every", "1 second", "--limit", "1 minute"}, asked...)...)
	assert.Contains(t, text, "All agree.")
	time.Sleep(300 * time.Millisecond)
	close(done)
	<-ended
	assert.Empty(t, v.wrong, "an answer was lost")
	assert.Greater(t, len(v.taken), 20)
	assert.Less(t, v.shut, 15*time.Second)
	t.Logf("%d remarks taken, %d refused, none for %s at most; closed for %.2f s", len(v.taken), v.refused, v.shut, finished.Shut)
	assert.Less(t, finished.Shut, 5.0, "both places were closed for longer")
	rows, err := lampblack.Dump(t.Context(), w.path("new", lampblack.DatabaseFile))
	require.NoError(t, err)
	for _, remark := range v.taken {
		assert.True(t, strings.Contains(rows, `"`+remark+`"`), "%s, that was taken, is lost", remark)
	}
}

// manyFiles makes 20,000 files of 100 kB that cannot be compressed.
func manyFiles(t *testing.T, dir string) {
	t.Helper()
	noise := make([]byte, 1<<20)
	_, _ = rand.Read(noise)
	for i := range 20000 {
		name := filepath.Join(dir, fmt.Sprint(i/200), fmt.Sprint(i)+".bin")
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		at := i * 37 % 900_000
		require.NoError(t, os.WriteFile(name, fmt.Appendf(noise[at:at+100_000:at+100_000], "%d", i), 0o600))
	}
}

// browserLooks has a real browser show the new host under the old name, while the old one is what the name
// leads to.
func (w *world) browserLooks(now namespace, root string) {
	chromium, err := exec.LookPath("chromium")
	if err != nil {
		w.t.Skip("chromium is not installed; scripts/setup.sh screenshots installs it")
	}
	layout := w.read(root + "/core/layout.html")
	w.write(root+"/core/layout.html", strings.Replace(layout, "<body>", "<body><p>the new host</p>", 1))
	defer w.write(root+"/core/layout.html", layout)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(w.t, err)
	at := l.Addr().String()
	require.NoError(w.t, l.Close())
	cmd := w.command("cutover", "look", "kestrelpoint", "--at", now.ip, "--nothing-else", "--listen", at)
	require.NoError(w.t, cmd.Start())
	defer func() {
		require.NoError(w.t, cmd.Process.Signal(os.Interrupt))
		require.NoError(w.t, cmd.Wait())
	}()
	require.Eventually(w.t, answering(at), 20*time.Second, 20*time.Millisecond)
	shown, err := exec.Command(chromium, "--headless", "--no-sandbox", "--disable-gpu", "--user-data-dir="+w.path("profile"), "--proxy-server=http://"+at, "--dump-dom", "http://kestrelpoint.example:8080/visit").Output()
	require.NoError(w.t, err)
	assert.Contains(w.t, string(shown), "the new host")
	assert.Contains(w.t, string(shown), "Your visit")
}
