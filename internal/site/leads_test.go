package site

import (
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const plainSettings = "<?php\ndefine('DB_NAME', 'museum');\ndefine('DB_USER', 'keeper');\ndefine('DB_PASSWORD', 'x');\ndefine('DB_HOST', 'localhost:/run/live.sock');\n" +
	"if (!defined('ABSPATH')) { define('ABSPATH', __DIR__ . '/'); }\nrequire_once ABSPATH . 'wp-settings.php';\n"

// A copy is served only if nothing but its changed settings says where it leads.
func TestACopyIsNotServedThatMightLeadElsewhere(t *testing.T) {
	recipe, err := RecipeNamed("wordpress")
	require.NoError(t, err)
	point := func(settings string, more ...string) (string, error) {
		files := map[string]string{"wp-config.php": settings}
		for _, name := range more {
			files[name] = "<?php"
		}
		pointed, err := recipe.Point(Pointing{Root: "/srv/copy", Address: "http://127.0.0.1:8118", Databases: []Database{{Label: "main", Engine: "mysql", Host: "127.0.0.1", Port: 4406, Name: "museum", User: "keeper", Password: "x"}}},
			func(rel string) ([]byte, error) {
				if text, ok := files[rel]; ok {
					return []byte(text), nil
				}
				return nil, fs.ErrNotExist
			})
		return string(pointed.Content), err
	}
	content, err := point(plainSettings)
	require.NoError(t, err)
	assert.Contains(t, content, "127.0.0.1:4406")
	assert.NotContains(t, content, "live.sock")
	_, err = point(strings.Replace(plainSettings, "require_once", "include __DIR__ . '/local.php'; require_once", 1))
	require.NoError(t, err, "what is not there says nothing")
	for name, c := range map[string]struct {
		settings string
		more     []string
	}{
		"takes in another file":      {strings.Replace(plainSettings, "require_once", "include __DIR__ . '/local.php'; require_once", 1), []string{"local.php"}},
		"takes in one from outside":  {"<?php require '/etc/museum/db.php'; ?>" + plainSettings, nil},
		"takes in one by a variable": {"<?php require $file; ?>" + plainSettings, nil},
		"a file that chooses":        {plainSettings, []string{"wp-content/db.php"}},
		"a network of sites":         {strings.Replace(plainSettings, "<?php", "<?php define('MULTISITE', true);", 1), nil},
		"defined under a condition":  {strings.Replace(plainSettings, "<?php", "<?php if (x()) { define('DB_HOST', 'live.example'); }", 1), nil},
		"not a plain value":          {strings.Replace(plainSettings, "'localhost:/run/live.sock'", "getenv('NOT_SET_HERE')", 1), nil},
		"the name from a call":       {strings.Replace(plainSettings, "'museum'", "file_get_contents('/run/name')", 1), nil},
	} {
		_, err := point(c.settings, c.more...)
		assert.Error(t, err, name)
	}
}

func TestDatabasesThatAreTheSame(t *testing.T) {
	a := Database{Engine: "mysql", Host: "localhost", Port: 3306, Name: "museum", User: "keeper", Password: "x"}
	b := a
	b.Host = "127.0.0.1"
	assert.True(t, a.Same(b))
	for _, change := range []func(*Database){
		func(d *Database) { d.Name = "shop" }, func(d *Database) { d.Port = 3307 }, func(d *Database) { d.Password = "y" }, func(d *Database) { d.User = "z" },
		func(d *Database) { d.Host = "db.example" }, func(d *Database) { d.Socket = "/run/x.sock" }, func(d *Database) { d.Engine = "postgres" },
	} {
		c := b
		change(&c)
		assert.False(t, a.Same(c), c.Where())
	}
	file := Database{Engine: "sqlite", Path: "/srv/a/../a/x.sqlite"}
	assert.True(t, file.Same(Database{Engine: "sqlite", Path: "/srv/a/x.sqlite"}))
	assert.False(t, file.Same(Database{Engine: "sqlite", Path: "/srv/b/x.sqlite"}))
}

// What only running the settings would tell is not absent: nothing stands in for it.
func TestAnUnknownSettingIsNotAbsent(t *testing.T) {
	recipe, err := RecipeNamed("wordpress")
	require.NoError(t, err)
	const plain = "<?php define('DB_NAME', 'museum'); define('DB_USER', 'keeper'); define('DB_PASSWORD', 'x'); define('DB_HOST', 'db.example'); $table_prefix = 'kp_';"
	leads := func(settings string) (Database, error) {
		all, err := recipe.Leads("/srv/site", "", func(rel string) ([]byte, error) {
			if rel == "wp-config.php" {
				return []byte(settings), nil
			}
			return nil, fs.ErrNotExist
		})
		return all["main"], err
	}
	db, err := leads(plain)
	require.NoError(t, err)
	assert.Equal(t, "db.example kp_", db.Host+" "+db.Prefix)
	db, err = leads(strings.NewReplacer("define('DB_HOST', 'db.example');", "", "$table_prefix = 'kp_';", "").Replace(plain))
	require.NoError(t, err, "what is absent has the CMS's default")
	assert.Equal(t, "localhost wp_", db.Host+" "+db.Prefix)
	for name, settings := range map[string]string{
		"DB_HOST":       strings.Replace(plain, "'db.example'", "$_SERVER['DB']", 1),
		"$table_prefix": strings.Replace(plain, "'kp_'", "prefix()", 1),
		"DB_PASSWORD":   strings.Replace(plain, "'x'", "file_get_contents('/run/secret')", 1),
	} {
		_, err := leads(settings)
		assert.ErrorIs(t, err, ErrSettings, name)
		assert.ErrorContains(t, err, name)
	}
	twice := plain + " if ($_SERVER['HTTP_HOST'] === 'new.example') { $table_prefix = 'nw_'; }"
	_, err = leads(twice)
	assert.ErrorContains(t, err, "$table_prefix")

	point := func(p Pointing, more string) (Pointed, error) {
		p.Root, p.Address = "/srv/copy", "http://127.0.0.1:1"
		p.Databases = []Database{{Label: "main", Engine: "mysql", Host: "127.0.0.1", Port: 3306, Name: "copy", User: "keeper", Password: "x", Prefix: "kp_"}}
		return recipe.Point(p, func(rel string) ([]byte, error) {
			if rel == "wp-config.php" {
				return []byte(plain + more), nil
			}
			return nil, fs.ErrNotExist
		})
	}
	_, err = point(Pointing{}, " define('MULTISITE', f());")
	assert.ErrorIs(t, err, ErrMayLeadElsewhere, "it may be a network")
	_, err = point(Pointing{Moved: true, Network: true, Settings: map[string]string{"MULTISITE": ""}}, " define('MULTISITE', f());")
	assert.ErrorContains(t, err, "MULTISITE", "it cannot be made none")
	out, err := point(Pointing{Moved: true}, " define('WP_HOME', address_of_this_request());")
	require.NoError(t, err)
	assert.Equal(t, []string{"WP_HOME"}, out.Unknown)
	_, err = point(Pointing{Moved: true}, " define('WP_HOME', 'https://' . $_SERVER['HTTP_HOST']);")
	assert.ErrorContains(t, err, "environment", "the web server has it")
}
