package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type accountLine struct {
	Key, Name, Mail    string
	Administrator, Off bool
}

// accountsOf is what `revlet accounts` tells.
func accountsOf(w *world, args ...string) []accountLine {
	var list struct{ Accounts []accountLine }
	w.json(&list, append([]string{"accounts", "kestrelpoint"}, args...)...)
	return list.Accounts
}

// accountsOfWordPress sees to it that WordPress itself lets in whoever has the new password,
// and nobody who was in before.
func accountsOfWordPress(t *testing.T, w *world, s *server, address string) {
	t.Helper()
	host := strings.TrimPrefix(address, "http://")
	php := func(script string, args ...string) string { return wp(t, w.path("htdocs"), host, script, args...) }
	letsIn := func(user, password string) bool {
		return php(`echo is_wp_error(wp_authenticate($argv[1], $argv[2])) ? 'no' : 'yes';`, user, password) == "yes"
	}
	php(`wp_insert_user(['user_login' => 'reader', 'user_pass' => 'x', 'user_email' => 'reader@kestrelpoint.example', 'role' => 'subscriber']);
		WP_Session_Tokens::get_instance(1)->create(time() + 3600);`)
	w.run("adopt", "htdocs", "--name", "kestrelpoint", "--store", "./archives")
	w.run("backup")
	php(`wp_insert_user(['user_login' => 'mallory', 'user_pass' => 'x', 'role' => 'administrator']);`)
	keeper := accountLine{Key: "1", Name: "keeper", Mail: "keeper@kestrelpoint.example", Administrator: true}
	assert.Equal(t, []accountLine{keeper, {Key: "3", Name: "mallory", Administrator: true}}, accountsOf(w))
	assert.Equal(t, []accountLine{keeper}, accountsOf(w, "--archive", "kestrelpoint"))
	assert.Equal(t, []accountLine{keeper, {Key: "2", Name: "reader", Mail: "reader@kestrelpoint.example"}}, accountsOf(w, "--archive", "kestrelpoint", "--all"))

	sessions := func() []string {
		return s.column(t, "SELECT user_id FROM practice_cms.kp_usermeta WHERE meta_key = 'session_tokens'")
	}
	require.Len(t, sessions(), 1)
	const old, fresh = "made-up-pass-1871", `the "lamp" o'f 1871 \ $1`
	w.write("new.pw", fresh+"\n")
	require.NoError(t, os.Chmod(w.path("new.pw"), 0o644))
	assert.Contains(t, w.fails(1, []string{"no account"}, "accounts", "password", "kestrelpoint", "nobody", "--password-file", w.path("new.pw"), "--yes").err, "others can read it")
	require.NoError(t, os.Chmod(w.path("new.pw"), 0o600))
	r := w.run("accounts", "password", "kestrelpoint", "KEEPER@kestrelpoint.example", "--password-file", w.path("new.pw"), "--yes")
	assert.Contains(t, r, "password of keeper")
	assert.NotContains(t, r, "$2y$")
	assert.Empty(t, sessions())
	assert.True(t, letsIn("keeper", fresh))
	assert.False(t, letsIn("keeper", old))
	_, page := get(t, address+"/wp-login.php")
	assert.Contains(t, page, "loginform")

	w.run("accounts", "title", "kestrelpoint", "Closed for <winter>", "--yes")
	w.run("accounts", "mail", "kestrelpoint", "keeper", "lamp@kestrelpoint.example", "--yes")
	assert.Equal(t, "lamp@kestrelpoint.example", accountsOf(w)[0].Mail)
	assert.Equal(t, "Closed for <winter>", php(`echo html_entity_decode(get_option('blogname'));`))
	w.fails(1, []string{"Data too long", "choose a shorter one"}, "accounts", "mail", "kestrelpoint", "keeper", strings.Repeat("lamp", 30)+"@kestrelpoint.example", "--yes")
	s.exec(t, "CREATE TRIGGER practice_cms.fixed BEFORE UPDATE ON practice_cms.kp_users FOR EACH ROW SET NEW.user_email = 'mallory@elsewhere.example'")
	w.fails(1, []string{"would keep", "mallory@elsewhere.example"}, "accounts", "mail", "kestrelpoint", "keeper", "fresh@kestrelpoint.example", "--yes")
	s.exec(t, "DROP TRIGGER practice_cms.fixed")
	assert.Contains(t, w.run("accounts", "undo", "kestrelpoint", "--yes"), keeper.Mail)
	assert.Contains(t, w.run("accounts", "undo", "kestrelpoint", "--yes"), "title")
	assert.Equal(t, "Kestrel Point Lighthouse Museum", php(`echo get_option('blogname');`))
	assert.Equal(t, keeper, accountsOf(w)[0])
	w.run("accounts", "undo", "kestrelpoint", "--yes")
	assert.True(t, letsIn("keeper", old), "the old password is back")
	assert.False(t, letsIn("keeper", fresh))
	w.fails(2, []string{"no account of kestrelpoint was changed"}, "accounts", "undo", "kestrelpoint", "--yes")

	w.run("accounts", "mail", "kestrelpoint", "keeper", "lamp@kestrelpoint.example", "--yes")
	s.exec(t, "UPDATE practice_cms.kp_users SET user_email = 'other@kestrelpoint.example' WHERE ID = 1")
	w.fails(1, []string{"changed again since"}, "accounts", "undo", "kestrelpoint", "--yes")
	assert.Equal(t, "other@kestrelpoint.example", accountsOf(w)[0].Mail, "what others changed stays")
	w.write("short.pw", "short\n")
	for name, c := range map[string]struct {
		code  int
		words []string
		args  []string
	}{
		"nobody of that name":  {1, []string{`no account "keepr"`, "--all"}, []string{"password", "kestrelpoint", "keepr", "--password-file", w.path("new.pw"), "--yes"}},
		"too short":            {2, []string{"too short"}, []string{"password", "kestrelpoint", "keeper", "--password-file", w.path("short.pw"), "--yes"}},
		"nobody to ask":        {2, []string{"--password-file"}, []string{"password", "kestrelpoint", "keeper", "--yes"}},
		"nobody has confirmed": {2, []string{"--yes"}, []string{"password", "kestrelpoint", "keeper", "--password-file", w.path("new.pw")}},
		"no mail address":      {2, []string{"no mail address"}, []string{"mail", "kestrelpoint", "keeper", "keeper", "--yes"}},
		"the same again":       {2, []string{"already"}, []string{"mail", "kestrelpoint", "keeper", "other@kestrelpoint.example", "--yes"}},
		"an empty title":       {2, []string{"empty"}, []string{"title", "kestrelpoint", " ", "--yes"}},
	} {
		t.Run(name, func(t *testing.T) {
			w := *w
			w.t = t
			w.fails(c.code, c.words, append([]string{"accounts"}, c.args...)...)
		})
	}
	// Another database in the settings, since the last backup, waits for a person.
	w.write("htdocs/wp-config.php", replaceOnce(t, w.read("htdocs/wp-config.php"), "'DB_NAME', 'practice_cms'", "'DB_NAME', 'somebody_elses'"))
	w.fails(1, []string{"another database"}, "accounts", "password", "kestrelpoint", "keeper", "--password-file", w.path("new.pw"), "--yes")
	w.write("htdocs/wp-config.php", replaceOnce(t, w.read("htdocs/wp-config.php"), "'DB_NAME', 'somebody_elses'", "'DB_NAME', 'practice_cms'"))
}

