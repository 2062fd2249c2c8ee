package e2e

import (
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
)

// movedContent makes what page builders, widgets and shops keep of addresses, through
// WordPress's own functions; the same script, told other addresses, says what there is to
// be at the new place.
const movedContent = `
$old = $argv[1]; $dir = $argv[2]; $beside = $argv[3];
$o = new stdClass; $o->url = "$old/tour"; $o->list = [$old, ["deep" => "$old/a?b=c"]];
$all = [
  'widget_text' => [2 => ['title' => 'Öffnungszeiten', 'text' => "<a href=\"$old/hours\">hours</a>"], '_multiwidget' => 1],
  'kp_object' => $o,
  'kp_nested' => ['again' => serialize(['u' => "$old/x", 'json' => json_encode(['v' => "$old/ü"])])],
  'kp_json' => json_encode(['blocks' => [['img' => "$old/wp-content/uploads/2026/11/lens.jpg"]], 'text' => "<b>\"$old\"</b>"]),
  'kp_keys' => ["$old/from" => "$old/to"],
  'kp_path' => ["$dir/wp-content/uploads", 'not' => "$beside-old/x"],
  'kp_encoded' => 'https://share.example/?u=' . rawurlencode("$old/a b"),
];`

const makeContent = movedContent + `
update_option('home', $old); update_option('siteurl', $old);
foreach ($all as $k => $v) update_option($k, $v);
$id = wp_insert_post(['post_title' => 'The lamp', 'post_name' => 'the-lamp', 'post_status' => 'publish', 'post_content' => wp_slash("<!-- wp:image {\"url\":\"" . str_replace('/', '\/', $old) . "\/l.png\"} --><img src=\"$old/l.png\"><!-- /wp:image --> write to keeper@kestrelpoint.example")]);
update_post_meta($id, 'builder', wp_slash(json_encode([['settings' => ['link' => ['url' => "$old/tour"]]]])));
$menu = wp_create_nav_menu('Main'); wp_update_nav_menu_item($menu, 0, ['menu-item-title' => 'Tour', 'menu-item-url' => "$old/tour", 'menu-item-status' => 'publish']);
global $wpdb; $wpdb->insert($wpdb->options, ['option_name' => 'kp_broken', 'option_value' => 'a:1:{i:0;s:9:"' . $old . '";}', 'autoload' => 'no']);
echo $id;`

const proveContent = movedContent + `
foreach ($all as $k => $v) { $got = get_option($k); if (serialize($got) !== serialize($v)) { echo "$k: ", serialize($got), " is not ", serialize($v), "\n"; } }
if (get_option('home') !== $old || get_option('siteurl') !== $old) echo 'home ', get_option('home'), "\n";
$p = get_page_by_path('the-lamp', OBJECT, 'post'); $b = parse_blocks($p->post_content);
if ($b[0]['attrs']['url'] !== "$old/l.png" || strpos($b[0]['innerHTML'], "\"$old/l.png\"") === false) echo "block ", $p->post_content, "\n";
$m = json_decode(get_post_meta($p->ID, 'builder', true), true); if ($m[0]['settings']['link']['url'] !== "$old/tour") echo "meta\n";
$items = wp_get_nav_menu_items('Main'); if ($items[0]->url !== "$old/tour") echo "menu ", $items[0]->url, "\n";`

