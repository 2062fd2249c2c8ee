package e2e

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// makeNetwork makes a network of sites out of a WordPress at a host: the first, children and
// friends, and one with a name of its own.
func makeNetwork(t *testing.T, w *world, host string, names bool) {
	t.Helper()
	w.write("htdocs/wp-content/plugins/tides/tides.php", "<?php // Plugin Name: tides\nadd_action('init', function () { define('LOADED_TIDES', 1); });\n")
	w.write("htdocs/wp-content/uploads/sites/2/2026/11/boat.jpg", "a boat")
	w.write("htdocs/wp-content/uploads/sites/3/2026/11/boat.jpg", "another boat")
	wp(t, w.path("htdocs"), host, `update_option('home', "http://$argv[1]"); update_option('siteurl', "http://$argv[1]");
		require_once ABSPATH . 'wp-admin/includes/upgrade.php'; require_once ABSPATH . 'wp-admin/includes/network.php';
		foreach ($wpdb->tables('ms_global') as $t => $name) { $wpdb->$t = $name; }
		install_network(); populate_network(1, $argv[1], 'keeper@kestrelpoint.example', 'Kestrel Point', '/', $argv[2] === 'names');`, host, map[bool]string{true: "names", false: "paths"}[names])
	w.write("htdocs/wp-config.php", replaceOnce(t, w.read("htdocs/wp-config.php"), "if ( ! defined( 'ABSPATH'", fmt.Sprintf("define( 'MULTISITE', true ); define( 'SUBDOMAIN_INSTALL', %v ); define( 'DOMAIN_CURRENT_SITE', '%s' ); define( 'PATH_CURRENT_SITE', '/' ); define( 'COOKIE_DOMAIN', '.%s' ); define( 'SITE_ID_CURRENT_SITE', 1 ); define( 'BLOG_ID_CURRENT_SITE', 1 );\nif ( ! defined( 'ABSPATH'", names, host, host)))
	out := wp(t, w.path("htdocs"), host, `[, $host, $names] = $argv;
		foreach (['children', 'friends'] as $n) {
			$id = $names === 'names' ? wpmu_create_blog("$n.$host", '/', "For $n", 1) : wpmu_create_blog($host, "/$n/", "For $n", 1);
			if (is_wp_error($id)) { echo $id->get_error_message(); continue; }
			switch_to_blog($id); $u = home_url();
			update_option('widget_text', [2 => ['title' => 'x', 'text' => "<a href=\"$u/hours\">ö</a>"]]);
			$up = wp_upload_dir()['baseurl'];
			update_option('gallery', ['boats' => ["$up/2026/11/boat.jpg"]]);
			wp_insert_post(['post_title' => "News for $n", 'post_name' => 'news', 'post_status' => 'publish', 'post_content' => "<a href=\"$u/tour\">tour</a> <a href=\"http://$host/top\">top</a>"]);
			restore_current_blog();
		}
		$id = wpmu_create_blog('oil.example', '/', 'Oil store', 1); if (is_wp_error($id)) echo $id->get_error_message();
		update_site_option('active_sitewide_plugins', ['tides/tides.php' => 1700000000]);
		$c = wpmu_create_user('children', 'made-up-pass-1871', 'children@kestrelpoint.example'); add_user_to_blog(2, $c, 'administrator');
		grant_super_admin(1);`, host, map[bool]string{true: "names", false: "paths"}[names])
	require.Empty(t, out)
}

// proveNetwork says what of a network is not as it is to be: its sites with their addresses
// come as arguments, name=address.
const proveNetwork = `array_shift($argv); foreach ($argv as $want) {
	[$title, $u] = explode('=', $want, 2); $found = null;
	foreach (get_sites() as $s) { if ($s->blogname === $title) $found = $s; }
	if (!$found) { echo "no site $title\n"; continue; }
	switch_to_blog($found->blog_id);
	if (home_url() !== $u || site_url() !== $u || get_option('siteurl') !== $u) echo "$title: ", home_url(), ' ', site_url(), "\n";
	if ("http://$found->domain" . rtrim($found->path, '/') !== $u) echo "$title: row $found->domain$found->path\n";
	if (str_starts_with($title, 'For')) {
		$w = get_option('widget_text'); if ($w[2]['text'] !== "<a href=\"$u/hours\">ö</a>") echo "$title: widget ", serialize($w), "\n";
		$p = get_posts(['name' => 'news']); if (!$p || strpos($p[0]->post_content, "\"$u/tour\"") === false) echo "$title: post ", $p[0]->post_content ?? '', "\n";
	}
	restore_current_blog();
}
foreach (get_sites() as $s) { switch_to_blog($s->blog_id); if (!user_can(1, 'manage_options') || !get_role('editor')) echo "no rights on $s->blogname\n"; restore_current_blog(); }
echo DOMAIN_CURRENT_SITE, ' ', PATH_CURRENT_SITE, ' ', COOKIE_DOMAIN, ' ', get_network()->domain, get_network()->path, ' ', is_super_admin(1) ? 'admin' : '';`