// joomlaTables, drupalTables and wikiTables are what accounts take of the schemas of those
// systems.
const (
	joomlaTables = `CREATE TABLE jm_users (id serial PRIMARY KEY, name varchar(400) NOT NULL, username varchar(150) NOT NULL, email varchar(100) NOT NULL, password varchar(100) NOT NULL, block smallint NOT NULL);
		CREATE TABLE jm_user_usergroup_map (user_id bigint, group_id bigint, PRIMARY KEY (user_id, group_id));
		CREATE TABLE jm_session (session_id bytea PRIMARY KEY, userid bigint);
		CREATE TABLE jm_extensions (extension_id serial PRIMARY KEY);
		INSERT INTO jm_users VALUES (42, 'Keeper', 'keeper', 'keeper@kestrelpoint.example', '$2y$10$x', 0), (43, 'Old', 'old', 'old@kestrelpoint.example', 'x', 1), (44, 'Reader', 'reader', '', 'x', 0);
		INSERT INTO jm_user_usergroup_map VALUES (42, 8), (43, 7), (44, 2);
		INSERT INTO jm_session VALUES ('a', 42), ('b', 44)`
	drupalTables = `CREATE TABLE users_field_data (uid INTEGER, langcode VARCHAR(12), name VARCHAR(60), mail VARCHAR(254), pass VARCHAR(255), status INTEGER, PRIMARY KEY (uid, langcode));
		CREATE TABLE user__roles (entity_id INTEGER, delta INTEGER, roles_target_id VARCHAR(255), PRIMARY KEY (entity_id, delta));
		CREATE TABLE sessions (uid INTEGER, sid VARCHAR(128) PRIMARY KEY);
		CREATE TABLE cache_entity (cid VARCHAR(255) PRIMARY KEY);
		CREATE TABLE key_value (a INTEGER PRIMARY KEY); CREATE TABLE config (a INTEGER PRIMARY KEY);
		INSERT INTO users_field_data VALUES (0, 'en', '', NULL, NULL, 0), (1, 'en', 'admin', 'a@kestrelpoint.example', 'x', 1), (2, 'en', 'keeper', 'keeper@kestrelpoint.example', 'x', 1), (2, 'de', 'keeper', 'keeper@kestrelpoint.example', 'x', 1), (3, 'en', 'reader', 'r@kestrelpoint.example', 'x', 1);
		INSERT INTO user__roles VALUES (2, 0, 'administrator'), (3, 0, 'editor');
		INSERT INTO sessions VALUES (2, 'a'), (3, 'b');
		INSERT INTO cache_entity VALUES ('values:user:2'), ('values:user:3')`
	wikiTables = `CREATE TABLE wk_user (user_id INT UNSIGNED PRIMARY KEY, user_name VARBINARY(255) NOT NULL, user_password TINYBLOB NOT NULL, user_email TINYBLOB NOT NULL, user_token BINARY(32) NOT NULL);
		CREATE TABLE wk_user_groups (ug_user INT UNSIGNED, ug_group VARBINARY(255), PRIMARY KEY (ug_user, ug_group));
		CREATE TABLE wk_page (a INT PRIMARY KEY); CREATE TABLE wk_revision (a INT PRIMARY KEY);
		INSERT INTO wk_user VALUES (1, 'Keeper', ':pbkdf2:x', 'keeper@kestrelpoint.example', 'oldtoken'), (2, 'Reader', '', '', 'other');
		INSERT INTO wk_user_groups VALUES (1, 'sysop'), (1, 'bureaucrat'), (2, 'user')`
)

