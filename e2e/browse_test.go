package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
)

// browsing starts the program's page, and returns its address and that of its folder.
func (w *world) browsing(args ...string) (page, folder string) {
	w.t.Helper()
	cmd := w.command(append([]string{"browse"}, args...)...)
	out, err := cmd.StdoutPipe()
	require.NoError(w.t, err)
	require.NoError(w.t, cmd.Start())
	w.t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_, _ = io.Copy(io.Discard, out)
		_ = cmd.Wait()
	})
	lines := bufio.NewReader(out)
	for range 2 {
		line, err := lines.ReadString('\n')
		require.NoError(w.t, err)
		page += strings.Join(regexp.MustCompile(`http://\S+`).FindAllString(line, -1), "")
		folder += strings.Join(regexp.MustCompile(`dav://\S+`).FindAllString(line, -1), "")
	}
	return page, strings.Replace(folder, "dav:", "http:", 1)
}

// asks sends a request, and returns the answer with its text.
func asks(t *testing.T, method, url string, change ...func(*http.Request)) (*http.Response, string) {
	t.Helper()
	body := ""
	if method != "GET" && method != "PROPFIND" {
		body = "new"
	}
	r, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	for _, c := range change {
		c(r)
	}
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp, string(text)
}

// An archive is looked into with a browser and as a folder; nothing can be changed, nothing of the site runs,
// and nobody else can look.
func TestBrowse(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.write("htdocs/uploads/evil.html", "<script>document.title='ran'</script>")
	w.write("htdocs/uploads/evil.svg", "<svg xmlns='http://www.w3.org/2000/svg' onload='document.title=1'/>")
	w.write("htdocs/uploads/<b>name&.txt", "a text")
	w.write("htdocs/uploads/long.bin", strings.Repeat("\x00lighthouse", 300_000))
	require.NoError(t, lampblack.Execute(t.Context(), w.path("htdocs", lampblack.DatabaseFile), "UPDATE pages SET title = '<img src=x onerror=alert(1)>' WHERE slug = 'visit'"))
	w.run("backup")
	first := w.newest()
	require.NoError(t, os.Remove(w.path("htdocs/uploads/evil.html")))
	w.run("backup")
	page, folder := w.browsing(first)

	get := func(path string) string {
		resp, text := asks(t, "GET", page+path)
		require.Equal(t, 200, resp.StatusCode, "%s %s", path, text)
		assert.Contains(t, resp.Header.Get("Content-Security-Policy"), "default-src 'none'")
		assert.Contains(t, resp.Header.Get("Content-Security-Policy"), "sandbox")
		assert.Equal(t, "nosniff", resp.Header.Get("X-Content-Type-Options"))
		return text
	}
	assert.Contains(t, get(""), "keepers_log")
	assert.Contains(t, get("files/webroot/uploads"), "&lt;b&gt;name&amp;.txt")
	assert.Contains(t, get("files/webroot/uploads/%3Cb%3Ename&.txt"), "a text")
	assert.Contains(t, get("files/webroot/uploads/evil.html"), "&lt;script&gt;")
	assert.Contains(t, get("files/webroot/uploads/long.bin"), "too long")
	assert.Contains(t, get("table/main/pages"), "&lt;img src=x")
	assert.Contains(t, get("table/main/keepers_log?q=KESTREL+has+nested"), "rows in all; shown are 50 from 1 on")
	assert.Contains(t, get("table/main/keepers_log?q=nobody+wrote+this"), "No such row")
	assert.Contains(t, get("table/main/keepers_log?from=350"), "shown are 16 from 351 on")
	assert.Contains(t, get("changes?with="+w.newest()), "uploads/evil.html")
	for name, kind := range map[string]string{"evil.html": "application/octet-stream", "evil.svg": "application/octet-stream", "evil.svg?shown": "application/octet-stream"} {
		resp, _ := asks(t, "GET", page+"raw/webroot/uploads/"+name)
		assert.Equal(t, kind, resp.Header.Get("Content-Type"))
		assert.Contains(t, resp.Header.Get("Content-Disposition"), "attachment")
	}
	resp, text := asks(t, "GET", page+"raw/webroot/uploads/long.bin", func(r *http.Request) { r.Header.Set("Range", "bytes=1-10") })
	assert.Equal(t, 206, resp.StatusCode)
	assert.Equal(t, "lighthouse", text)

	resp, text = asks(t, "PROPFIND", folder+"webroot/uploads/", func(r *http.Request) { r.Header.Set("Depth", "1") })
	assert.Equal(t, 207, resp.StatusCode)
	assert.Contains(t, text, "long.bin")
	assert.NotContains(t, text, "current", "links lead who knows where")
	_, text = asks(t, "GET", folder+"webroot/uploads/%3Cb%3Ename&.txt")
	assert.Equal(t, "a text", text)
	for _, method := range []string{"PUT", "DELETE", "MKCOL", "PROPPATCH", "MOVE", "COPY", "LOCK", "POST"} {
		resp, _ := asks(t, method, folder+"webroot/new.txt")
		assert.Equal(t, 403, resp.StatusCode, method)
		resp, _ = asks(t, method, page+"files")
		assert.Equal(t, 405, resp.StatusCode, method)
	}

	top := page[:strings.Index(page, "/")+2] + strings.Split(page, "/")[2]
	for _, c := range []struct {
		url, host string
	}{{top + "/", ""}, {top + "/wrong/files", ""}, {page, "evil.example"}, {folder, "evil.example:80"}, {page + "files/webroot/../../../etc/passwd", ""}, {page + "raw/%2e%2e/%2e%2e/etc/passwd", ""}, {page + "table/main/nothing", ""}, {page + "changes?with=../x", ""}} {
		resp, text := asks(t, "GET", c.url, func(r *http.Request) { r.Host = c.host })
		assert.Equal(t, 404, resp.StatusCode, c.url)
		assert.NotContains(t, text, "root:")
	}
	w.fails(2, []string{"no address of this machine alone"}, "browse", "kestrelpoint", "--listen", "0.0.0.0:0")
	left, err := filepath.Glob(w.path("state/browse-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// The pages are for everybody, too, and forms work in them.
func TestBrowseInABrowser(t *testing.T) {
	t.Parallel()
	checker := axeCore(t)
	w, _ := museum(t)
	w.run("backup")
	page, _ := w.browsing("kestrelpoint")
	for _, path := range []string{"", "files/webroot/themes/lantern/theme.html", "table/main/pages?q=Kestrel"} {
		resp, text := asks(t, "GET", page+path)
		require.Equal(t, 200, resp.StatusCode)
		found := w.browse(text, "1280,800", checker+`;axe.run().then(r => {
			const pre = document.createElement('pre'); pre.id = 'found'; pre.textContent = JSON.stringify(r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.html + n.failureSummary).join(' | ')));
			document.body.replaceChildren(pre) })`)
		var violations []string
		require.NoError(t, json.Unmarshal([]byte(found), &violations))
		assert.Empty(t, violations, fmt.Sprint(path))
	}
}

// A browser is opened by a command whose words everybody on the machine can read: they are of no use to another account, and to
// nobody a second time.
func TestWhatABrowserIsOpenedWith(t *testing.T) {
	need(t, "setpriv", "/usr/bin/python3")
	if os.Geteuid() != 0 {
		t.Skip("only root can be two accounts")
	}
	w := plain(t)
	w.write("htdocs/index.html", "the lamp")
	w.run("backup")
	w.write("bin/xdg-open", "#!/bin/sh\necho \"$1\" >"+w.path("opened.new")+"; mv "+w.path("opened.new")+" "+w.path("opened")+"\n")
	require.NoError(t, os.Chmod(w.path("bin/xdg-open"), 0o755))
	t.Setenv("PATH", w.path("bin")+":"+os.Getenv("PATH"))
	page, _ := w.browsing("kestrelpoint", "--open")
	require.Eventually(t, func() bool { _, err := os.Stat(w.path("opened")); return err == nil }, 20*time.Second, 10*time.Millisecond)
	ticket := strings.TrimSpace(w.read("opened"))
	assert.NotContains(t, ticket, strings.Split(page, "/")[3])
	out, err := exec.Command("setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "/usr/bin/python3", "-c", "import urllib.request; urllib.request.urlopen('"+ticket+"')").CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out), "404")
	resp, text := asks(t, "GET", ticket)
	assert.Equal(t, 200, resp.StatusCode)
	assert.Equal(t, page, resp.Request.URL.String())
	assert.Contains(t, text, "kestrelpoint")
	resp, _ = asks(t, "GET", ticket)
	assert.Equal(t, 404, resp.StatusCode, "it was used")
}