// router serves a WordPress network at a path as its .htaccess would.
const router = `<?php $base = 'BASE'; $root = 'ROOT'; $p = parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH);
$f = preg_match("#^$base/(?:[a-z]+/)?((?:wp-[a-z]+\.php|wp-(?:content|admin|includes)/.*))$#", $p, $m) && is_file("$root/$m[1]") ? $m[1] : 'index.php';
$_SERVER['SCRIPT_NAME'] = $_SERVER['PHP_SELF'] = "$base/$f"; $_SERVER['SCRIPT_FILENAME'] = "$root/$f"; chdir($root);
if (str_ends_with($f, '.php')) require "$root/$f"; else readfile("$root/$f");`

// asNetwork serves a network at a path, and returns who asks for its pages.
func asNetwork(t *testing.T, w *world, root, host, base string) func(path string) (status int, body string) {
	t.Helper()
	name := "router-" + strings.Trim(base, "/") + ".php"
	w.write(name, strings.NewReplacer("BASE", base, "ROOT", root).Replace(router))
	_, port, named := strings.Cut(host, ":")
	if !named {
		port = fmt.Sprint(freePort(t))
	}
	ask := func(path string) (int, string) {
		req, err := http.NewRequest("GET", "http://127.0.0.1:"+port+base+path, nil)
		require.NoError(t, err)
		req.Host = host
		resp, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			return 0, err.Error()
		}
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(body)
	}
	start(t, func() bool { status, _ := ask("/wp-includes/css/buttons.css"); return status == 200 }, "php", "-S", "127.0.0.1:"+port, "-t", root, w.path(name))
	return ask
}

// neighbours are tables of another site in the new database.
const neighbours = `CREATE TABLE bakery_options (a INT); CREATE TABLE bakery_posts (a INT); CREATE TABLE bakery_users (a INT); INSERT INTO bakery_posts VALUES (1)`

// newDatabase makes a database on a server, and its account, whose password lies in new.pw.
func newDatabase(t *testing.T, w *world, s *server, name string) {
	t.Helper()
	s.exec(t, fmt.Sprintf("CREATE DATABASE %s; CREATE USER %s@'127.0.0.1' IDENTIFIED BY 'new'; GRANT ALL ON %s.* TO %s@'127.0.0.1'", name, name, name, name))
	t.Cleanup(func() { s.exec(t, fmt.Sprintf("DROP DATABASE IF EXISTS %s; DROP USER %s@'127.0.0.1'", name, name)) })
	w.write("new.pw", "new\n")
}

// networkMoved makes a network, takes an archive of it and brings it up elsewhere.
func networkMoved(t *testing.T, names bool, host, to string, more ...string) (w *world, s *server, out string) {
	t.Helper()
	db := "network_paths"
	if names {
		db = "network_names"
	}
	old := mariadb(t)
	s = old
	if names {
		old = ownMariadb(t) // from one server to another
	}
	w, _ = wordpressOn(t, old, db)
	makeNetwork(t, w, host, names)
	require.NoError(t, os.RemoveAll(w.path("htdocs/.htaccess")))
	w.write("htdocs/.htaccess", "RewriteEngine On\nRewriteBase /\nRewriteRule ^index\\.php$ - [L]\nRewriteRule ^([_0-9a-zA-Z-]+/)?(wp-(content|admin|includes).*) $2 [L]\nRewriteRule . index.php [L]\n")
	w.run("adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives")
	w.run("backup")
	newDatabase(t, w, s, db+"_new")
	s.exec(t, "USE "+db+"_new; "+neighbours)
	args := append([]string{"move", "kestrelpoint", "--to", "lighthouse", "--root", w.path("new/visit"), "--address", to,
		"--database", fmt.Sprintf("mysql: %s_new@127.0.0.1:%d/%s_new", db, s.port, db), "--password-file", w.path("new.pw"), "--yes"}, more...)
	w.fails(1, []string{"3 tables of another site", "--anyway"}, args...)
	r := w.try(append(args, "--anyway")...)
	require.Equal(t, 4, r.code, r.out+r.err)
	return w, s, r.out
}