// verifies has PHP compare a password with a hash, as each of the systems does.
func verifies(t *testing.T, script, password, hash string) bool {
	t.Helper()
	out, err := exec.Command("php", "-r", "[, $p, $h] = $argv; echo ("+script+") ? 'yes' : 'no';", "--", password, hash).CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out) == "yes"
}

// set sets a password, and makes sure that it can be taken back.
func setPassword(w *world, user string) {
	w.write("new.pw", "the lamp of 1871")
	w.run("accounts", "password", "kestrelpoint", user, "--password-file", w.path("new.pw"), "--yes")
	w.run("accounts", "undo", "kestrelpoint", "--yes")
	w.run("accounts", "password", "kestrelpoint", user, "--password-file", w.path("new.pw"), "--yes")
}

const bcrypted = `password_verify($p, $h) && password_get_info($h)["algoName"] === "bcrypt"`

func TestAccountsOfJoomlaOnPostgres(t *testing.T) {
	t.Parallel()
	need(t, "php")
	s := postgres(t)
	w := pgWorld(t, s, "joomla", joomlaTables)
	for _, file := range []string{"libraries/src/Version.php", "administrator/index.php", "includes/framework.php"} {
		w.write("htdocs/"+file, "<?php const MAJOR_VERSION = 5; const MINOR_VERSION = 1; const PATCH_VERSION = 2;")
	}
	w.write("htdocs/configuration.php", fmt.Sprintf("<?php\nclass JConfig {\n\tpublic $dbtype = 'pgsql';\n\tpublic $host = '127.0.0.1:%d';\n\tpublic $db = 'joomla';\n\tpublic $user = 'joomla';\n\tpublic $password = 'x';\n\tpublic $dbprefix = 'jm_';\n\tpublic $sitename = 'Kestrel Point';\n\tpublic $live_site = 'https://kestrelpoint.example';\n\tpublic $secret = 'old';\n\tpublic $mailonline = true;\n\tpublic $robots = '';\n\tpublic $tmp_path = '%s/tmp';\n}\n", s.Port, w.path("htdocs")))
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: ./htdocs, stores: [here], recipe: auto}\n")
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.run("backup")
	want := []accountLine{{"42", "keeper", "keeper@kestrelpoint.example", true, false}, {"43", "old", "old@kestrelpoint.example", true, true}}
	assert.Equal(t, want, accountsOf(w))
	assert.Equal(t, want, accountsOf(w, "--archive", "kestrelpoint"))
	setPassword(w, "keeper")
	var hash string
	conn, err := s.Root(t.Context(), "joomla")
	require.NoError(t, err)
	defer conn.Close(t.Context())
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT password FROM jm_users WHERE id = 42").Scan(&hash))
	assert.True(t, verifies(t, bcrypted, "the lamp of 1871", hash))
	var left string
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT string_agg(userid::text, ',') FROM jm_session").Scan(&left))
	assert.Equal(t, "44", left, "its sessions are ended, and no others")
	w.fails(1, []string{"title of site kestrelpoint is not kept in its database"}, "accounts", "title", "kestrelpoint", "x", "--yes")

	// And it moves: PHP itself reads its settings.
	s.exec(t, "postgres", "CREATE ROLE lighthouse LOGIN")
	s.exec(t, "postgres", "CREATE DATABASE lighthouse OWNER lighthouse")
	r := w.try("move", "kestrelpoint", "--to", "lighthouse", "--root", w.path("new"), "--address", "https://lighthouse.example", "--copy", "--new-keys",
		"--database", fmt.Sprintf("postgres: lighthouse@127.0.0.1:%d/lighthouse", s.Port), "--yes")
	require.Equal(t, 4, r.code, r.out+r.err)
	assert.Contains(t, r.out, "Without rows, for the CMS makes them anew: jm_session (2 rows)")
	out, err := exec.Command("php", "-r", "require $argv[1]; $c = new JConfig; echo json_encode([$c->db, $c->user, $c->live_site, $c->sitename, $c->robots, (bool)$c->mailonline, $c->tmp_path, $c->secret !== 'old'], JSON_UNESCAPED_SLASHES);", "--", w.path("new/configuration.php")).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, fmt.Sprintf(`["lighthouse","lighthouse","https://lighthouse.example","Copy of Kestrel Point","noindex, nofollow",false,"%s/tmp",true]`, w.path("new")), string(out))
}

