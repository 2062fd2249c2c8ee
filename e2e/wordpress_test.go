package e2e

import (
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const wordpressFiles = "/usr/share/wordpress"

const secret = `it's "made" up\`

// wordpress installs a real WordPress with its database on the shared server.
func wordpress(t *testing.T, db string) (w *world, s *server, address string) {
	s = mariadb(t)
	w, address = wordpressOn(t, s, db)
	return w, s, address
}

func wordpressOn(t *testing.T, s *server, db string) (w *world, address string) {
	need(t, "php", wordpressFiles+"/wp-load.php", wordpressFiles+"/wp-content/themes/twentytwentythree/style.css")
	w = newWorld(t)
	s.exec(t, fmt.Sprintf("CREATE DATABASE %s CHARACTER SET utf8mb4; CREATE USER '%s'@'127.0.0.1' IDENTIFIED BY '%s'; GRANT ALL ON %s.* TO '%s'@'127.0.0.1'",
		db, db, `it\'s "made" up\\`, db, db))
	t.Cleanup(func() { s.exec(t, fmt.Sprintf("DROP DATABASE IF EXISTS %s; DROP USER '%s'@'127.0.0.1'", db, db)) })

	root := w.path("htdocs")
	out, err := exec.Command("cp", "-a", wordpressFiles+"/.", root).CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.Remove(filepath.Join(root, "wp-config.php")))
	for _, dir := range []string{"wp-includes/js", "wp-includes/images", "wp-admin/js", "wp-admin/css", "wp-admin/images"} {
		require.NoError(t, os.RemoveAll(filepath.Join(root, dir))) // browsers alone read them
	}
	w.write("htdocs/wp-config.php", fmt.Sprintf(`<?php
// define( 'DB_NAME', 'old_museum_2019' );
define( 'DB_NAME', '%s' );
define( 'DB_USER', '%s' );
define( 'DB_PASSWORD', 'it\'s "made" up\\' );
define( 'DB_HOST', '127.0.0.1:%d' );
define( 'DB_CHARSET', 'utf8mb4' );
define( 'DB_COLLATE', '' );
$table_prefix = 'kp_';
define( 'DISABLE_WP_CRON', true );
define( 'WP_HTTP_BLOCK_EXTERNAL', true );
if ( ! defined( 'ABSPATH' ) ) { define( 'ABSPATH', __DIR__ . '/' ); }
require_once ABSPATH . 'wp-settings.php';
`, db, db, s.port))
	require.NoError(t, os.Chmod(filepath.Join(root, "wp-config.php"), 0o640))
	w.write("htdocs/wp-content/uploads/2026/11/lens.jpg", "not really a picture")
	w.write("htdocs/wp-content/cache/page.html", "made again at any time")

	port := freePort(t)
	address = fmt.Sprintf("http://127.0.0.1:%d", port)
	start(t, func() bool { r, err := http.Get(address + "/readme.html"); return err == nil && r.Body.Close() == nil }, "php", "-S", fmt.Sprintf("127.0.0.1:%d", port), "-t", root)
	resp, err := http.PostForm(address+"/wp-admin/install.php?step=2", url.Values{
		"weblog_title": {"Kestrel Point Lighthouse Museum"}, "user_name": {"keeper"}, "admin_password": {"made-up-pass-1871"},
		"admin_password2": {"made-up-pass-1871"}, "pw_weak": {"1"}, "admin_email": {"keeper@kestrelpoint.example"}, "language": {""}})
	require.NoError(t, err)
	resp.Body.Close()
	_, front := get(t, address+"/")
	require.Contains(t, front, "Kestrel Point Lighthouse Museum")
	return w, address
}

func TestWordPressBreaksAndComesBack(t *testing.T) {
	t.Parallel()
	for name, extra := range map[string]string{
		"own database only":  "",
		"may make databases": "GRANT ALL ON `rv\\_%%`.* TO '%s'@'127.0.0.1'",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			db, s := "museum_cms", ownMariadb(t)
			w, address := wordpressOn(t, s, db)
			if extra != "" {
				s.exec(t, fmt.Sprintf(extra, db))
			}
			s.exec(t, `USE museum_cms;
				CREATE TABLE guest_book (entry TEXT, at TIMESTAMP(3) NULL) ENGINE=MyISAM;
				INSERT INTO guest_book VALUES ('a fine lens 🔦', '2026-07-01 10:00:00.125'), (NULL, NULL);
				CREATE VIEW kp_recent AS SELECT ID, post_title FROM kp_posts WHERE post_title <> 'museum_cms.' ORDER BY ID DESC;
				CREATE TRIGGER kp_tidy BEFORE INSERT ON kp_posts FOR EACH ROW BEGIN SET NEW.post_title = TRIM(NEW.post_title); END;
				CREATE TABLE blog_options (a INT); CREATE TABLE blog_posts (a INT); CREATE TABLE blog_users (a INT); INSERT INTO blog_posts VALUES (1)`)
			testWordPress(t, w, s, db, address)
		})
	}
}