func TestANetworkOfSitesBelowPathsMoves(t *testing.T) {
	t.Parallel()
	port := freePort(t)
	host := fmt.Sprintf("lighthouse.example:%d", port)
	to := "http://" + host + "/visit"
	w, s, out := networkMoved(t, false, "kestrelpoint.example", to)
	assert.Contains(t, out, "a site of the network has an address of its own, oil.example/, and keeps it")
	assert.Contains(t, out, "the path of a site of the network")
	got := wp(t, w.path("new/visit"), host+"/visit/", proveNetwork, "Kestrel Point Lighthouse Museum="+to, "For children="+to+"/children", "For friends="+to+"/friends", "Oil store=http://oil.example")
	assert.Equal(t, fmt.Sprintf("%s /visit/ .lighthouse.example %s/visit/ admin", host, host), got, "a cookie's domain has no port")
	noOldPlace(t, s, "network_paths_new", w.path("htdocs"))

	then, now := asNetwork(t, w, w.path("htdocs"), "kestrelpoint.example", ""), asNetwork(t, w, w.path("new/visit"), host, "/visit")
	for path, words := range map[string]string{"/": "Kestrel Point Lighthouse Museum", "/children/": "For children", "/friends/?p=4": "", "/friends/?s=News": "News for friends", "/children/wp-login.php": "loginform", "/children/wp-content/uploads/sites/2/2026/11/boat.jpg": "a boat"} {
		was, _ := then(path)
		status, body := now(path)
		assert.Equal(t, was, status, path)
		assert.Contains(t, body, words, path)
		assert.NotContains(t, body, "kestrelpoint.example/", path)
	}
	letsIn := func(user, password string) string {
		return wp(t, w.path("new/visit"), host+"/visit/", `echo is_wp_error(wp_authenticate($argv[1], $argv[2])) ? 'no' : 'yes';`, user, password)
	}
	assert.Equal(t, "yes", letsIn("keeper", "made-up-pass-1871"))
	w.write("reset.pw", "the lamp of 1871\n")
	w.run("accounts", "password", "lighthouse", "keeper", "--password-file", w.path("reset.pw"), "--yes")
	assert.Equal(t, "yes", letsIn("keeper", "the lamp of 1871"))
	assert.Equal(t, "no", letsIn("keeper", "made-up-pass-1871"))
	oneSiteMoves(t, w, s)
}

// proveSubSite says what of a site that was one of a network is not as it is to be.
const proveSubSite = `[, $u] = $argv;
if (is_multisite()) echo "a network still\n";
if (home_url() !== $u || site_url() !== $u || get_option('blogname') !== 'For children') echo home_url(), ' ', get_option('blogname'), "\n";
$w = get_option('widget_text'); if ($w[2]['text'] !== "<a href=\"$u/hours\">ö</a>") echo serialize($w), "\n";
$g = get_option('gallery')['boats'][0]; $up = wp_upload_dir();
if ($g !== "$u/wp-content/uploads/2026/11/boat.jpg" || $up['baseurl'] !== "$u/wp-content/uploads") echo $g, ' ', $up['baseurl'], "\n";
if (file_get_contents($up['basedir'] . '/2026/11/boat.jpg') !== 'a boat') echo "uploads\n";
$p = get_page_by_path('news', OBJECT, 'post'); if (strpos($p->post_content, "\"$u/tour\"") === false || strpos($p->post_content, '"http://kestrelpoint.example/top"') === false) echo $p->post_content, "\n";
$c = wp_authenticate('children', 'made-up-pass-1871'); if (is_wp_error($c) || !user_can($c, 'manage_options')) echo "rights of children\n";
if (!defined('LOADED_TIDES')) echo "an extension of the network\n";
if (!get_role('editor')) echo "roles\n";`

