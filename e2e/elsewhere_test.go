package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// settled is a world whose site looks like WordPress and says itself which database it
// has: museum, of an account of that name.
func settled(t *testing.T, s *server) *world {
	w := newWorld(t)
	for _, db := range []string{"museum", "shop"} {
		s.exec(t, fmt.Sprintf("CREATE DATABASE %s; CREATE USER '%s'@'127.0.0.1' IDENTIFIED BY 'lamp'; GRANT ALL ON %s.* TO '%s'@'127.0.0.1'; USE %s; CREATE TABLE kp_options (option_name VARCHAR(64) PRIMARY KEY, option_value TEXT, autoload TEXT); CREATE TABLE kp_posts (ID INT PRIMARY KEY, t TEXT); CREATE TABLE kp_users (ID INT PRIMARY KEY); INSERT INTO kp_options VALUES ('home', 'https://%s.example/', 'yes'); INSERT INTO kp_posts VALUES (1, 'of %s')", db, db, db, db, db, db, db))
		t.Cleanup(func() { s.exec(t, "DROP DATABASE IF EXISTS "+db+"; DROP USER '"+db+"'@'127.0.0.1'") })
	}
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("htdocs/wp-includes/version.php", "<?php $wp_version = '6.9';")
	w.write("htdocs/wp-load.php", "<?php")
	w.write("htdocs/wp-content/themes/lantern/style.css", "a theme")
	w.write("htdocs/wp-config.php", fmt.Sprintf("<?php\ndefine('DB_NAME', 'museum');\ndefine('DB_USER', 'museum');\ndefine('DB_PASSWORD', 'lamp');\ndefine('DB_HOST', '127.0.0.1:%d');\n$table_prefix = 'kp_';\nrequire_once __DIR__ . '/wp-settings.php';\n", s.port))
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: ./htdocs, stores: [here]}\n")
	return w
}

// edit replaces text in a file of the world.
func (w *world) edit(name, old, replaced string) {
	w.t.Helper()
	data, err := os.ReadFile(w.path(name))
	require.NoError(w.t, err)
	require.Contains(w.t, string(data), old)
	w.write(name, strings.ReplaceAll(string(data), old, replaced))
}

// Settings are put live only if they lead to the database that belongs to them: a copy
// would write to the live one.
func TestSettingsThatLeadElsewhere(t *testing.T) {
	s := mariadb(t)
	w := settled(t, s)
	w.run("backup", "--note", "the first")
	first := w.newest()
	config, err := os.ReadFile(w.path("htdocs/wp-config.php"))
	require.NoError(t, err)
	posts := func(db string) string {
		return strings.Join(s.column(t, "SELECT t FROM "+db+".kp_posts"), " ")
	}

	// A copy in another folder, with another database by the configuration.
	w.edit("revlet.yaml", "root: ./htdocs", fmt.Sprintf("root: ./copy, databases: {main: {mysql: \"shop@127.0.0.1:%d/shop\", password_file: pw}}", s.port))
	w.write("pw", "lamp\n")
	require.NoError(t, os.Mkdir(w.path("copy"), 0o755))
	r := w.fails(1, []string{"the archive's settings lead to another database than the site's", "museum@127.0.0.1", "shop@127.0.0.1", "nothing was changed", "next:"}, "restore", first, "--anyway", "--yes")
	assert.NotContains(t, r.err, "--keep-settings", "there are none to keep")
	assert.NoFileExists(t, w.path("copy/wp-config.php"))
	assert.Equal(t, "of shop", posts("shop"))
	w.run("restore", first, "--only", "database", "--anyway", "--yes")
	assert.Equal(t, "of museum", posts("shop"))
	w.run("undo", "kestrelpoint", "--yes")
	assert.Equal(t, "of shop", posts("shop"))
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: ./htdocs, stores: [here]}\n")

	// The same database by another way is the same.
	w.edit("htdocs/wp-config.php", fmt.Sprintf("127.0.0.1:%d", s.port), "localhost:"+s.socket)
	s.exec(t, "CREATE USER 'museum'@'localhost' IDENTIFIED BY 'lamp'; GRANT ALL ON museum.* TO 'museum'@'localhost'")
	w.run("restore", first, "--yes")
	w.run("undo", "kestrelpoint", "--yes")
	w.write("htdocs/wp-config.php", string(config))
	s.exec(t, "DROP USER 'museum'@'localhost'")

	// The password was changed since: with the archive's settings the site could not
	// open its database.
	s.exec(t, "ALTER USER 'museum'@'127.0.0.1' IDENTIFIED BY 'new lamp'")
	w.edit("htdocs/wp-config.php", "'lamp'", "'new lamp'")
	w.fails(1, []string{"do not reach the site's database", "refuses", "--keep-settings"}, "restore", first, "--yes")
	require.NoError(t, os.Remove(w.path("htdocs/wp-content/themes/lantern/style.css")))
	r = w.try("restore", first, "--keep-settings", "--yes")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "wp-config.php stays as it is now")
	assert.FileExists(t, w.path("htdocs/wp-content/themes/lantern/style.css"))
	kept, err := os.ReadFile(w.path("htdocs/wp-config.php"))
	require.NoError(t, err)
	assert.Contains(t, string(kept), "new lamp")
}