func testWordPress(t *testing.T, w *world, s *server, db, address string) {
	out := w.run("adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives")
	assert.Contains(t, out, "WordPress 6.")
	assert.Contains(t, out, "gives its address as "+address)
	assert.NotContains(t, out, secret, "no secrets are shown")

	pages := map[string]string{}
	paths := []string{"/", "/?p=1", "/wp-login.php"}
	for _, p := range paths {
		_, pages[p] = get(t, address+p)
	}
	tree := snapshot(t, w.path("htdocs"), "wp-content/cache/page.html")
	tables := s.describe(t, db)

	out = w.run("backup", "--note", "before the update")
	assert.Contains(t, out, "3 tables in the same database belong to another site")
	w.run("verify", "--full")
	shown := w.run("show", "kestrelpoint")
	for _, words := range []string{"themes", "uploads", "kp_posts", "guest_book", "wordpress 6."} {
		assert.Contains(t, shown, words)
	}
	assert.NotContains(t, shown, "blog_posts")

	w.write(".my.cnf", "[client]\nuser=root\nsocket="+s.socket+"\n")
	recoverByHand(t, w, "SQLite", "DATABASE=recovered", "HOME="+w.dir)
	t.Cleanup(func() { s.exec(t, "DROP DATABASE recovered") })
	ours := s.describe(t, db)
	for _, theirs := range []string{"blog_options", "blog_posts", "blog_users"} {
		delete(ours, theirs)
	}
	assert.Equal(t, ours, unqualified(s.describe(t, "recovered"), "recovered", db))
	assert.Equal(t, tree, snapshot(t, w.path("recovered/webroot")))

	require.NoError(t, os.RemoveAll(w.path("htdocs/wp-content/themes/twentytwentythree")))
	w.write("htdocs/wp-content/uploads/planted.php", "<?php evil();")
	s.exec(t, "USE museum_cms; DROP TABLE kp_options, kp_posts; DROP VIEW kp_recent; CREATE TABLE kp_planted (a INT); UPDATE blog_posts SET a = 2")
	broken := s.describe(t, db)
	brokenTree := snapshot(t, w.path("htdocs"))
	_, now := get(t, address+"/")
	require.NotEqual(t, pages["/"], now)
	tables["blog_posts"] = broken["blog_posts"] // the neighbour's rows are not ours to restore

	restored := func() {
		t.Helper()
		out := w.run("restore", "kestrelpoint", "--yes")
		assert.Contains(t, out, "answers 200")
		assert.Equal(t, tables, live(s.describe(t, db)))
		assert.Equal(t, tree, snapshot(t, w.path("htdocs")))
		for _, p := range paths {
			status, page := get(t, address+p)
			assert.Equal(t, 200, status, p)
			assert.Equal(t, pages[p], page, p)
		}
	}
	restored()
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, broken, s.describe(t, db), "undo brings the broken state back")
	assert.Equal(t, brokenTree, snapshot(t, w.path("htdocs")))
	restored()
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	assert.Equal(t, tables, s.describe(t, db), "settle leaves nothing aside")
	assert.Empty(t, s.column(t, `SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME LIKE 'rv\_%'`))
}

// unqualified names another database in definitions that carry its name.
func unqualified(all map[string]string, from, to string) map[string]string {
	for name, text := range all {
		all[name] = strings.ReplaceAll(text, "`"+from+"`", "`"+to+"`")
	}
	return all
}

// live leaves out tables that were set aside in the same database.
func live(all map[string]string) map[string]string {
	for name := range all {
		if strings.HasPrefix(strings.TrimPrefix(name, "view "), "rv_old_") {
			delete(all, name)
		}
	}
	return all
}

func TestWrongDatabaseSettings(t *testing.T) {
	t.Parallel()
	w, s, _ := wordpress(t, "wrong_cms")
	w.run("adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives")
	config, err := os.ReadFile(w.path("htdocs/wp-config.php"))
	require.NoError(t, err)
	settings := string(config)
	for _, c := range []struct {
		old, new string
		words    []string
	}{
		{`'it\'s "made" up\\'`, `'wrong'`, []string{"refuses user", "wrong_cms"}},
		{fmt.Sprintf(":%d", s.port), fmt.Sprintf(":%d", freePort(t)), []string{"nothing answers there"}},
		{`'DB_NAME', 'wrong_cms'`, `'DB_NAME', 'elsewhere'`, []string{"elsewhere"}},
	} {
		w.write("htdocs/wp-config.php", replaceOnce(t, settings, c.old, c.new))
		r := w.fails(1, c.words, "backup")
		assert.NotContains(t, r.err+r.out, secret)
	}
	w.write("htdocs/wp-config.php", replaceOnce(t, settings, `'wrong_cms' );`, `make_name() );`))
	w.fails(2, []string{"as a plain value"}, "backup")
	require.NoError(t, os.Remove(w.path("htdocs/wp-config.php")))
	w.fails(2, []string{"has none of wp-config.php"}, "backup")
	assert.Contains(t, w.run("archives"), "No archives yet", "nothing half-made is listed")
}
