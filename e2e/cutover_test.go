package e2e

import (
	"encoding/json"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
	"revlet/internal/practice/nameserver"
)

// zones are those of the museum, whose site is at 127.0.0.4 and moves to 127.0.0.9.
const zones = `
kestrelpoint.example. 300  SOA ns1.kestrelpoint.example. keeper.kestrelpoint.example. 1 3600 600 86400 1
kestrelpoint.example. 300  NS  ns1.kestrelpoint.example.
kestrelpoint.example. 1    A   127.0.0.4
kestrelpoint.example. 300  MX  10 mail.kestrelpoint.example.
mail.kestrelpoint.example. 300 A 127.0.0.25
www.kestrelpoint.example. 1 CNAME kestrelpoint.example.
`

// twoHosts serves the museum at the same port of two machines, and plays its name servers.
func twoHosts(t *testing.T) (w *world, servers *nameserver.Server, resolver *nameserver.Resolver) {
	t.Helper()
	w = newWorld(t)
	var port string
	for i, at := range []string{"127.0.0.4", "127.0.0.9"} {
		if i == 0 {
			port = "0"
		}
		l, err := net.Listen("tcp", at+":"+port)
		require.NoError(t, err)
		_, port, err = net.SplitHostPort(l.Addr().String())
		require.NoError(t, err)
		root := w.path("host-" + at)
		require.NoError(t, lampblack.Build(t.Context(), root, "http://kestrelpoint.example:"+port))
		server := &http.Server{Handler: lampblack.Handler(root), ReadHeaderTimeout: time.Minute}
		done := make(chan struct{})
		go func() { defer close(done); _ = server.Serve(l) }()
		t.Cleanup(func() { _ = server.Close(); <-done })
	}
	w.write("revlet.yaml", "state: "+w.path("state")+"\nstores: {here: {folder: "+w.path("store")+"}}\nsites:\n  kestrelpoint: {root: "+w.path("host-127.0.0.4")+", address: \"http://kestrelpoint.example:"+port+"/\", stores: [here]}\n")
	w.write("zones", zones)
	servers, err := nameserver.Start(w.path("zones"), "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, servers.Close()) })
	resolver, err = servers.Resolve("127.0.0.1:0", nameserver.Faults{})
	require.NoError(t, err)
	return w, servers, resolver
}

// From the plan to the last cache: what is said is what is so at each step.
func TestCutover(t *testing.T) {
	t.Parallel()
	w, servers, resolver := twoHosts(t)
	asked := []string{"--to", "127.0.0.9", "--name-server", servers.Address, "--resolver", resolver.Address}
	w.step(t, "the plan", func(t *testing.T) {
		out := w.run(append([]string{"cutover", "plan", "kestrelpoint"}, asked...)...)
		assert.Regexp(t, `change +kestrelpoint\.example +A +127\.0\.0\.4 +127\.0\.0\.9`, out)
		assert.Regexp(t, `follows +www\.kestrelpoint\.example`, out)
		assert.Contains(t, out, "kestrelpoint.example  MX    10 mail.kestrelpoint.example")
		assert.Contains(t, out, "next: change these records")
		w.write("zones", strings.Replace(zones, "1    A", "90000 A", 1)+"kestrelpoint.example. 300 AAAA ::1\n")
		w.fails(4, nil, append([]string{"cutover", "plan", "kestrelpoint"}, asked...)...)
		out = w.try(append([]string{"cutover", "plan", "kestrelpoint"}, asked...)...).out
		assert.Contains(t, out, "AAAA record")
		assert.Contains(t, out, "lower the lifetime")
		w.write("zones", zones)
		w.fails(2, []string{"no address of a machine"}, "cutover", "plan", "kestrelpoint", "--to", "newhost.example")
		w.fails(2, []string{"no name server's address"}, append(asked, "cutover", "plan", "kestrelpoint", "--to", "127.0.0.9", "--resolver", "dns.example")[6:]...)
	})
	w.step(t, "a look", func(t *testing.T) {
		w.write("host-127.0.0.9/core/layout.html", strings.Replace(w.read("host-127.0.0.9/core/layout.html"), "<body>", "<body><p>the new host</p>", 1))
		assert.Contains(t, throughLook(t, w), "the new host")
		assert.Contains(t, w.run("cutover", "look", "kestrelpoint", "--at", "127.0.0.9", "--hosts"), "127.0.0.9\tkestrelpoint.example www.kestrelpoint.example\n")
		w.write("hosts", "127.0.0.1 localhost\n")
		w.run("cutover", "look", "kestrelpoint", "--hosts", "--check", "--hosts-file", w.path("hosts"))
		w.write("hosts", "127.0.0.1 localhost\n127.0.0.9\twww.kestrelpoint.example\n")
		out := w.try("cutover", "look", "kestrelpoint", "--hosts", "--check", "--hosts-file", w.path("hosts"))
		assert.Equal(t, 4, out.code)
		assert.Contains(t, out.out, "line 2: 127.0.0.9")
		w.fails(1, []string{"for this machine alone"}, "cutover", "look", "kestrelpoint", "--at", "127.0.0.9", "--listen", "0.0.0.0:0")
	})
	w.step(t, "page by page", func(t *testing.T) {
		both := []string{"cutover", "match", "kestrelpoint", "--at", "127.0.0.9", "--old", "127.0.0.4", "--rate", "1000", "--page", w.path("match.html")}
		out := w.try(both...)
		assert.Equal(t, 4, out.code)
		assert.Regexp(t, `text added +/ +the new host`, out.out)
		assert.Contains(t, w.read("match.html"), "the new host")
		w.write("host-127.0.0.9/core/layout.html", w.read("host-127.0.0.4/core/layout.html"))
		assert.Contains(t, w.run(both...), "6 pages the same, 0 differ, 0 not compared")
		w.fails(2, []string{"the new machine already"}, "cutover", "match", "kestrelpoint", "--at", "127.0.0.9", "--old", "127.0.0.9")
	})
	w.step(t, "the documented JSON", func(t *testing.T) { cutoverJSON(t, w, asked) })
	w.step(t, "until all agree", func(t *testing.T) {
		watch := append([]string{"cutover", "watch", "kestrelpoint", "--times", "2", "--every", "1 second", "--limit", "3 seconds"}, asked...)
		out := w.try(watch...)
		assert.Equal(t, 4, out.code)
		assert.Contains(t, out.out, "Not there yet")
		w.write("zones", strings.Replace(zones, "127.0.0.4", "127.0.0.9", 1))
		watch[8] = "1 minute"
		text := w.run(watch...)
		assert.Contains(t, text, "All agree.")
		assert.Contains(t, text, "for the second time")
	})
}

// throughLook fetches the site's front page through the proxy of `cutover look`.
func throughLook(t *testing.T, w *world) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().String()
	require.NoError(t, l.Close())
	cmd := w.command("cutover", "look", "kestrelpoint", "--at", "127.0.0.9", "--only", "--listen", at)
	require.NoError(t, cmd.Start())
	defer func() {
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
		require.NoError(t, cmd.Wait())
	}()
	var config struct{ address string }
	for line := range strings.Lines(w.read("revlet.yaml")) {
		if _, rest, ok := strings.Cut(line, `address: "`); ok {
			config.address, _, _ = strings.Cut(rest, `"`)
		}
	}
	tr := &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: at})}
	defer tr.CloseIdleConnections()
	var body []byte
	require.Eventually(t, func() bool {
		resp, err := (&http.Client{Transport: tr, Timeout: 5 * time.Second}).Get(config.address)
		if err != nil {
			return false
		}
		defer resp.Body.Close()
		body = make([]byte, 1<<20)
		n, _ := resp.Body.Read(body)
		body = body[:n]
		return resp.StatusCode == http.StatusOK
	}, 20*time.Second, 50*time.Millisecond)
	if chromium, err := exec.LookPath("chromium"); err == nil {
		shown, err := exec.Command(chromium, "--headless", "--no-sandbox", "--disable-gpu", "--user-data-dir="+filepath.Join(t.TempDir(), "profile"), "--proxy-server=http://"+at, "--dump-dom", config.address).Output()
		require.NoError(t, err)
		assert.Contains(t, string(shown), "the new host", "in a real browser, under the old name")
	}
	return string(body)
}