// oneSiteMoves brings one site of the network up as a site of its own, with another prefix.
func oneSiteMoves(t *testing.T, w *world, s *server) {
	t.Helper()
	newDatabase(t, w, s, "network_one")
	args := func(site, to string, more ...string) []string {
		return append([]string{"move", "kestrelpoint", "--to", to, "--root", w.path(to), "--address", "http://children.example",
			"--database", fmt.Sprintf("mysql: network_one@127.0.0.1:%d/network_one", s.port), "--password-file", w.path("new.pw"), "--yes", "--sub-site", site}, more...)
	}
	w.fails(2, []string{`no site "gulls"`, "kestrelpoint.example/children/"}, args("gulls", "children")...)
	w.fails(1, []string{"first site"}, args("/", "children")...)
	for _, more := range [][]string{{"--prefix", "ch_"}} {
		const to = "children"
		dry := w.run(append(args("/children/", to, more...), "--dry-run")...)
		assert.NotContains(t, dry, "kp_3_", "what does not come is not counted")
		r := w.try(args("children", to, more...)...)
		require.Equal(t, 4, r.code, r.out+r.err)
		assert.Empty(t, wp(t, w.path(to), "children.example", proveSubSite, "http://children.example"))
		const prefix = "ch_"
		for _, table := range s.column(t, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'network_one'") {
			assert.Regexp(t, "^"+prefix+"[a-z_]+$", table, "no other site's, and none of the network's")
			assert.NotContains(t, []string{prefix + "blogs", prefix + "site", prefix + "sitemeta"}, table)
		}
		assert.NoDirExists(t, w.path(to, "wp-content/uploads/sites"))
		assert.NoFileExists(t, w.path(to, "wp-content/uploads/2026/11/lens.jpg"), "of the network's first site")
	}
}

