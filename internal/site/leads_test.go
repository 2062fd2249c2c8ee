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
