package e2e

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hammer asks a page a hundred times a second until stop is called, and returns
// what it saw, each with when.
type hammer struct {
	mu   sync.Mutex
	seen []sight
	quit chan struct{}
	done chan struct{}
	// lanes limits how many questions are open at a time.
	lanes chan struct{}
}

type sight struct {
	at     time.Time
	took   time.Duration
	status int
	body   string
	retry  string
}

func hammering(url string) *hammer {
	h := &hammer{quit: make(chan struct{}), done: make(chan struct{}), lanes: make(chan struct{}, 8)}
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	go func() {
		defer close(h.done)
		var asking sync.WaitGroup
		defer asking.Wait()
		tick := time.NewTicker(10 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-h.quit:
				return
			case <-tick.C:
			}
			select {
			case h.lanes <- struct{}{}:
				asking.Go(func() { h.ask(client, url); <-h.lanes })
			default: // it answers more slowly than that
			}
		}
	}()
	return h
}

func (h *hammer) ask(client *http.Client, url string) {
	s := sight{at: time.Now()}
	resp, err := client.Get(url)
	if err != nil {
		s.body = err.Error()
	} else {
		body, _ := io.ReadAll(resp.Body)
		_ = resp.Body.Close()
		s.status, s.body, s.retry = resp.StatusCode, string(body), resp.Header.Get("Retry-After")
	}
	s.took = time.Since(s.at)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.seen = append(h.seen, s)
}

// stop ends it and makes sure that only the old page, the closed site and the new
// page were seen, but for pages that were being made when it was closed and took
// longer than a closed site waits for them. It returns for how long it was closed.
func (h *hammer) stop(t *testing.T, drain time.Duration, old, now func(body string) bool) time.Duration {
	t.Helper()
	close(h.quit)
	<-h.done
	// closed is when the first answer said so: of two requests under way at a time, the one
	// that was begun later may have been worked on first.
	var first, closed, last time.Time
	var slow []sight
	var usual []time.Duration
	counts := map[string]int{}
	for _, s := range h.seen {
		switch {
		case s.status == 503:
			assert.NotEmpty(t, s.retry, "a closed site says when to come again")
			if first.IsZero() || s.at.Before(first) {
				first = s.at
			}
			if answered := s.at.Add(s.took); closed.IsZero() || answered.Before(closed) {
				closed = answered
			}
			if s.at.After(last) {
				last = s.at
			}
			counts["closed"]++
		case s.status == 200 && old(s.body):
			counts["old"]++
			usual = append(usual, s.took)
		case s.status == 200 && now(s.body):
			counts["new"]++
		case s.status == 200 && s.took > drain:
			slow = append(slow, s)
		default:
			assert.Failf(t, "neither old nor new", "%d …%s", s.status, s.body[max(0, len(s.body)-500):])
		}
	}
	assert.NotZero(t, counts["old"])
	assert.NotZero(t, counts["new"])
	for _, s := range slow {
		assert.True(t, s.at.Before(closed), "begun once the site was closed, and neither old nor new: …%s", s.body[max(0, len(s.body)-500):])
	}
	window := last.Sub(first)
	if counts["closed"] > 0 {
		window += 10 * time.Millisecond
	}
	slices.Sort(usual)
	page := time.Duration(0) // what an old page takes: on a machine that is busy with other tests, a second is none
	if len(usual) > 0 {
		page = usual[len(usual)/2]
	}
	t.Logf("%v and %d slow ones, closed for %v, a page takes %v", counts, len(slow), window, page)
	assert.LessOrEqual(t, window, max(time.Second, 4*page))
	return window
}

// phpServer serves a folder with PHP's own server and returns its port.
func phpServer(t *testing.T, root string) string {
	port := fmt.Sprint(freePort(t))
	t.Setenv("PHP_CLI_SERVER_WORKERS", "4")
	start(t, func() bool {
		r, err := http.Get("http://127.0.0.1:" + port + "/")
		return err == nil && r.Body.Close() == nil
	}, "php", "-S", "127.0.0.1:"+port, "-t", root)
	return port
}

// php runs code inside the WordPress in htdocs.
func (w *world) php(code string) string {
	w.t.Helper()
	cmd := exec.Command("php", "-r", "require 'wp-load.php'; "+code)
	cmd.Dir = w.path("htdocs")
	out, err := cmd.CombinedOutput()
	require.NoError(w.t, err, string(out))
	return strings.TrimSpace(string(out))
}