func TestANetworkOfSitesWithNamesMoves(t *testing.T) {
	t.Parallel()
	w, s, out := networkMoved(t, true, "kestrelpoint.example", "http://lighthouse.example", "--also", "http://oil.example=http://lamp.example", "--prefix", "lh_")
	assert.Contains(t, out, "kp_… → lh_…")
	assert.Equal(t, []string{"1"}, s.column(t, "SELECT a FROM network_names_new.bakery_posts"), "what belongs to another site stays")
	assert.Empty(t, s.column(t, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'network_names_new' AND TABLE_NAME LIKE '%kp\\_%'"))
	assert.Empty(t, s.column(t, "SELECT CONCAT_WS('=', meta_key, option_name) FROM (SELECT meta_key, NULL AS option_name FROM network_names_new.lh_usermeta UNION SELECT NULL, option_name FROM network_names_new.lh_2_options) AS x WHERE meta_key LIKE 'kp\\_%' OR option_name LIKE 'kp\\_%'"))
	assert.NotContains(t, out, "and keeps it")
	assert.NotContains(t, out, "set aside", "there was nothing of ours at the new place")
	got := wp(t, w.path("new/visit"), "lighthouse.example", proveNetwork, "Kestrel Point Lighthouse Museum=http://lighthouse.example", "For children=http://children.lighthouse.example", "For friends=http://friends.lighthouse.example", "Oil store=http://lamp.example")
	assert.Equal(t, "lighthouse.example / .lighthouse.example lighthouse.example/ admin", got)
	noOldPlace(t, s, "network_names_new", w.path("htdocs"))
	// And back again, to where it came from.
	w.run("backup", "lighthouse")
	newDatabase(t, w, s, "network_other")
	w.fails(1, []string{"children.lighthouse.example", "without a path"}, "move", "lighthouse", "--to", "other", "--root", w.path("other"), "--address", "http://kestrelpoint.example/x",
		"--database", fmt.Sprintf("mysql: network_other@127.0.0.1:%d/network_other", s.port), "--password-file", w.path("new.pw"), "--yes")
}

// A practice copy sends no mail, runs no tasks, says what it is, and asks search engines to
// stay away; extensions that are named are not loaded.
func TestAPracticeCopyOfWordPressKeepsQuiet(t *testing.T) {
	t.Parallel()
	w, s, address := wordpress(t, "practice_cms")
	accountsOfWordPress(t, w, s, address)
	w.write("htdocs/wp-config.php", replaceOnce(t, w.read("htdocs/wp-config.php"), "<?php", "<?php declare(strict_types=1);"))
	w.write("htdocs/wp-config.php", replaceOnce(t, w.read("htdocs/wp-config.php"), "define( 'DISABLE_WP_CRON', true );", ""))
	for _, name := range []string{"tides", "lens"} {
		w.write("htdocs/wp-content/plugins/"+name+"/"+name+".php", "<?php // Plugin Name: "+name+"\nadd_action('init', function () { define('LOADED_"+strings.ToUpper(name)+"', 1); });\n")
	}
	w.write("htdocs/wp-content/plugins/single.php", "<?php // Plugin Name: single\n")
	wp(t, w.path("htdocs"), strings.TrimPrefix(address, "http://"), `update_option('active_plugins', ['lens/lens.php', 'single.php', 'tides/tides.php']);`)
	w.write("htdocs/wp-config.php", replaceOnce(t, w.read("htdocs/wp-config.php"), "$table_prefix", "define( 'AUTH_KEY', 'old key' ); define( 'NONCE_SALT', 'old salt' );\n$table_prefix"))
	require.NoError(t, os.Rename(w.path("htdocs/wp-config.php"), w.path("wp-config.php")))
	w.write("htdocs/robots.txt", "User-agent: *\nAllow: /\n")
	w.write("htdocs/museum.sql.gz", "left behind")
	w.write("htdocs/backup.zip", "left behind")
	w.run("backup")
	newDatabase(t, w, s, "practice_new")
	args := []string{"move", "kestrelpoint", "--to", "practice", "--root", w.path("practice"), "--address", "http://practice.example",
		"--database", fmt.Sprintf("mysql: practice_new@127.0.0.1:%d/practice_new", s.port), "--password-file", w.path("new.pw"), "--copy", "--extensions-off", "tides", "--extensions-off", "gulls", "--new-keys", "--changes", w.path("changes")}
	w.write("old-php", "#!/bin/sh\necho '{\"php\":\"5.3.29\",\"modules\":[\"mysqli\"]}'\n")
	require.NoError(t, os.Chmod(w.path("old-php"), 0o755))
	w.fails(1, []string{"lacks what WordPress 6.", "PHP (wanted: 5.6.20 or newer; there: 5.3.29", "--php"}, append(args, "--yes", "--php", w.path("old-php"))...)
	assert.NoDirExists(t, w.path("practice"))
	assert.NoFileExists(t, w.path("changes"))
	w.fails(2, []string{"is of no network of sites"}, append(args, "--yes", "--sub-site", "children")...)
	dry := w.run(append(args, "--dry-run")...)
	for _, words := range []string{"no extension called gulls is loaded", "PHP 5.6.20 or newer: met", "modules of PHP mysqli: met", "database server 5.0 or newer: met", "kp_options.option_value", "search engines are asked to stay away", "the title says that it is a copy", "extensions switched off"} {
		assert.Contains(t, dry, words)
	}
	assert.FileExists(t, w.path("changes"))
	w.fails(2, []string{"is there already"}, append(args, "--yes")...)
	above := w.read("wp-config.php")
	r := w.try(append(args[:len(args)-2:len(args)-2], "--yes")...)
	require.Equal(t, 4, r.code, r.out+r.err)
	assert.Contains(t, r.out, "museum.sql.gz (11 B)")
	assert.NoFileExists(t, w.path("practice/museum.sql.gz"))
	assert.Contains(t, r.out, "anybody can download it; look whether that is meant: backup.zip (11 B)")
	assert.FileExists(t, w.path("practice/backup.zip"))
	assert.Contains(t, r.out, "wp-config.php lay above the old webroot, and lies in the new one")
	assert.Equal(t, above, w.read("wp-config.php"), "the old site's settings lie above the new webroot, too, and stay")
	assert.NotContains(t, w.read("practice/wp-config.php"), "old key")
	assert.NotContains(t, w.read("practice/wp-config.php"), "old salt")
	assert.Contains(t, r.out, "Not switched off in the copy: mail that an extension sends by a service of its own")
	php := func(script string) string { return wp(t, w.path("practice"), "practice.example", script) }
	assert.Equal(t, "Copy of Kestrel Point Lighthouse Museum", php(`echo get_option('blogname');`))
	assert.Equal(t, "0 1", php(`echo get_option('blog_public'), ' ', DISABLE_WP_CRON;`))
	assert.Equal(t, "lens/lens.php single.php 1-", php(`echo implode(' ', get_option('active_plugins')), ' ', defined('LOADED_LENS'), '-', defined('LOADED_TIDES');`))
	assert.Equal(t, "not sent, tried 0 times", php(`$n = 0; add_action('wp_mail_failed', function () {});
		class Tried { public static $n = 0; } add_filter('wp_mail', function ($m) { Tried::$n++; return $m; });
		add_action('phpmailer_init', function ($m) { $m->Mailer = 'sendmail'; $m->Sendmail = '/nonexistent'; });
		echo wp_mail('visitor@kestrelpoint.example', 'x', 'y') ? 'sent' : 'not sent', ', tried ', class_exists('PHPMailer\PHPMailer\PHPMailer', false) ? 1 : 0, ' times';`))
	assert.Contains(t, w.read("practice/robots.txt"), "Disallow: /\n")
	assert.Contains(t, w.read("htdocs/robots.txt"), "Allow: /\n", "the site itself stays as it is")
	assert.Equal(t, "Kestrel Point Lighthouse Museum", wp(t, w.path("htdocs"), strings.TrimPrefix(address, "http://"), `echo get_option('blogname');`))
}
