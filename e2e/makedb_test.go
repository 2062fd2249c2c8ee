package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// plainSite is a site without a CMS, with a database of an engine, and an archive of it.
func plainSite(t *testing.T, engine, where, passwordFile string) *world {
	t.Helper()
	w := newWorld(t)
	w.write("htdocs/index.html", "a page")
	w.write("db.pw", "made up")
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("revlet.yaml", fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint:\n    root: ./htdocs\n    address: https://kestrelpoint.example\n    stores: [here]\n    recipe: none\n    databases: {main: {%s: %q%s}}\n", engine, where, passwordFile))
	w.run("backup")
	return w
}

// A server without the database and the account is told what to make, or has it made; an
// account that is there keeps its password.
func TestAMoveMakesItsDatabase(t *testing.T) {
	t.Parallel()
	s := ownMariadb(t)
	s.exec(t, "CREATE DATABASE museum_cms CHARACTER SET latin1 COLLATE latin1_german1_ci; CREATE TABLE museum_cms.pages (id INT PRIMARY KEY, text VARCHAR(80)); INSERT INTO museum_cms.pages VALUES (1, 'https://kestrelpoint.example/Grüße'); CREATE USER keeper@'127.0.0.1' IDENTIFIED BY 'made up'; GRANT ALL ON museum_cms.* TO keeper@'127.0.0.1'; CREATE USER poor@'127.0.0.1' IDENTIFIED BY 'x', poor@'localhost' IDENTIFIED BY 'x'")
	w := plainSite(t, "mysql", fmt.Sprintf("keeper@127.0.0.1:%d/museum_cms", s.port), ", password_file: ./db.pw")
	args := func(to, db string, more ...string) []string {
		return append([]string{"move", "kestrelpoint", "--to", to, "--root", w.path(to), "--address", "https://" + to + ".example",
			"--database", fmt.Sprintf("mysql: %s@127.0.0.1:%d/%s", to, s.port, db), "--password-file", w.path(to + ".pw"), "--yes"}, more...)
	}
	text := func(db string) string { return strings.Join(s.column(t, "SELECT text FROM "+db+".pages"), " ") }

	w.write("one.pw", "made up\n")
	r := w.fails(1, []string{"run this as the server's administrator"}, args("one", "one_cms")...)
	assert.NotContains(t, r.err, "made up", "no secrets are shown")
	assert.NotContains(t, w.read("revlet.yaml"), "one:")
	s.exec(t, block(t, r.err))
	w.fails(4, []string{"Came up"}, args("one", "one_cms")...)
	assert.Equal(t, "https://one.example/Grüße", text("one_cms"))

	admin := []string{"--make-database", "root@" + s.socket}
	out := w.run(append(args("two", "two_100%", admin...), "--dry-run")...)
	assert.Contains(t, out, "database two_100% and account two, by root@")
	assert.NoFileExists(t, w.path("two.pw"), "a dry run writes nothing")
	assert.Empty(t, s.column(t, "SELECT User FROM mysql.user WHERE User = 'two'"))
	out = w.fails(4, []string{"made", "database two_100%", "account 'two'@'127.0.0.1'"}, args("two", "two_100%", admin...)...).out
	password := strings.TrimSpace(w.read("two.pw"))
	assert.GreaterOrEqual(t, len(password), 26)
	assert.NotContains(t, out, password)
	info, err := os.Stat(w.path("two.pw"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	assert.Equal(t, "https://two.example/Grüße", text("`two_100%`"))
	assert.Equal(t, []string{"latin1_german1_ci"}, s.column(t, "SELECT DEFAULT_COLLATION_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = 'two_100%'"))
	assert.Empty(t, s.column(t, "SELECT GRANTEE FROM information_schema.USER_PRIVILEGES WHERE GRANTEE LIKE '''two''%' AND PRIVILEGE_TYPE <> 'USAGE'"), "rights on its own database alone")

	// An account that others use keeps its password, and its database.
	s.exec(t, "CREATE USER three@'127.0.0.1' IDENTIFIED BY 'of another site'")
	hash := s.column(t, "SELECT authentication_string FROM mysql.user WHERE User = 'three'")
	w.write("three.pw", "something else\n")
	w.fails(1, []string{`has an account "three" already`, "name another account"}, args("three", "three_cms", admin...)...)
	assert.Equal(t, hash, s.column(t, "SELECT authentication_string FROM mysql.user WHERE User = 'three'"))
	assert.Empty(t, s.column(t, "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = 'three_cms'"), "nothing was made")
	w.write("three.pw", "of another site\n")
	w.fails(4, []string{"rights of 'three'@'127.0.0.1'"}, args("three", "three_cms", admin...)...)
	assert.Equal(t, "https://three.example/Grüße", text("three_cms"))

	// A database that is somebody's, and that the account cannot see, is not given to it.
	s.exec(t, "CREATE DATABASE bakery; CREATE TABLE bakery.bread (id INT); INSERT INTO bakery.bread VALUES (1)")
	w.fails(1, []string{"has a database bakery already, with tables in it", "--anyway"}, args("five", "bakery", admin...)...)
	assert.Equal(t, []string{"bread"}, s.column(t, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'bakery'"))
	assert.Empty(t, s.column(t, "SELECT User FROM mysql.user WHERE User = 'five'"))
	assert.NoDirExists(t, w.path("five"))

	w.write("wrong.pw", "wrong\n")
	w.write("poor.pw", "x\n")
	for name, c := range map[string]struct {
		words []string
		more  []string
	}{
		"a password that is wrong":        {[]string{"refuses user"}, []string{"--make-database", fmt.Sprintf("keeper@127.0.0.1:%d", s.port), "--admin-password-file", w.path("wrong.pw")}},
		"an administrator without rights": {[]string{"poor"}, []string{"--make-database", fmt.Sprintf("poor@127.0.0.1:%d", s.port), "--admin-password-file", w.path("poor.pw")}},
	} {
		w.fails(1, c.words, args("four", "four_cms", c.more...)...)
		assert.NoDirExists(t, w.path("four"), name)
		assert.NotContains(t, w.read("revlet.yaml"), "four:", name)
	}
	w.fails(2, []string{"no administrator"}, args("four", "four_cms", "--make-database", "root")...)
}

func TestAMoveMakesItsDatabaseOnPostgres(t *testing.T) {
	t.Parallel()
	s := postgres(t)
	s.exec(t, "postgres", "CREATE ROLE keeper LOGIN")
	s.exec(t, "postgres", "CREATE DATABASE museum OWNER keeper TEMPLATE template0 ENCODING 'LATIN1' LC_COLLATE 'C' LC_CTYPE 'C'")
	s.exec(t, "museum", "SET ROLE keeper; CREATE TABLE pages (id int PRIMARY KEY, text text); INSERT INTO pages VALUES (1, 'https://kestrelpoint.example/x')")
	w := plainSite(t, "postgres", fmt.Sprintf("keeper@127.0.0.1:%d/museum", s.Port), "")
	w.write("new.pw", `it's "new" \ $x`)
	args := []string{"move", "kestrelpoint", "--to", "lighthouse", "--root", w.path("new"), "--address", "https://lighthouse.example",
		"--database", fmt.Sprintf("postgres: lighthouse@127.0.0.1:%d/lighthouse", s.Port), "--password-file", w.path("new.pw"), "--yes"}
	w.fails(1, []string{"run this as the server's administrator", "CREATE ROLE"}, args...)
	s.exec(t, "postgres", "CREATE DATABASE bakery")
	s.exec(t, "bakery", "CREATE TABLE bread (id int)")
	other := slices.Clone(args)
	other[slices.Index(other, "--database")+1] = fmt.Sprintf("postgres: lighthouse@127.0.0.1:%d/bakery", s.Port)
	other[slices.Index(other, "--to")+1] = "bakery"
	s.exec(t, "bakery", "REVOKE CONNECT ON DATABASE bakery FROM PUBLIC")
	w.fails(1, []string{"has a database bakery already, with tables in it"}, append(other, "--make-database", fmt.Sprintf("postgres@127.0.0.1:%d", s.Port))...)
	r := w.fails(4, []string{"made", "database lighthouse"}, append(args, "--make-database", fmt.Sprintf("postgres@127.0.0.1:%d", s.Port))...)
	assert.NotContains(t, r.out, "set aside", "there was nothing")
	conn, err := s.Root(t.Context(), "lighthouse")
	require.NoError(t, err)
	defer conn.Close(t.Context())
	var owner, encoding, text string
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT pg_get_userbyid(datdba), pg_encoding_to_char(encoding), (SELECT text FROM pages) FROM pg_database WHERE datname = 'lighthouse'").Scan(&owner, &encoding, &text))
	assert.Equal(t, []string{"lighthouse", "LATIN1", "https://lighthouse.example/x"}, []string{owner, encoding, text})
	var super bool
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT rolsuper OR rolcreatedb OR rolcreaterole FROM pg_roles WHERE rolname = 'lighthouse'").Scan(&super))
	assert.False(t, super)
}

// tidesSite is a site by the example in docs/RECIPES.md, with a database and its account.
func tidesSite(t *testing.T, s *server, db string) *world {
	t.Helper()
	docs, err := os.ReadFile("../docs/RECIPES.md")
	require.NoError(t, err)
	_, recipe, found := strings.Cut(string(docs), "## An example\n\n```yaml\n")
	require.True(t, found)
	recipe, _, _ = strings.Cut(recipe, "```")
	w := newWorld(t)
	newDatabase(t, w, s, db)
	s.exec(t, "USE "+db+`; CREATE TABLE td_tide (id INT PRIMARY KEY); CREATE TABLE td_port (name VARCHAR(40) PRIMARY KEY, value TEXT); CREATE TABLE td_keeper (id INT PRIMARY KEY, login VARCHAR(40), mail VARCHAR(80), hash VARCHAR(80), role VARCHAR(10));
		INSERT INTO td_port VALUES ('address', 'https://kestrelpoint.example'); INSERT INTO td_keeper VALUES (1, 'keeper', '', 'x', 'admin'), (2, 'reader', '', 'x', '')`)
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.write("tides.yaml", recipe)
	w.write("htdocs/tides.php", "<?php const TIDES_VERSION = '2.1';\n")
	w.write("htdocs/config.php", fmt.Sprintf("<?php\ndefine('DB_HOST', '127.0.0.1:%d');\ndefine('DB', '%s');\ndefine('DB_USER', '%s');\ndefine('DB_PASSWORD', 'new');\ndefine('MAIL', true);\n$prefix = 'td_';\n", s.port, db, db))
	w.write("htdocs/cache/x", "again")
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: ./htdocs, recipe: ./tides.yaml, stores: [here], schedule: [], address: \"https://kestrelpoint.example\"}\n")
	w.run("backup")
	return w
}

// A CMS that Revlet does not know moves by a recipe of one's own, as an example in
// docs/RECIPES.md has it.
func TestAMoveByARecipeOfOnesOwn(t *testing.T) {
	t.Parallel()
	s := mariadb(t)
	w := tidesSite(t, s, "tides_old")
	newDatabase(t, w, s, "tides_new")
	assert.Contains(t, w.run("show", "kestrelpoint"), "tides 2.1")
	assert.Equal(t, []accountLine{{Key: "1", Name: "keeper", Administrator: true}}, accountsOf(w, "--archive", "kestrelpoint"))
	r := w.try("move", "kestrelpoint", "--to", "lighthouse", "--root", w.path("new"), "--address", "https://lighthouse.example", "--copy", "--prefix", "lh_",
		"--database", fmt.Sprintf("mysql: tides_new@127.0.0.1:%d/tides_new", s.port), "--password-file", w.path("new.pw"), "--yes")
	require.Equal(t, 4, r.code, r.out+r.err)
	assert.Contains(t, r.out, "draw the charts anew")
	assert.NoFileExists(t, w.path("new/cache/x"))
	config := w.read("new/config.php")
	for _, words := range []string{"'DB', 'tides_new'", "'MAIL', '0'", "$prefix = 'lh_'"} {
		assert.Contains(t, config, words)
	}
	assert.Equal(t, []string{"https://lighthouse.example"}, s.column(t, "SELECT value FROM tides_new.lh_port"))
	assert.Contains(t, w.read("revlet.yaml"), "tides.yaml", "the new entry names the recipe, too")
	w.run("backup", "lighthouse")
	require.NoError(t, os.Chmod(w.path("tides.yaml"), 0o666))
	w.fails(1, []string{"others may change it"}, "backup", "lighthouse")
}

// Killed at any time, a move to a server leaves the old state there or the new one, also with
// another prefix, and of a copy that was made by hand.
func TestAMoveToAServerIsKilled(t *testing.T) {
	t.Parallel()
	need(t, "mariadb-dump")
	s := mariadb(t)
	w := tidesSite(t, s, "killed_old")
	handMade(t, w.path("htdocs"), w.path("site.zip"), "")
	sh(t, fmt.Sprintf("cd %s && mariadb-dump --no-defaults -uroot --socket=%s killed_old > dump.sql", w.dir, s.socket))
	taken := w.newest()
	w.clock = time.Now().Add(time.Minute)
	w.run("import", "site.zip", "dump.sql", "--site", "kestrelpoint")
	imported := w.newest()
	w.clock = time.Time{}
	require.NotEqual(t, taken, imported)
	for name, c := range map[string]struct {
		archive, table string
		within         time.Duration
		more           []string
	}{"renamed": {taken, "lh_port", 250 * time.Millisecond, []string{"--prefix", "lh_"}}, "made by hand": {imported, "td_port", 450 * time.Millisecond, nil}} {
		site := strings.Fields(name)[0]
		db := "killed_" + site
		newDatabase(t, w, s, db)
		w.fails(4, nil, append([]string{"move", c.archive, "--to", site, "--root", w.path(site), "--address", "https://lighthouse.example",
			"--database", fmt.Sprintf("mysql: %s@127.0.0.1:%d/%s", db, s.port, db), "--password-file", w.path("new.pw"), "--yes"}, c.more...)...)
		state := func() string {
			text := fmt.Sprint(live(s.describe(t, db)))
			for _, name := range []string{"config.php", "tides.php", "index.html"} {
				content, _ := os.ReadFile(w.path(site, name)) // or none
				text += name + ": " + string(content)
			}
			return text
		}
		moved := state()
		require.Equal(t, []string{"https://lighthouse.example"}, s.column(t, "SELECT value FROM "+db+"."+c.table))
		w.run("settle", site, "--unsaved", "--yes")
		s.exec(t, "UPDATE "+db+"."+c.table+" SET value = 'of before'")
		w.write(site+"/index.html", "of before")
		before := state()
		came := 0
		for i := range kills / 6 {
			w.interrupt(syscall.SIGKILL, c.within, "move", c.archive, "--to", site, "--yes")
			w.try("status")
			now := state()
			if now == moved {
				came++
				w.run("undo", site, "--yes")
				now = state()
			}
			require.Equal(t, before, now, "%s: kill %d", name, i)
			require.Empty(t, s.column(t, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = '"+db+"' AND TABLE_NAME LIKE 'rv\\_%'"), "%s: kill %d", name, i)
		}
		t.Logf("%s: %d of %d came up", name, came, kills/6)
		assert.Less(t, came, kills/6, "some kills must hit")
		w.fails(4, []string{"Came up"}, "move", c.archive, "--to", site, "--yes")
		require.Equal(t, []string{"https://lighthouse.example"}, s.column(t, "SELECT value FROM "+db+"."+c.table))
	}
}

// A MediaWiki, by its schema as far as addresses stand in it, moves to another server, name
// and path; PHP itself reads its settings.
func TestAMediaWikiMoves(t *testing.T) {
	t.Parallel()
	need(t, "php")
	s := mariadb(t)
	for _, db := range []string{"wiki_old", "wiki_new"} {
		s.exec(t, fmt.Sprintf("CREATE DATABASE %s; CREATE USER %s@'127.0.0.1' IDENTIFIED BY 'x'; GRANT ALL ON %s.* TO %s@'127.0.0.1'", db, db, db, db))
		t.Cleanup(func() { s.exec(t, fmt.Sprintf("DROP DATABASE %s; DROP USER %s@'127.0.0.1'", db, db)) })
	}
	s.exec(t, "USE wiki_old; "+wikiTables+`;
		CREATE TABLE wk_text (old_id INT UNSIGNED PRIMARY KEY, old_text MEDIUMBLOB NOT NULL, old_flags TINYBLOB NOT NULL);
		CREATE TABLE wk_externallinks (el_id INT UNSIGNED PRIMARY KEY, el_to BLOB NOT NULL);
		CREATE TABLE wk_objectcache (keyname VARBINARY(255) PRIMARY KEY, value MEDIUMBLOB);
		CREATE TABLE wk_page_props (pp_page INT, pp_propname VARBINARY(60), pp_value BLOB, PRIMARY KEY (pp_page, pp_propname));
		INSERT INTO wk_text VALUES (1, 'See [https://kestrelpoint.example/wiki/Lamp the lamp] and [https://kestrelpoint.example/shop the shop]', 'utf-8');
		INSERT INTO wk_externallinks VALUES (1, 'https://kestrelpoint.example/wiki/Lamp');
		INSERT INTO wk_objectcache VALUES ('wk:pcache', 'https://kestrelpoint.example/wiki/'), ('wk:b', 'x');
		INSERT INTO wk_page_props VALUES (1, 'data', 'a:1:{s:3:"url";s:38:"https://kestrelpoint.example/wiki/Lamp";}')`)
	w := newWorld(t)
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	for _, file := range []string{"includes/WebStart.php", "load.php"} {
		w.write("htdocs/wiki/"+file, "<?php")
	}
	w.write("htdocs/wiki/includes/Defines.php", "<?php define( 'MW_VERSION', '1.39.17' );")
	w.write("htdocs/wiki/composer.json", `{"require": {"php": ">=7.4.3", "ext-mbstring": "*"}}`)
	w.write("htdocs/wiki/images/lens.png", "a lens")
	w.write("htdocs/wiki/LocalSettings.php", fmt.Sprintf(`<?php
# This file was made by the installer.
if ( !defined( 'MEDIAWIKI' ) ) { exit; }
$wgSitename = "Kestrel Point";
$wgScriptPath = "/wiki";
$wgServer = "https://kestrelpoint.example";
$wgResourceBasePath = $wgScriptPath;
$wgArticlePath = "$wgScriptPath/\$1";
$wgLogos = [ '1x' => "$wgResourceBasePath/resources/assets/wiki.png" ];
$wgEnableEmail = true;
$wgEmergencyContact = "keeper@kestrelpoint.example";
$wgDBtype = "mysql";
$wgDBserver = "127.0.0.1:%d";
$wgDBname = "wiki_old";
$wgDBuser = "wiki_old";
$wgDBpassword = "x";
$wgDBprefix = "wk_";
$wgSecretKey = "0123";
`, s.port))
	w.run("adopt", "htdocs/wiki", "--name", "kestrelpoint", "--store", "./archives")
	assert.Contains(t, w.read("revlet.yaml"), "https://kestrelpoint.example/wiki", "the address has its path")
	w.run("backup")
	w.write("new.pw", "x")
	r := w.try("move", "kestrelpoint", "--to", "lighthouse", "--root", w.path("new"), "--address", "https://lighthouse.example", "--copy", "--new-keys",
		"--database", fmt.Sprintf("mysql: wiki_new@127.0.0.1:%d/wiki_new", s.port), "--password-file", w.path("new.pw"), "--yes")
	require.Equal(t, 4, r.code, r.out+r.err)
	assert.Contains(t, r.out, "PHP 7.4.3 or newer: met")
	assert.Contains(t, r.out, "Without rows, for the CMS makes them anew: wk_objectcache (2 rows)")
	out, err := exec.Command("php", "-r", "define('MEDIAWIKI', 1); require $argv[1]; echo json_encode([$wgServer, $wgScriptPath, $wgArticlePath, $wgLogos['1x'], $wgSitename, (bool)$wgEnableEmail, $wgJobRunRate, $wgDefaultRobotPolicy, $wgDBname, $wgSecretKey !== '0123'], JSON_UNESCAPED_SLASHES);", "--", w.path("new/LocalSettings.php")).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, `["https://lighthouse.example","","/$1","/resources/assets/wiki.png","Copy of Kestrel Point",false,0,"noindex,nofollow","wiki_new",true]`, string(out))
	assert.Equal(t, []string{"See [https://lighthouse.example/Lamp the lamp] and [https://kestrelpoint.example/shop the shop]"}, s.column(t, "SELECT CAST(old_text AS CHAR) FROM wiki_new.wk_text"), "what is beside the wiki stays where it is")
	assert.Equal(t, []string{`a:1:{s:3:"url";s:31:"https://lighthouse.example/Lamp";}`}, s.column(t, "SELECT CAST(pp_value AS CHAR) FROM wiki_new.wk_page_props"))
	assert.Empty(t, s.column(t, "SELECT keyname FROM wiki_new.wk_objectcache"))
	assert.Equal(t, "a lens", w.read("new/images/lens.png"))
}
