package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
	"revlet/internal/practice/nameserver"
	"revlet/internal/practice/place"
	"revlet/internal/site/check"
	"revlet/internal/site/dnszone"
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
	cmd := w.command("cutover", "look", "kestrelpoint", "--at", "127.0.0.9", "--nothing-else", "--listen", at)
	require.NoError(t, cmd.Start())
	defer func() {
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
		require.NoError(t, cmd.Wait())
	}()
	page := w.sitePage("").String()
	tr := &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: at})}
	defer tr.CloseIdleConnections()
	var body []byte
	require.Eventually(t, func() bool {
		resp, err := (&http.Client{Transport: tr, Timeout: 5 * time.Second}).Get(page)
		if err != nil {
			return false
		}
		defer resp.Body.Close()
		body = make([]byte, 1<<20)
		n, _ := resp.Body.Read(body)
		body = body[:n]
		return resp.StatusCode == http.StatusOK
	}, 20*time.Second, 50*time.Millisecond)
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

// visitor posts remarks to the site all the while, wherever its name leads, and tells which were taken.
type visitor struct {
	ask      *dnszone.Asker
	resolver string
	page     *url.URL
	taken    []string
	// refused counts those that were told to come back, shut for how long none was taken at most.
	refused int
	shut    time.Duration
	wrong   []string
}