func TestAccountsOfDrupalOnSQLite(t *testing.T) {
	t.Parallel()
	need(t, "php", "sqlite3")
	for version, scheme := range map[string]string{"10.3.1": bcrypted, "11.0.0-dev": bcrypted, "9.5.11": `strlen($h) === 55 && str_starts_with($h, '$S$E')`} {
		t.Run(version, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			w.write("htdocs/core/lib/Drupal.php", "<?php class Drupal { const VERSION = '"+version+"'; }")
			w.write("htdocs/core/core.services.yml", "")
			w.write("htdocs/sites/default/settings.php", "<?php\n$databases['default']['default'] = ['database' => 'sites/default/files/.ht.sqlite', 'driver' => 'sqlite', 'prefix' => ''];\n")
			w.write("htdocs/sites/default/files/.ht.sqlite", "")
			sql := func(q string) string {
				out, err := exec.Command("sqlite3", w.path("htdocs/sites/default/files/.ht.sqlite"), q).CombinedOutput()
				require.NoError(t, err, string(out))
				return strings.TrimSpace(string(out))
			}
			sql(drupalTables)
			w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: ./htdocs, stores: [here], recipe: auto}\n")
			require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
			w.run("backup")
			want := []accountLine{{"1", "admin", "a@kestrelpoint.example", true, false}, {"2", "keeper", "keeper@kestrelpoint.example", true, false}}
			assert.Equal(t, want, accountsOf(w), "the first account may do everything")
			assert.Equal(t, want, accountsOf(w, "--archive", "kestrelpoint"))
			setPassword(w, "keeper")
			hashes := strings.Split(sql("SELECT pass FROM users_field_data WHERE uid = 2"), "\n")
			require.Len(t, hashes, 2, "a row for each language")
			assert.Equal(t, hashes[0], hashes[1])
			assert.True(t, verifies(t, scheme, "the lamp of 1871", hashes[0]), hashes[0])
			assert.Equal(t, "x", sql("SELECT pass FROM users_field_data WHERE uid = 3"))
			assert.Equal(t, "3", sql("SELECT uid FROM sessions"))
			sql("UPDATE users_field_data SET mail = NULL WHERE uid = 2")
			assert.Contains(t, w.run("accounts", "mail", "kestrelpoint", "keeper", "lamp@kestrelpoint.example", "--yes"), "(none)")
			w.run("accounts", "undo", "kestrelpoint", "--yes")
			assert.Equal(t, "2", sql("SELECT count(*) FROM users_field_data WHERE uid = 2 AND mail IS NULL"), "absent is not empty")
			assert.Equal(t, "values:user:3", sql("SELECT cid FROM cache_entity"), "what is cached of it would count still")
		})
	}
}