// wp runs a script inside a WordPress, as if its front page at a host, or at a path of one,
// had been asked for.
func wp(t *testing.T, root, host, script string, args ...string) string {
	t.Helper()
	host, path, _ := strings.Cut(host, "/")
	cmd := exec.Command("php", append([]string{"-r", fmt.Sprintf("$_SERVER['HTTP_HOST'] = '%s'; $_SERVER['REQUEST_URI'] = '/%s'; $_SERVER['REMOTE_ADDR'] = '127.0.0.1'; require '%s/wp-load.php'; ", host, path, root) + script, "--"}, args...)...)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// A whole WordPress comes up in another folder, on another server, under another name and
// path; every value is whole and new, and the old place hears nothing of it.
func TestWordPressMoves(t *testing.T) {
	t.Parallel()
	old, s := ownMariadb(t), ownMariadb(t)
	w, _ := wordpressOn(t, old, "museum_cms")
	const from = "https://kestrelpoint.example"
	wp(t, w.path("htdocs"), "kestrelpoint.example", makeContent, from, w.path("htdocs"), w.path("htdocs"))
	require.NoError(t, os.RemoveAll(w.path("htdocs/.htaccess"))) // Debian's is a link out of the webroot
	w.write("htdocs/.htaccess", "RewriteEngine On\nRewriteBase /\nRewriteRule . /index.php [L]\n# "+from+"/x\n")
	w.run("adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives")
	w.run("backup")

	s.exec(t, "CREATE DATABASE lighthouse_cms; CREATE USER lighthouse@'127.0.0.1' IDENTIFIED BY 'new \\'words\\'$'; GRANT ALL ON lighthouse_cms.* TO lighthouse@'127.0.0.1'")
	w.write("new.pw", "new 'words'$\n")
	port := freePort(t)
	to := fmt.Sprintf("http://lighthouse.example:%d/visit", port)
	args := []string{"move", "kestrelpoint", "--to", "lighthouse", "--root", w.path("new/visit"), "--address", to,
		"--database", fmt.Sprintf("mysql: lighthouse@127.0.0.1:%d/lighthouse_cms", s.port), "--password-file", w.path("new.pw")}
	old.exec(t, "SET GLOBAL log_output = 'TABLE'; TRUNCATE mysql.general_log; SET GLOBAL general_log = 1")
	before, config := snapshot(t, w.path("htdocs")), w.read("revlet.yaml")

	var dry, done struct {
		Columns []struct {
			Table, Column                         string
			Values, Places, Kept, Malformed, Mail int
		}
		Added string
	}
	w.json(&dry, append(args, "--dry-run")...)
	assert.NoDirExists(t, w.path("new"))
	assert.Equal(t, config, w.read("revlet.yaml"))
	r := w.try(append(args, "--yes", "--json")...)
	require.Equal(t, 4, r.code, "nobody answers for lighthouse.example yet: %s%s", r.out, r.err)
	decodeJSON(t, r.out, &done)
	assert.Equal(t, dry.Columns, done.Columns, "a dry run counts what is changed")
	counts := map[string][5]int{}
	for _, c := range done.Columns {
		counts[c.Table+"."+c.Column] = [5]int{c.Values, c.Places, c.Kept, c.Malformed, c.Mail}
	}
	assert.Positive(t, counts["kp_posts.guid"][2], "identifiers stay")
	assert.Equal(t, 1, counts["kp_options.option_value"][3], "what was damaged before is named")
	assert.Positive(t, counts["kp_users.user_email"][4]+counts["kp_options.option_value"][4], "mail addresses stay")
	assert.Contains(t, done.Added, "lighthouse:")

	old.exec(t, "SET GLOBAL general_log = 0")
	var asked int
	require.NoError(t, old.root.QueryRow("SELECT COUNT(*) FROM mysql.general_log WHERE command_type IN ('Connect', 'Query') AND user_host NOT LIKE '%root%'").Scan(&asked))
	assert.Zero(t, asked, "the old database was asked")
	assert.Equal(t, before, snapshot(t, w.path("htdocs")))

	assert.Empty(t, wp(t, w.path("new/visit"), fmt.Sprintf("lighthouse.example:%d", port), proveContent, to, w.path("new/visit"), w.path("htdocs")))
	settings := w.read("new/visit/wp-config.php")
	for _, gone := range []string{"'museum_cms'", "made", fmt.Sprint(old.port)} {
		assert.NotContains(t, settings, gone)
	}
	assert.Contains(t, settings, "kp_")
	assert.Equal(t, "RewriteEngine On\nRewriteBase /visit/\nRewriteRule . /visit/index.php [L]\n# "+to+"/x\n", w.read("new/visit/.htaccess"))
	noOldPlace(t, s, "lighthouse_cms", w.path("htdocs"))
	answersAsNew(t, w, port)

	w.run("undo", "lighthouse", "--yes")
	assert.NoFileExists(t, w.path("new/visit/index.php"))
	assert.Empty(t, s.describe(t, "lighthouse_cms"))
	w.fails(2, []string{"which database is the new place's"}, "move", "kestrelpoint", "--to", "lighthouse", "--yes")
	w.fails(4, nil, append([]string{"move", "kestrelpoint", "--to", "lighthouse", "--yes"}, args[len(args)-4:]...)...)
	w.fails(4, []string{"set aside", "which is not empty"}, "move", "kestrelpoint", "--to", "lighthouse", "--yes")
	assert.Empty(t, wp(t, w.path("new/visit"), fmt.Sprintf("lighthouse.example:%d", port), proveContent, to, w.path("new/visit"), w.path("htdocs")))
	wordpressFinishes(t, w, old, s, to)
	handMadeMoves(t, w, old, s)
}

// wordpressFinishes brings over what was written at the old place since the move, rewritten like all else, has the
// old place lead to the new one, and takes it back.
func wordpressFinishes(t *testing.T, w *world, old, s *server, to string) {
	t.Helper()
	said := func() (text string) {
		require.NoError(t, s.root.QueryRow("SELECT option_value FROM lighthouse_cms.kp_options WHERE option_name = 'blogdescription'").Scan(&text))
		return text
	}
	before := said()
	w.write("htdocs/wp-content/uploads/2026/11/late.txt", "late")
	old.exec(t, "UPDATE museum_cms.kp_options SET option_value = 'Written late, see https://kestrelpoint.example/late' WHERE option_name = 'blogdescription'")
	w.run("cutover", "finish", "kestrelpoint", "--to", "lighthouse", "--leave", "redirect", "--yes")
	assert.Equal(t, "Written late, see "+to+"/late", said())
	assert.Equal(t, "late", w.read("new/visit/wp-content/uploads/2026/11/late.txt"))
	assert.Contains(t, w.read("htdocs/.maintenance"), "Location: "+to)
	assert.NoFileExists(t, w.path("new/visit/.maintenance"))
	assert.Empty(t, wp(t, w.path("new/visit"), strings.TrimSuffix(strings.TrimPrefix(to, "http://"), "/visit"), proveContent, to, w.path("new/visit"), w.path("htdocs")))
	w.run("cutover", "finish", "kestrelpoint", "--back", "--yes")
	assert.Equal(t, before, said())
	assert.NoFileExists(t, w.path("htdocs/.maintenance"))
	assert.NoFileExists(t, w.path("new/visit/wp-content/uploads/2026/11/late.txt"))
}

// handMadeMoves brings up what somebody has packed and exported of the old site, as that of an
// account that may make databases to stage in; for one that may not, see
// TestAMoveToAServerIsKilled.
func handMadeMoves(t *testing.T, w *world, old, s *server) {
	t.Helper()
	handMade(t, w.path("htdocs"), w.path("site.zip"), "public_html/")
	sh(t, fmt.Sprintf("cd %s && mariadb-dump --no-defaults -uroot --socket=%s museum_cms > dump.sql", w.dir, old.socket))
	var all struct{ Archives []struct{ Name string } }
	w.run("import", "site.zip", "dump.sql", "--site", "kestrelpoint")
	w.json(&all, "archives", "kestrelpoint")
	for _, one := range []string{"apart"} {
		s.exec(t, fmt.Sprintf("CREATE DATABASE %s_cms; CREATE USER %s@'127.0.0.1' IDENTIFIED BY 'x'; GRANT ALL ON %s_cms.* TO %s@'127.0.0.1'", one, one, one, one))
		s.exec(t, "GRANT ALL ON `rv\\_%`.* TO apart@'127.0.0.1'")
		w.write("x.pw", "x\n")
		host := one + ".example"
		args := []string{"move", all.Archives[0].Name, "--to", one, "--root", w.path(one), "--address", "http://" + host,
			"--database", fmt.Sprintf("mysql: %s@127.0.0.1:%d/%s_cms", one, s.port, one), "--password-file", w.path("x.pw")}
		assert.Contains(t, w.run(append(args, "--dry-run")...), "made by hand")
		w.fails(1, []string{"keep their names"}, append(args, "--yes", "--prefix", "lh_")...)
		r := w.try(append(args, "--yes")...)
		require.Equal(t, 4, r.code, r.out+r.err)
		assert.Contains(t, r.out, "kp_options.option_value")
		assert.Empty(t, wp(t, w.path(one), host, proveContent, "http://"+host, w.path(one), w.path("htdocs")))
		assert.Empty(t, s.column(t, "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME LIKE 'rv\\_new%'"))
		spooled, err := filepath.Glob(w.path("state/spool/*/*"))
		require.NoError(t, err)
		assert.Empty(t, spooled, "nothing stays of what passed through")
	}
}

// guids are addresses by which feeds know posts.
var guids = regexp.MustCompile(`https?://([a-z]+\.)?kestrelpoint\.example(/[a-z]+)?/(\?(p|page_id)=\d+|[0-9/]+/[a-z-]+/)?',`)

// noOldPlace makes sure that the new database has the old place only where it is to.
func noOldPlace(t *testing.T, s *server, db, root string) {
	t.Helper()
	dump, err := exec.Command("mariadb-dump", "--no-defaults", "-uroot", "--socket="+s.socket, "--skip-extended-insert", "--complete-insert", db).Output()
	require.NoError(t, err)
	for line := range strings.Lines(string(dump)) {
		rest := strings.NewReplacer("@kestrelpoint.example", "", root+"-old", "").Replace(line)
		switch {
		case strings.Contains(line, "_posts` ("): // the guid
			rest = guids.ReplaceAllString(rest, "")
		case strings.Contains(line, "kp_broken"):
			continue
		}
		assert.NotContains(t, rest, "kestrelpoint.example", line)
		assert.NotContains(t, rest, root, line)
	}
}

// answersAsNew asks the moved site as browsers will once its name leads there.
func answersAsNew(t *testing.T, w *world, port int) {
	t.Helper()
	start(t, func() bool {
		r, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/visit/readme.html", port))
		return err == nil && r.Body.Close() == nil
	}, "php", "-S", fmt.Sprintf("127.0.0.1:%d", port), "-t", w.path("new"))
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	client := &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	ask := func(method, path string, form url.Values) (int, string, http.Header) {
		r, err := http.NewRequest(method, fmt.Sprintf("http://127.0.0.1:%d/visit%s", port, path), strings.NewReader(form.Encode()))
		require.NoError(t, err)
		r.Host = fmt.Sprintf("lighthouse.example:%d", port)
		if form != nil {
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
			r.Header.Set("Cookie", "wordpress_test_cookie=WP%20Cookie%20check")
		}
		resp, err := client.Do(r)
		require.NoError(t, err)
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(body), resp.Header
	}
	for _, path := range []string{"/", "/?p=1", "/?name=the-lamp"} {
		status, body, _ := ask("GET", path, nil)
		assert.Equal(t, 200, status, path)
		assert.Contains(t, body, "Kestrel Point Lighthouse Museum", path)
		assert.NotContains(t, strings.ReplaceAll(body, "@kestrelpoint.example", ""), "kestrelpoint.example", path)
	}
	status, body, _ := ask("GET", "/wp-content/uploads/2026/11/lens.jpg", nil)
	assert.Equal(t, 200, status)
	assert.Equal(t, "not really a picture", body)
	status, _, head := ask("POST", "/wp-login.php", url.Values{"log": {"keeper"}, "pwd": {"made-up-pass-1871"}, "testcookie": {"1"}})
	assert.Equal(t, 302, status, "the old account logs in")
	assert.Contains(t, head.Get("Location"), fmt.Sprintf("http://lighthouse.example:%d/visit/wp-admin/", port))

	w.write("reset.pw", "the lamp of 1871\n")
	w.run("accounts", "password", "lighthouse", "keeper", "--password-file", w.path("reset.pw"), "--yes")
	for password, want := range map[string]int{"the lamp of 1871": 302, "made-up-pass-1871": 200} {
		status, _, _ = ask("POST", "/wp-login.php", url.Values{"log": {"keeper"}, "pwd": {password}, "testcookie": {"1"}})
		assert.Equal(t, want, status, "after a reset, with %q", password)
	}
	w.run("accounts", "undo", "lighthouse", "--yes")
}

// What cannot be a new place is refused, and loses nothing.
func TestPlacesThatNoSiteCanMoveTo(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	w.run("backup")
	config := w.read("revlet.yaml")
	w.write("taken/index.html", "another site")
	before := snapshot(t, w.dir, "state", "archives")
	move := func(root, address string, more ...string) []string {
		return append([]string{"move", "kestrelpoint", "--to", "lighthouse", "--root", root, "--address", address, "--yes"}, more...)
	}
	const good = "http://127.0.0.1:1"
	for name, c := range map[string]struct {
		code  int
		words []string
		args  []string
	}{
		"something is there":            {1, []string{"which is not empty", "--anyway"}, move("taken", good)},
		"the same root":                 {1, []string{"belongs to site kestrelpoint"}, move("htdocs", good, "--anyway")},
		"inside the root":               {1, []string{"belongs to site kestrelpoint"}, move("htdocs/copy", good)},
		"around the root":               {1, []string{"belongs to site kestrelpoint"}, move(".", good, "--anyway")},
		"a system folder":               {2, []string{"no place for a site"}, move("/etc", good)},
		"no address":                    {2, []string{"no address of a site"}, move("new", "lighthouse.example")},
		"an address with a query":       {2, []string{"no address of a site"}, move("new", good+"/?x")},
		"an address with a name":        {2, []string{"no address of a site"}, move("new", "https://keeper:x@lighthouse.example")},
		"a name that is not ASCII":      {2, []string{"xn--"}, move("new", "https://möwe.example")},
		"a root that ends a string":     {2, []string{"take for something else"}, move("o'brien", good)},
		"an address that ends a string": {2, []string{"take for something else"}, move("new", good+"/x');evil();//")},
		"no such store":                 {2, []string{"there is no store"}, move("new", good, "--stores", "nowhere")},
		"the site itself":               {2, []string{"name of its own"}, []string{"move", "kestrelpoint", "--to", "kestrelpoint", "--yes"}},
		"nothing said":                  {2, []string{"at least its webroot and its address"}, []string{"move", "kestrelpoint", "--to", "lighthouse", "--yes"}},
		"a name that is none":           {2, []string{"cannot be the name"}, []string{"move", "kestrelpoint", "--to", "../x", "--root", "new", "--address", good, "--yes"}},
		"a database of another make":    {2, []string{"cannot take it in"}, move("new", good, "--database", "mysql: a@127.0.0.1:1/b")},
		"no database":                   {2, []string{"is no database"}, move("new", good, "--database", "oracle: x")},
		"a pair that is none":           {2, []string{"OLD=NEW"}, move("new", good, "--also", "x")},
		"a pair of two kinds":           {1, []string{"one is a folder"}, move("new", good, "--also", "/srv=https://a.example")},
		"nobody was asked":              {2, []string{"--yes"}, []string{"move", "kestrelpoint", "--to", "lighthouse", "--root", "new", "--address", good}},
	} {
		w.fails(c.code, c.words, c.args...)
		assert.Equal(t, config, w.read("revlet.yaml"), name)
		assert.Equal(t, before, snapshot(t, w.dir, "state", "archives"), name)
	}

	w.fails(4, []string{"set aside"}, move("taken", good+"/visit/", "--anyway")...)
	assert.Contains(t, rowsIn(t, w.path("taken")), good+"/visit")
	assert.Contains(t, rows(t, w), address)
	w.run("undo", "lighthouse", "--yes")
	assert.Equal(t, "another site", w.read("taken/index.html"))
}

// rowsIn dumps the database of a museum in another folder.
func rowsIn(t *testing.T, root string) string {
	t.Helper()
	text, err := lampblack.Dump(t.Context(), root+"/"+lampblack.DatabaseFile)
	require.NoError(t, err)
	return text
}

// A moved site answers as itself, and is a site like any other: it is backed up, broken
// and put back.
func TestAMovedSiteIsASite(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	server := httptest.NewServer(lampblack.Handler(w.path("new")))
	t.Cleanup(server.Close)
	out := w.run("move", "kestrelpoint", "--to", "lighthouse", "--root", "new", "--address", server.URL, "--yes")
	assert.Contains(t, out, "answers 200")
	w.run("backup", "lighthouse")
	want := rowsIn(t, w.path("new"))
	require.NoError(t, os.RemoveAll(w.path("new/themes")))
	w.run("restore", "lighthouse", "--yes")
	assert.Equal(t, want, rowsIn(t, w.path("new")))
	assert.DirExists(t, w.path("new/themes"))
	w.write("htdocs/settings.yaml", strings.Replace(w.read("htdocs/settings.yaml"), "database: data/", "database: "+w.path("htdocs")+"/data/", 1))
	w.run("backup", "kestrelpoint")
	w.fails(4, nil, "move", "kestrelpoint", "--to", "second", "--root", "second", "--address", "http://127.0.0.1:1", "--yes")
	assert.Contains(t, w.read("second/settings.yaml"), "database: "+w.path("second/data/"), "a whole path leads into the new webroot")
	assert.Contains(t, rowsIn(t, w.path("second")), "http://127.0.0.1:1")
	w.fails(1, []string{"belongs to site lighthouse"}, "move", "kestrelpoint", "--to", "third", "--root", "new", "--address", "http://127.0.0.1:1", "--anyway", "--yes")
}

// Killed at any moment, the new place is what it was or the moved site, and never both.
func TestAMoveIsKilled(t *testing.T) {
	t.Parallel()
	w, _ := museum(t)
	w.run("backup")
	const to = "http://127.0.0.1:1/visit"
	entry := "    root: " + w.path("new")
	w.fails(4, nil, "move", "kestrelpoint", "--to", "lighthouse", "--root", "new", "--address", to, "--yes")
	state := func() string {
		return fmt.Sprint(snapshot(t, w.path("new"), "data", "cache")) + rowsIn(t, w.path("new"))
	}
	moved := state()
	require.Contains(t, moved, to)
	w.run("settle", "lighthouse", "--yes")
	w.write("new/index.html", "of before")
	require.NoError(t, lampblack.Execute(t.Context(), w.path("new", lampblack.DatabaseFile), "UPDATE settings SET value = 'of before'"))
	before := state()
	came := 0
	for i := range kills / 2 {
		w.interrupt(syscall.SIGKILL, 250*time.Millisecond, "move", "kestrelpoint", "--to", "lighthouse", "--yes")
		w.try("status")
		now := state()
		if now == moved {
			came++
			w.run("undo", "lighthouse", "--yes")
			now = state()
		}
		require.Equal(t, before, now, "kill %d", i)
		require.Contains(t, w.read("revlet.yaml"), entry)
		found, err := filepath.Glob(w.path(".revlet-*"))
		require.NoError(t, err)
		require.Empty(t, found, "kill %d", i)
	}
	t.Logf("%d of %d came up", came, kills/2)
	assert.Less(t, came, kills/2, "some kills must hit")
}

// A site that is described by hand moves as well: its rows are changed, whatever its make.
func TestAPostgresSiteMoves(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	for _, account := range []string{"harbour", "quay"} {
		s.exec(t, "postgres", "CREATE ROLE "+account+" LOGIN")
		s.exec(t, "postgres", fmt.Sprintf("CREATE DATABASE %s OWNER %s", account, account))
	}
	w := newWorld(t)
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("htdocs/index.html", "a page")
	w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    address: https://kestrelpoint.example\n    stores: [here]\n    recipe: none\n    databases: {main: {postgres: \"harbour@127.0.0.1:%d/harbour\"}}\n", s.Port))
	const content = `SET ROLE %s; CREATE TABLE pages (id int PRIMARY KEY, body text, data jsonb, raw bytea, short varchar(40));
		INSERT INTO pages VALUES (1, E'see %s/a\tand\nmore \\ "x"', '{"u": "%s/b"}', 'a:1:{i:0;s:%d:"%s";}', '%s'), (2, NULL, NULL, '\x00ff', '\N'), (3, '', '[]', '', 'https://new.kestrelpoint.example')`
	fill := func(account, address string) string {
		return fmt.Sprintf(content, account, address, address, len(address), address, address)
	}
	s.exec(t, "harbour", fill("harbour", "https://kestrelpoint.example"))
	w.run("backup")
	w.fails(4, nil, "move", "kestrelpoint", "--to", "lighthouse", "--root", "new", "--address", "http://127.0.0.1:1", "--database", fmt.Sprintf("postgres: quay@127.0.0.1:%d/quay", s.Port), "--yes")
	got := s.describe(t, "quay")
	s.exec(t, "postgres", "CREATE DATABASE wanted OWNER quay")
	s.exec(t, "wanted", fill("quay", "http://127.0.0.1:1"))
	assert.Equal(t, s.describe(t, "wanted"), got)
	assert.Contains(t, w.read("revlet.yaml"), fmt.Sprintf("quay@127.0.0.1:%d/quay", s.Port), "nothing else says where its database is")
	w.run("backup", "lighthouse")
	w.fails(1, []string{"is the database of site"}, "move", "kestrelpoint", "--to", "third", "--root", "third", "--address", "http://127.0.0.1:1", "--database", fmt.Sprintf("postgres: quay@localhost:%d/quay", s.Port), "--anyway", "--yes")
	w.fails(1, []string{"has 1 table"}, "move", "kestrelpoint", "--to", "third", "--root", "third", "--address", "http://127.0.0.1:1", "--database", fmt.Sprintf("postgres: quay@127.0.0.1:%d/wanted", s.Port), "--yes")
}