// post goes on until done is closed.
func (v *visitor) post(ctx context.Context, done chan struct{}) {
	last := time.Now()
	for n := 0; ; n++ {
		select {
		case <-done:
			return
		case <-time.After(10 * time.Millisecond):
		}
		answer := v.ask.Ask(ctx, v.resolver, v.page.Hostname(), "A", dnszone.Recursively)
		if len(answer.Records) != 1 {
			v.wrong = append(v.wrong, "no address: "+string(answer.State))
			continue
		}
		t := &http.Transport{DialContext: check.DialAt(answer.Records[0].Value), DisableKeepAlives: true}
		client := &http.Client{Transport: t, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		text := fmt.Sprintf("remark number %d", n)
		resp, err := client.PostForm(v.page.String(), url.Values{"visitor": {"Ida"}, "text": {text}})
		if err != nil {
			v.wrong = append(v.wrong, err.Error())
			continue
		}
		_ = resp.Body.Close()
		switch resp.StatusCode {
		case http.StatusSeeOther:
			v.taken, v.shut, last = append(v.taken, text), max(v.shut, time.Since(last)), time.Now()
		case http.StatusServiceUnavailable:
			v.refused++
		default:
			v.wrong = append(v.wrong, resp.Status)
		}
	}
}

// A visitor who writes all the while loses nothing: what was taken is at the new place in the end, and all
// that he notices is a moment in which he is asked to come back.
func TestCutoverLosesNothing(t *testing.T) {
	t.Parallel()
	w, servers, resolver := twoHosts(t)
	w.museumThatMoves()
	w.drain = 250 * time.Millisecond // as it is outside of tests
	w.try("cutover", "plan", "kestrelpoint", "--to", "127.0.0.9", "--name-server", servers.Address, "--resolver", resolver.Address)
	w.write("zones", strings.Replace(zones, "1    A   127.0.0.4", "1    A   127.0.0.4\nkestrelpoint.example. 1 A 127.0.0.9", 1))
	w.fails(1, []string{"lead to the new machine: visitors write there by now", "--anyway"}, "cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
	assert.Contains(t, w.run("cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--anyway", "--dry-run"), "what visitors have written there goes aside")
	w.write("zones", zones)
	v := &visitor{ask: &dnszone.Asker{}, resolver: resolver.Address, page: w.sitePage("visit")}
	done, ended := make(chan struct{}), make(chan struct{})
	go func() { defer close(ended); v.post(t.Context(), done) }()
	time.Sleep(300 * time.Millisecond)
	w.run("cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
	w.write("zones", strings.Replace(zones, "127.0.0.4", "127.0.0.9", 1))
	w.run("cutover", "watch", "kestrelpoint", "--to", "127.0.0.9", "--name-server", servers.Address, "--resolver", resolver.Address, "--times", "2", "--every", "1 second", "--limit", "1 minute")
	time.Sleep(300 * time.Millisecond)
	close(done)
	<-ended
	assert.Empty(t, v.wrong, "an answer was lost")
	assert.Positive(t, v.refused)
	assert.Greater(t, len(v.taken), 20)
	t.Logf("%d remarks taken, %d refused, none for %s at most", len(v.taken), v.refused, v.shut)
	text, err := lampblack.Dump(t.Context(), w.path("host-127.0.0.9", lampblack.DatabaseFile))
	require.NoError(t, err)
	for _, remark := range v.taken {
		assert.True(t, strings.Contains(text, `"`+remark+`"`), "%s, that was taken, is lost", remark)
	}
	w.fails(1, []string{"name servers lead to the new machine since"}, "cutover", "finish", "kestrelpoint", "--back", "--yes")
}

// Name servers that do not answer have not said that the names are where they were.
func TestCutoverWithNamesUnknown(t *testing.T) {
	t.Parallel()
	w, servers, resolver := twoHosts(t)
	w.museumThatMoves()
	w.try("cutover", "plan", "kestrelpoint", "--to", "127.0.0.9", "--name-server", servers.Address, "--resolver", resolver.Address)
	w.write("zones", strings.ReplaceAll(zones, "kestrelpoint.example.", "elsewhere.example."))
	finish := []string{"cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes"}
	w.fails(1, []string{"it is not known whether the domain's name servers lead to the new machine", "--anyway"}, finish...)
	var dry struct {
		New *bool `json:"names_lead_new"`
	}
	w.json(&dry, append(finish, "--dry-run", "--anyway")...)
	assert.Nil(t, dry.New)
	w.run(append(finish, "--anyway")...)
	w.fails(1, []string{"it is not known"}, "cutover", "finish", "kestrelpoint", "--back", "--yes")
	assert.Contains(t, w.run("cutover", "finish", "kestrelpoint", "--back", "--yes", "--anyway"), "archive")
}

// museumThatMoves has an archive of the old museum, moved to the new host.
func (w *world) museumThatMoves() {
	w.t.Helper()
	require.NoError(w.t, os.MkdirAll(w.path("store"), 0o755))
	w.run("backup")
	w.fails(4, []string{"Came up"}, "move", "kestrelpoint", "--to", "lighthouse", "--root", w.path("host-127.0.0.9"), "--address", strings.TrimSuffix(w.sitePage("").String(), "/"), "--anyway", "--yes")
	w.run("settle", "lighthouse", "--yes", "--unsaved")
}

// sitePage is the address of a page of the museum.
func (w *world) sitePage(slug string) *url.URL {
	w.t.Helper()
	_, rest, ok := strings.Cut(w.read("revlet.yaml"), `address: "`)
	require.True(w.t, ok)
	address, _, _ := strings.Cut(rest, `"`)
	u, err := url.Parse(address + slug)
	require.NoError(w.t, err)
	return u
}

// Whenever the end of a cutover is killed, it can be gone on with or taken back; and whatever fails, the old
// place is open again.
func TestCutoverFinishIsKilled(t *testing.T) {
	t.Parallel()
	w, _, _ := twoHosts(t)
	w.museumThatMoves()
	old, now := w.path("host-127.0.0.4"), w.path("host-127.0.0.9")
	at := func(root string) string {
		text, err := lampblack.Dump(t.Context(), filepath.Join(root, lampblack.DatabaseFile))
		require.NoError(t, err)
		return text
	}
	open := func(root string) bool {
		_, err := os.Lstat(filepath.Join(root, "maintenance.flag"))
		return os.IsNotExist(err)
	}
	for i := range 24 {
		require.NoError(t, lampblack.Execute(t.Context(), filepath.Join(old, lampblack.DatabaseFile), fmt.Sprintf("UPDATE pages SET title = 'turn %d' WHERE slug = 'visit'", i)))
		before := at(now)
		killed := w.interrupt([]os.Signal{syscall.SIGKILL, os.Interrupt}[i%2], 800*time.Millisecond, "cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
		half := w.try("status").err
		if killed && i%2 == 1 {
			assert.NotContains(t, half, "stopped half-way", "one that is asked to stop puts back what it has done")
		}
		assert.Equal(t, strings.Contains(half, "stopped half-way"), strings.Contains(w.try("archives").err, "may be closed"))
		if !strings.Contains(half, "stopped half-way") && killed && open(old) {
			continue // nothing was begun, or it was taken back
		}
		if i%4 < 2 && killed {
			w.run("cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
		}
		if i%4 < 2 {
			assert.True(t, strings.Contains(at(now), fmt.Sprintf(`"turn %d"`, i)))
			assert.False(t, open(old))
		}
		w.run("cutover", "finish", "kestrelpoint", "--back", "--yes")
		assert.True(t, open(old))
		assert.True(t, before == at(now), "the new place is what it was")
		assert.True(t, open(now))
	}
	w.run("cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes", "--leave", "open")
	assert.True(t, open(old))
	assert.Contains(t, w.run("duties"), "The duties of kestrelpoint have stopped: it is lighthouse since")
	w.fails(2, []string{"was finished on"}, "cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
	w.run("cutover", "finish", "kestrelpoint", "--back", "--yes")
	wayBack(t, w, func() bool { return open(old) }, func() string { return at(now) })
	w.run("cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
	require.NoError(t, os.Remove(filepath.Join(old, "maintenance.flag"))) // a place that cannot be opened
	w.write("host-127.0.0.4/maintenance.flag/in-the-way", "")
	w.fails(1, []string{"open the site again"}, "cutover", "finish", "kestrelpoint", "--back", "--yes")
	assert.Contains(t, w.try("status").err, "may be closed", "that is not forgotten")
	require.NoError(t, os.Remove(filepath.Join(old, "maintenance.flag/in-the-way")))
	w.run("cutover", "finish", "kestrelpoint", "--back", "--yes")
	assert.True(t, open(old))
	w.fails(2, []string{"no cutover of kestrelpoint"}, "cutover", "finish", "kestrelpoint", "--back", "--yes")
	w.fails(2, []string{"no file that leads visitors elsewhere"}, "cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--leave", "redirect", "--yes")
	w.write("host-127.0.0.4/maintenance.flag", "1")
	w.fails(1, []string{"is there already"}, "cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
	assert.Equal(t, "1", w.read("host-127.0.0.4/maintenance.flag"))
	require.NoError(t, os.Remove(w.path("host-127.0.0.4/maintenance.flag")))
	require.NoError(t, os.RemoveAll(w.path("store")))
	w.fails(1, nil, "cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
	assert.True(t, open(old))
}

// wayBack takes ends of cutovers back on odd days: a dry run does nothing, and what was done by hand at the new place since
// keeps nobody from opening the old one.
func wayBack(t *testing.T, w *world, open func() bool, at func() string) {
	t.Helper()
	before := at()
	finish := func() string {
		w.run("cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
		return at()
	}
	require.NoError(t, lampblack.Execute(t.Context(), w.path("host-127.0.0.4", lampblack.DatabaseFile), "UPDATE pages SET title = 'On the way back' WHERE slug = 'visit'"))
	after := finish()
	require.NotEqual(t, before, after)
	assert.Contains(t, w.run("cutover", "finish", "kestrelpoint", "--back", "--dry-run", "--yes"), "Dry run: nothing was changed.")
	assert.False(t, open())
	assert.True(t, after == at())
	w.fails(2, []string{"--leave has no meaning with --back"}, "cutover", "finish", "kestrelpoint", "--back", "--leave", "open", "--yes")
	w.fails(2, []string{"went to lighthouse, not to kestrelpoint"}, "cutover", "finish", "kestrelpoint", "--back", "--to", "kestrelpoint", "--yes")
	assert.False(t, open())
	w.write("host-127.0.0.9/uploads/visitor.txt", "written at the new place")
	require.NoError(t, os.Rename(w.path("store"), w.path("away")))
	w.fails(1, []string{"save what was written at lighthouse since: ", "nothing was taken back", "add --anyway"}, "cutover", "finish", "kestrelpoint", "--back", "--yes")
	require.NoError(t, os.Rename(w.path("away"), w.path("store")))
	assert.False(t, open())
	assert.FileExists(t, w.path("host-127.0.0.9/uploads/visitor.txt"))
	saved := regexp.MustCompile(`What was written at lighthouse meanwhile is in (\S+), which is held`).FindStringSubmatch(w.run("cutover", "finish", "kestrelpoint", "--back", "--yes"))
	require.NotNil(t, saved)
	assert.NoFileExists(t, w.path("host-127.0.0.9/uploads/visitor.txt"))
	assert.Equal(t, "written at the new place", w.run("extract", saved[1], "uploads/visitor.txt", "--to", "-"))
	finish()
	w.run("undo", "lighthouse", "--yes") // the last of its two moves
	w.run("cutover", "finish", "kestrelpoint", "--back", "--yes")
	assert.True(t, open())
	assert.True(t, before == at())
	after = finish()
	w.run("settle", "lighthouse", "--unsaved", "--yes")
	w.fails(1, []string{"undone, settled or restored over", "--back --anyway` opens kestrelpoint again, and leaves lighthouse as it is"}, "cutover", "finish", "kestrelpoint", "--back", "--yes")
	assert.False(t, open())
	assert.Contains(t, w.run("cutover", "finish", "kestrelpoint", "--back", "--anyway", "--yes"), "lighthouse  stays as it is")
	assert.True(t, open())
	assert.True(t, after == at())
}

// alike leaves out of what a tree is like how many names files have, for those that did not change have one in
// what is set aside, too; and the times of folders.
func alike(tree map[string]string) map[string]string {
	links, time := regexp.MustCompile(`links=\d+`), regexp.MustCompile(` \S+$`)
	for name, text := range tree {
		if tree[name] = links.ReplaceAllString(text, ""); strings.HasPrefix(text, "d") {
			tree[name] = time.ReplaceAllString(tree[name], "")
		}
	}
	return tree
}

// What changes between the first archive and the last one comes over, whatever it is: at the cost of what
// differs, or as a whole where that would not do.
func TestCutoverBringsWhatChangedSince(t *testing.T) {
	t.Parallel()
	w, _, _ := twoHosts(t)
	w.museumThatMoves()
	w.drain = 500 * time.Millisecond
	old := func(rel string) string { return w.path("host-127.0.0.4", rel) }
	write := func(rel, text string) { w.write("host-127.0.0.4/"+rel, text) }
	for name, c := range map[string]struct {
		change func() error
		// whole tells that all of it has to come.
		whole bool
	}{
		"files": {change: func() error {
			write("uploads/2026/new/deep/paper.txt", "new")
			write("uploads/2026/lens.svg", "<svg>changed</svg>")
			return errors.Join(os.Remove(old("uploads/2026/boat.svg")), os.RemoveAll(old("themes/plainsail")), os.Chmod(old("uploads/2026/horn.svg"), 0o600), os.Symlink("lens.svg", old("uploads/2026/link.svg")), os.Symlink(old("uploads/2026/lens.svg"), old("uploads/2026/whole.svg")))
		}},
		"nothing":         {change: func() error { return nil }},
		"only a loss":     {change: func() error { return os.Remove(old("uploads/2026/gallery/sea-1.png")) }},
		"a folder's mode": {change: func() error { return os.Chmod(old("uploads/2026"), 0o750) }, whole: true},
		"the settings":    {change: func() error { write("settings.yaml", w.read("host-127.0.0.4/settings.yaml")+"# later\n"); return nil }, whole: true},
		"at the top":      {change: func() error { write("robots.txt", "User-agent: *\n"); return nil }, whole: true},
		"names of a file": {change: func() error {
			write("uploads/2026/one.txt", "1")
			return os.Link(old("uploads/2026/one.txt"), old("uploads/2026/two.txt"))
		}, whole: true},
	} {
		w.step(t, name, func(t *testing.T) {
			cmd := w.command("cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
			said, err := cmd.StderrPipe()
			require.NoError(t, err)
			require.NoError(t, cmd.Start())
			staged := 0
			for lines := bufio.NewScanner(said); lines.Scan(); {
				// The first archive is there; until the last one, the whole move of it goes by.
				if strings.HasSuffix(lines.Text(), "bringing over what is there while it is open") {
					require.NoError(t, c.change())
				}
				if strings.HasPrefix(lines.Text(), "staging ") {
					staged++
				}
			}
			require.NoError(t, cmd.Wait())
			assert.Equal(t, 2, staged)
			skip := []string{"data", "cache", "maintenance.flag", "uploads/2026/whole.svg"}
			style := snapshot(t, w.path("host-127.0.0.9"))["themes/lantern/style.css"]
			assert.Equal(t, c.whole, strings.Contains(style, "links=1"), "what did not change stays where it is: %s", style)
			assert.Equal(t, alike(snapshot(t, old("."), skip...)), alike(snapshot(t, w.path("host-127.0.0.9"), skip...)))
			whole, err := os.Readlink(w.path("host-127.0.0.9/uploads/2026/whole.svg"))
			assert.True(t, err != nil || whole == "lens.svg", "it leads to the old place: %s", whole)
			w.run("cutover", "finish", "kestrelpoint", "--back", "--yes")
		})
	}
}

// A site whose database, settings and uploads lie in a folder that its releases share ends at a new host like any other.
func TestADeployedSiteMovesAway(t *testing.T) {
	t.Parallel()
	w, _, _ := twoHosts(t)
	old, now := w.path("host-127.0.0.4"), w.path("host-127.0.0.9")
	require.NoError(t, os.MkdirAll(w.path("app/shared"), 0o755))
	require.NoError(t, os.Rename(old, w.path("app/5")))
	for _, name := range []string{"data", "uploads", "settings.yaml"} {
		require.NoError(t, os.Rename(w.path("app/5", name), w.path("app/shared", name)))
		require.NoError(t, os.Symlink(w.path("app/shared", name), w.path("app/5", name)))
	}
	require.NoError(t, os.Symlink("app/5", old))
	w.edit("revlet.yaml", "{root: "+old, "{roots: {shared: "+w.path("app/shared")+"}, root: "+old)
	require.NoError(t, os.MkdirAll(w.path("store"), 0o755))
	w.run("backup")
	move := []string{"move", "kestrelpoint", "--to", "lighthouse", "--root", now, "--folder", "shared=" + w.path("shared"), "--address", strings.TrimSuffix(w.sitePage("").String(), "/"), "--anyway", "--yes"}
	out := w.fails(4, []string{"Came up"}, move...).out
	assert.Contains(t, out, "uploads  leads to "+w.path("shared/uploads")+"\n")
	assert.Contains(t, out, "shared/settings.yaml  changed\n")
	assert.Contains(t, out, "No value of the database names the old place.", "its address stays")
	w.run("settle", "lighthouse", "--yes", "--unsaved")
	w.write("app/shared/uploads/late.txt", "late")
	require.NoError(t, os.Symlink(w.path("app/shared/uploads/late.txt"), w.path("app/5/themes/late")))
	require.NoError(t, lampblack.Execute(t.Context(), w.path("app/shared/data/museum.db"), "UPDATE pages SET title = 'Written late' WHERE slug = 'visit'"))
	w.run("cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
	assert.FileExists(t, filepath.Join(old, "maintenance.flag"))
	assert.Equal(t, "late", w.read("host-127.0.0.9/themes/late"))
	require.NoError(t, os.RemoveAll(w.path("app"))) // nothing of the new place is there
	assert.Equal(t, "late", w.read("host-127.0.0.9/themes/late"))
	text, err := lampblack.Dump(t.Context(), filepath.Join(now, lampblack.DatabaseFile))
	require.NoError(t, err)
	assert.Contains(t, text, `"Written late"`)
	w.run("backup", "lighthouse")
	assert.Contains(t, w.run("compare", "lighthouse"), "Nothing differs")
}

// An old place that only SFTP leads to is closed and opened over there.
func TestCutoverFromElsewhere(t *testing.T) {
	t.Parallel()
	w, _, _ := twoHosts(t)
	host, err := place.Start(place.SFTP, place.Options{Dir: w.dir, Keys: w.path("hostkeys"), User: "keeper", Password: "practice", Faults: &place.Faults{}})
	require.NoError(t, err)
	t.Cleanup(host.Close)
	w.write("host.pw", "practice\n")
	w.edit("revlet.yaml", "root: "+w.path("host-127.0.0.4"), fmt.Sprintf("root: %q, reach: {password_file: %s, host_key: %q}", host.Address+"host-127.0.0.4", w.path("host.pw"), host.Fingerprint))
	w.museumThatMoves()
	old := w.path("host-127.0.0.4")
	require.NoError(t, lampblack.Execute(t.Context(), filepath.Join(old, lampblack.DatabaseFile), "UPDATE pages SET title = 'Written late' WHERE slug = 'visit'"))
	assert.Contains(t, w.run("cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--dry-run"), "Dry run: nothing was changed.")
	before := w.run("archives")
	w.fails(2, []string{"nobody can be asked"}, "cutover", "finish", "kestrelpoint", "--to", "lighthouse")
	assert.Equal(t, before, w.run("archives"), "nothing is taken before it can be gone on with")
	assert.NoFileExists(t, filepath.Join(old, "maintenance.flag"))
	w.run("cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--yes")
	assert.FileExists(t, filepath.Join(old, "maintenance.flag"))
	text, err := lampblack.Dump(t.Context(), w.path("host-127.0.0.9", lampblack.DatabaseFile))
	require.NoError(t, err)
	assert.True(t, strings.Contains(text, `"Written late"`))
	assert.Contains(t, w.run("history", "kestrelpoint"), "cutover finish")
	w.run("cutover", "finish", "kestrelpoint", "--back", "--yes")
	assert.NoFileExists(t, filepath.Join(old, "maintenance.flag"))
}