func TestAccountsOfMediaWiki(t *testing.T) {
	t.Parallel()
	need(t, "php")
	s := mariadb(t)
	s.exec(t, "CREATE DATABASE accounts_wiki; CREATE USER accounts_wiki@'127.0.0.1' IDENTIFIED BY 'x'; GRANT ALL ON accounts_wiki.* TO accounts_wiki@'127.0.0.1'; USE accounts_wiki; "+wikiTables)
	t.Cleanup(func() { s.exec(t, "DROP DATABASE accounts_wiki; DROP USER accounts_wiki@'127.0.0.1'") })
	w := newWorld(t)
	for _, file := range []string{"includes/WebStart.php", "load.php"} {
		w.write("htdocs/"+file, "<?php")
	}
	w.write("htdocs/includes/Defines.php", "<?php define( 'MW_VERSION', '1.39.17' );")
	w.write("htdocs/LocalSettings.php", fmt.Sprintf("<?php\n$wgDBtype = 'mysql'; $wgDBserver = '127.0.0.1:%d'; $wgDBname = 'accounts_wiki'; $wgDBuser = 'accounts_wiki'; $wgDBpassword = 'x'; $wgDBprefix = 'wk_'; $wgServer = 'https://kestrelpoint.example';\n", s.port))
	w.write("revlet.yaml", "state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  kestrelpoint: {root: ./htdocs, stores: [here], recipe: auto, address: \"https://kestrelpoint.example\"}\n")
	require.NoError(t, os.MkdirAll(w.path("archives"), 0o755))
	w.run("backup")
	want := []accountLine{{"1", "Keeper", "keeper@kestrelpoint.example", true, false}}
	assert.Equal(t, want, accountsOf(w))
	assert.Equal(t, want, accountsOf(w, "--archive", "kestrelpoint"))
	setPassword(w, "keeper")
	hash := s.column(t, "SELECT user_password FROM accounts_wiki.wk_user ORDER BY user_id")
	assert.True(t, verifies(t, `(function ($p, $h) { [, , $a, $r, $l, $s, $k] = explode(':', $h); return hash_pbkdf2($a, $p, base64_decode($s), (int)$r, (int)$l, true) === base64_decode($k); })($p, $h)`, "the lamp of 1871", hash[0]))
	assert.Empty(t, hash[1])
	tokens := s.column(t, "SELECT user_token FROM accounts_wiki.wk_user ORDER BY user_id")
	assert.Regexp(t, "^[0-9a-f]{32}$", tokens[0], "sessions depend on it")
	assert.Contains(t, tokens[1], "other")
}