// Whoever broke in has the settings lead to the database of another site, which the account reaches, too: a restore of the
// database alone would have put the museum's tables in the place of the shop's.
func TestAnIntrudersSettingsLeadToAnotherDatabase(t *testing.T) {
	s := mariadb(t)
	w := settled(t, s)
	w.run("backup")
	shop, museum := s.describe(t, "shop"), s.describe(t, "museum")
	s.exec(t, "DROP TABLE museum.kp_posts")
	w.edit("htdocs/wp-config.php", "'museum'", "'shop'")
	for _, how := range [][]string{{"--only", "database"}, {"--table", "kp_posts"}, {"--keep-settings"}} {
		w.fails(1, []string{"lead to another database than at the last backup", "shop@127.0.0.1", "--path FILE", "nothing was changed"}, append([]string{"restore", "kestrelpoint", "--anyway", "--yes"}, how...)...)
	}
	w.fails(1, []string{"nothing was changed"}, "restore", "kestrelpoint", "--yes")
	w.write("posts.sql", "CREATE TABLE kp_posts (id INT);\n")
	for _, how := range []string{"--dry-run", "--yes"} {
		w.fails(1, []string{"lead to another database than at the last backup"}, "restore", "kestrelpoint", "--sql", w.path("posts.sql"), how)
	}
	assert.Equal(t, shop, s.describe(t, "shop"))
	w.run("restore", "kestrelpoint", "--path", "wp-config.php", "--yes")
	w.fails(1, []string{"no such file"}, "restore", "kestrelpoint", "--sql", w.path("none.sql"), "--dry-run")
	var dry struct {
		Site   string `json:"site"`
		DryRun bool   `json:"dry_run"`
	}
	w.json(&dry, "restore", "kestrelpoint", "--sql", w.path("posts.sql"), "--dry-run")
	assert.True(t, dry.DryRun)
	w.run("restore", "kestrelpoint", "--yes")
	assert.Equal(t, museum, live(s.describe(t, "museum")))
	assert.Equal(t, shop, s.describe(t, "shop"))

	w.edit("htdocs/wp-config.php", "'museum'", "'shop'")
	w.fails(1, []string{"lead to another database"}, "backup")
	w.run("status", "--accept", "kestrelpoint/database-moved", "--why", "it is the shop's now")
	w.run("restore", "kestrelpoint", "--only", "database", "--anyway", "--yes")
	assert.Equal(t, "of museum", strings.Join(s.column(t, "SELECT t FROM shop.kp_posts"), " "), "a person has said so")
}

// What undo needs is in the journal, whatever has changed since.
func TestUndoNeedsNothingOfToday(t *testing.T) {
	s := mariadb(t)
	for name, change := range map[string]func(w *world){
		"settings gone":         func(w *world) { require.NoError(w.t, os.Remove(w.path("htdocs/wp-config.php"))) },
		"settings of another":   func(w *world) { w.edit("htdocs/wp-config.php", "'museum'", "'shop'") },
		"settings unreadable":   func(w *world) { w.write("htdocs/wp-config.php", "<?php define('DB_NAME', random());") },
		"the site unconfigured": func(w *world) { w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\n") },
		"stores gone":           func(w *world) { require.NoError(w.t, os.Rename(w.path("archives"), w.path("away"))) },
		"another password": func(w *world) {
			s.exec(w.t, "ALTER USER 'museum'@'127.0.0.1' IDENTIFIED BY 'new lamp'")
			w.edit("htdocs/wp-config.php", "'lamp'", "'new lamp'")
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := settled(t, s)
			w.run("backup")
			s.exec(t, "USE museum; DROP TABLE kp_posts; UPDATE kp_options SET option_value = 'https://museum.example/x'; CREATE TABLE planted (a INT)")
			w.write("htdocs/planted.php", "<?php")
			before, theirs := s.describe(t, "museum"), s.describe(t, "shop")
			w.run("restore", "kestrelpoint", "--anyway", "--yes")
			assert.NotEqual(t, before, live(s.describe(t, "museum")))
			change(w)
			w.run("undo", "kestrelpoint", "--yes")
			assert.Equal(t, before, s.describe(t, "museum"))
			assert.Equal(t, theirs, s.describe(t, "shop"))
			assert.FileExists(t, w.path("htdocs/planted.php"))
			w.clean()
		})
	}
}

// Without an address in the configuration, the database is asked whose it is.
func TestAnotherSiteIsRecognisedByItsDatabase(t *testing.T) {
	s := mariadb(t)
	w := settled(t, s)
	w.run("backup")
	for _, with := range [][2]string{{"'museum'", "'shop'"}} {
		w.edit("htdocs/wp-config.php", with[0], with[1])
	}
	before := s.describe(t, "shop")
	w.fails(1, []string{"the site's address is https://shop.example/, the archive is of https://museum.example/", "looks like another site", "nothing was changed"}, "restore", "kestrelpoint", "--only", "database", "--yes")
	assert.Equal(t, before, s.describe(t, "shop"))
}