// cutoverJSON runs the reporting commands with --json and looks for each key in docs/JSON.md.
func cutoverJSON(t *testing.T, w *world, asked []string) {
	doc, err := os.ReadFile("../docs/JSON.md")
	require.NoError(t, err)
	w.write("host-127.0.0.9/core/layout.html", strings.Replace(w.read("host-127.0.0.9/core/layout.html"), "<body>", "<body><p>the new host</p>", 1))
	for command, args := range map[string][]string{
		"cutover plan":  append([]string{"--new-name-server", asked[3]}, asked...),
		"cutover match": {"--at", "127.0.0.9", "--old", "127.0.0.4"},
		"cutover watch": append([]string{"--times", "1", "--every", "1 second", "--limit", "1 second"}, asked...),
	} {
		_, line, ok := strings.Cut(string(doc), "| `"+command+"` |")
		require.True(t, ok, command)
		line, _, _ = strings.Cut(line, "\n")
		r := w.try(append(append(strings.Fields(command), "kestrelpoint", "--json"), args...)...)
		var v any
		require.NoError(t, json.Unmarshal([]byte(r.out), &v), "%s\n%s%s", command, r.out, r.err)
		keys := map[string]bool{}
		keysOf(v, "", keys)
		documents(t, line, command, keys, nil)
	}
}