// The days on which a site breaks, on a real CMS.
func TestWordPressOnABadDay(t *testing.T) {
	t.Setenv("PHP_CLI_SERVER_WORKERS", "4")
	w, s, address := wordpress(t, "museum_cms")
	w.run("adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives")
	page := w.php(`$id = wp_insert_post(['post_type' => 'page', 'post_status' => 'publish', 'post_author' => 1, 'post_title' => 'School groups', 'post_content' => 'first words']);
		wp_update_post(['ID' => $id, 'post_content' => 'We light a small lamp together']); wp_update_post(['ID' => $id, 'post_content' => 'We light a small lamp together.']);
		update_post_meta($id, 'guide', "E. Marrow's"); wp_set_object_terms($id, ['visits'], 'category');
		$c = wp_insert_comment(['comment_post_ID' => $id, 'comment_content' => 'We sent our names across the bay', 'comment_author' => '4b']); update_comment_meta($c, 'stars', '5'); echo $id;`)
	w.write("htdocs/wp-content/mu-plugins/hours.php", "<?php // opening hours\n")
	w.clock = time.Now().Add(-72 * time.Hour)
	w.run("backup", "--note", "all well")
	good := w.newest()
	of := func(what string) []string {
		return s.column(t, strings.NewReplacer("PAGE", page, "FROM ", "FROM museum_cms.kp_").Replace(what))
	}
	belongs := func() []string {
		var all []string
		for _, q := range []string{
			"SELECT CONCAT_WS('|', ID, post_content, post_type, post_parent) FROM posts WHERE ID = PAGE OR post_parent = PAGE ORDER BY ID",
			"SELECT CONCAT_WS('|', meta_key, meta_value) FROM postmeta WHERE post_id = PAGE ORDER BY meta_id",
			"SELECT term_taxonomy_id FROM term_relationships WHERE object_id = PAGE ORDER BY 1",
			"SELECT CONCAT_WS('|', comment_ID, comment_content) FROM comments WHERE comment_post_ID = PAGE ORDER BY comment_ID",
			"SELECT CONCAT_WS('|', comment_id, meta_key, meta_value) FROM commentmeta ORDER BY meta_id",
		} {
			all = append(all, of(q)...)
		}
		return all
	}
	whole := belongs()
	require.GreaterOrEqual(t, len(whole), 7, "a page, its revisions, what it is filed under, a comment")

	w.step(t, "a page is deleted", func(t *testing.T) {
		later := w.php(`wp_delete_post(` + page + `, true); echo wp_insert_comment(['comment_post_ID' => 1, 'comment_content' => 'written since']);`)
		require.Empty(t, of("SELECT 1 FROM posts WHERE ID = PAGE"))
		out := w.run("restore", good, "--rows", "posts:ID="+page, "--yes")
		assert.Contains(t, out, "kp_posts: ")
		assert.Equal(t, whole, belongs())
		assert.Equal(t, []string{"written since"}, of("SELECT comment_content FROM comments WHERE comment_ID = "+later))
		_, shown := get(t, address+"/?page_id="+page)
		assert.Contains(t, shown, "We light a small lamp together.")
		w.run("undo", "kestrelpoint", "--yes")
		assert.Empty(t, of("SELECT 1 FROM posts WHERE ID = PAGE"))
		w.run("restore", good, "--rows", "posts:ID="+page, "--yes")
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
		assert.Empty(t, s.column(t, `SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'museum_cms' AND TABLE_NAME LIKE 'rv\_%'`))

		// One whose author is gone does not come back by halves.
		w.php(`wp_delete_post(` + page + `, true);`)
		s.exec(t, "UPDATE museum_cms.kp_users SET ID = 77 WHERE ID = 1; UPDATE museum_cms.kp_usermeta SET user_id = 77 WHERE user_id = 1")
		w.fails(1, []string{"refer by post_author to rows of kp_users that are gone (1)", "next: add --rows kp_users:ID=1", "--anyway", "the site is unchanged"}, "restore", good, "--rows", "posts:ID="+page, "--yes")
		assert.Empty(t, of("SELECT 1 FROM posts WHERE ID = PAGE"))
		s.exec(t, "UPDATE museum_cms.kp_users SET ID = 1 WHERE ID = 77; UPDATE museum_cms.kp_usermeta SET user_id = 1 WHERE user_id = 77")
	})

	w.step(t, "a theme is deleted", func(t *testing.T) {
		themes := snapshot(t, w.path("htdocs/wp-content/themes"))
		require.NoError(t, os.RemoveAll(w.path("htdocs/wp-content/themes")))
		require.Eventually(t, func() bool { // PHP keeps scripts for up to three seconds
			_, shown := get(t, address+"/")
			return !strings.Contains(shown, "Kestrel Point Lighthouse Museum")
		}, 10*time.Second, 200*time.Millisecond)
		assert.Contains(t, w.run("restore", good, "--only", "themes", "--yes"), "answers 200")
		assert.Equal(t, themes, snapshot(t, w.path("htdocs/wp-content/themes")))
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	})

	w.step(t, "an update breaks PHP", func(t *testing.T) {
		r := w.try("guard", "kestrelpoint", "--patience", "1 second", "--", "sh", "-c", "echo '<?php this is no PHP' > htdocs/wp-content/mu-plugins/hours.php")
		assert.Equal(t, 5, r.code, r.out+r.err)
		assert.Contains(t, r.out, "hours.php")
		status, _ := get(t, address+"/")
		assert.Equal(t, 200, status)
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	})

	w.step(t, "somebody gets in", func(t *testing.T) {
		w.clock = time.Now().Add(-48 * time.Hour)
		w.run("backup")
		clean := w.newest()
		w.write("htdocs/wp-content/uploads/2026/11/lens.php", "<?php evil();")
		w.php(`wp_insert_user(['user_login' => 'eve', 'user_pass' => 'x', 'role' => 'administrator']); wp_schedule_event(time(), 'daily', 'eves_hook'); update_option('active_plugins', ['eve/eve.php']);`)
		w.clock = time.Now().Add(-24 * time.Hour)
		w.try("backup")
		tainted := w.newest()
		require.NotEqual(t, clean, tainted)
		w.clock = time.Time{}
		out := w.fails(4, []string{"uploads/2026/11/lens.php", "eve in table kp_users", "eves_hook in table kp_options", "eve/eve.php in table kp_options", "clean until ", clean + " has none of that"}, "compare", good).out
		day := time.Now().Add(-24 * time.Hour).Format("2006-01-02")
		for _, what := range []string{"lens.php", "eve in table"} {
			_, after, _ := strings.Cut(out, what)
			assert.Regexp(t, `(?s)^[^\n]*\n[^\n]*first seen `+day, after, what)
		}
		w.fails(0, []string{"clean until", tainted}, "compare", "kestrelpoint", "--since", "users:user_login=eve")

		out = w.run("restore", clean, "--yes")
		assert.Contains(t, out, "If somebody got in, only you can do the rest:")
		assert.Contains(t, out, "AUTH_KEY")
		assert.NoFileExists(t, w.path("htdocs/wp-content/uploads/2026/11/lens.php"))
		assert.Empty(t, of("SELECT 1 FROM users WHERE user_login = 'eve'"))
		assert.Contains(t, w.run("compare", clean), "Nothing differs:")
		w.run("aside", "export", "kestrelpoint", "evidence.tar.zst")
		evidence := sh(t, "zstd -dc "+w.path("evidence.tar.zst")+" | tar -xOf - webroot/wp-content/uploads/2026/11/lens.php database/main/kp_users.1.sql")
		assert.Contains(t, evidence, "evil()")
		assert.Contains(t, evidence, "'eve'")
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	})

	w.step(t, "visitors see old, closed or new", func(t *testing.T) {
		mark := func(text string) { w.php(fmt.Sprintf("update_option('blogdescription', '%s');", text)) }
		// Words in a file of their own: PHP keeps scripts in memory for 2 seconds.
		w.write("htdocs/wp-content/mu-plugins/foot.php", "<?php add_action('wp_footer', function () { echo file_get_contents(WP_CONTENT_DIR . '/words.txt') . ' / ' . get_option('blogdescription'); });")
		foot := func(text string) { w.write("htdocs/wp-content/words.txt", text) }
		foot("files: new")
		mark("rows: new")
		w.run("backup")
		foot("files: old")
		mark("rows: old")
		both := func(word string) func(string) bool {
			return func(body string) bool { return strings.Contains(body, "files: "+word+" / rows: "+word) }
		}
		w.drain = 250 * time.Millisecond
		h := hammering(address + "/")
		time.Sleep(300 * time.Millisecond)
		out := w.run("restore", "kestrelpoint", "--yes")
		time.Sleep(500 * time.Millisecond)
		h.stop(t, w.drain, both("old"), both("new"))
		assert.Contains(t, out, "Restored kestrelpoint from "+w.newest(), "%s", out)
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	})
}

// A site without a switch of its own is closed at its front door, and opened again
// by the next command, or by time.
func TestClosedAtTheFrontDoor(t *testing.T) {
	need(t, "php")
	w := plain(t)
	page := func(files string) string {
		return "<?php usleep(2000); echo '" + files + " ', file_get_contents(__DIR__ . '/words.txt');"
	}
	w.write("htdocs/index.php", page("new"))
	w.write("htdocs/words.txt", "new")
	for i := range 300 {
		w.write(fmt.Sprintf("htdocs/many/%03d.txt", i), "x")
	}
	address := "http://127.0.0.1:" + phpServer(t, w.path("htdocs"))
	w.run("backup")
	w.write("htdocs/index.php", page("old"))
	w.write("htdocs/words.txt", "old")
	tree := snapshot(t, w.path("htdocs"))

	w.drain = 100 * time.Millisecond
	h := hammering(address + "/")
	time.Sleep(200 * time.Millisecond)
	w.run("restore", "kestrelpoint", "--yes")
	time.Sleep(200 * time.Millisecond)
	h.stop(t, w.drain, func(b string) bool { return b == "old old" }, func(b string) bool { return b == "new new" })
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, tree, snapshot(t, w.path("htdocs")))
}
