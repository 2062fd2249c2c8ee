package site

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/config"
	"revlet/internal/site/tree"
)

// installation makes an installation's tell-tale files.
func installation(t *testing.T, files map[string]string) string {
	root := filepath.Join(t.TempDir(), "htdocs")
	for name, text := range files {
		p := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
	}
	return root
}

func TestRecipes(t *testing.T) {
	for _, c := range []struct {
		recipe, version, address string
		files                    map[string]string
		want                     Database
		component                map[string]string
	}{
		{"wordpress", "6.4.3", "", map[string]string{
			"wp-includes/version.php": "<?php $wp_version = '6.4.3';", "wp-load.php": "",
			"../wp-config.php": "<?php define('DB_NAME','m'); define('DB_USER', 'u'); define( 'DB_PASSWORD' , 'p'); define('DB_HOST', '[::1]:3307');",
		}, Database{Engine: "mysql", Host: "::1", Port: 3307, User: "u", Password: "p", Name: "m", Prefix: "wp_"},
			map[string]string{"wp-content/themes/a/style.css": "themes", "wp-content/plugins/x/x.php": "extensions", "wp-admin/index.php": "core", "notes.txt": "other"}},
		{"joomla", "4.3.1", "https://kestrelpoint.example", map[string]string{
			"libraries/src/Version.php": "<?php final class Version { public const MAJOR_VERSION = 4; public const MINOR_VERSION = 3; const PATCH_VERSION = 1; }", "administrator/index.php": "", "includes/framework.php": "",
			"configuration.php": "<?php class JConfig { public $dbtype = 'mysqli'; public $host = 'db.example:3310'; public $user = 'u'; public $password = 'p'; public $db = 'm'; public $dbprefix = 'kp_'; public $live_site = 'https://kestrelpoint.example'; }",
		}, Database{Engine: "mysql", Host: "db.example", Port: 3310, User: "u", Password: "p", Name: "m", Prefix: "kp_"},
			map[string]string{"templates/a/index.php": "themes", "images/a.png": "uploads", "configuration.php": "settings"}},
		{"drupal", "10.1.6", "", map[string]string{
			"core/lib/Drupal.php": "<?php class Drupal { const VERSION = '10.1.6'; }", "core/core.services.yml": "",
			"sites/default/settings.php": "<?php\n$databases['default']['default'] = array (\n 'database' => 'm', 'username' => 'u', 'password' => 'p', 'host' => '127.0.0.1', 'port' => '5433', 'driver' => 'pgsql', 'prefix' => '',\n);",
		}, Database{Engine: "postgres", Host: "127.0.0.1", Port: 5433, User: "u", Password: "p", Name: "m"},
			map[string]string{"sites/default/files/a.png": "uploads", "modules/a/a.module": "extensions", "sites/default/settings.php": "settings"}},
		{"mediawiki", "1.39.17", "https://wiki.kestrelpoint.example", map[string]string{
			"includes/Defines.php": "<?php define( 'MW_VERSION', '1.39.17' );", "includes/WebStart.php": "", "load.php": "",
			"LocalSettings.php": "<?php $wgServer = \"https://wiki.kestrelpoint.example\"; $wgDBtype = 'sqlite'; $wgDBname = 'm'; $wgSQLiteDataDir = __DIR__ . '/../data';",
		}, Database{Engine: "sqlite"}, map[string]string{"skins/a/a.css": "themes", "images/a.png": "uploads"}},
	} {
		t.Run(c.recipe, func(t *testing.T) {
			root := installation(t, c.files)
			s, err := Open("kestrelpoint", config.Site{Root: root, Recipe: "auto", AnyDatabase: true})
			require.NoError(t, err)
			require.NotNil(t, s.Recipe)
			assert.Equal(t, c.recipe, s.Recipe.Name)
			assert.Equal(t, c.version, s.Version())
			assert.Equal(t, c.address, s.AddressInSettings())
			require.Len(t, s.Databases, 1)
			got := s.Databases[0]
			if got.Engine == "sqlite" {
				assert.Equal(t, filepath.Join(filepath.Dir(root), "data/m.sqlite"), filepath.Clean(got.Path))
			} else {
				c.want.Label, c.want.OwnTables = "main", got.OwnTables
				assert.Equal(t, c.want, got)
			}
			for path, component := range c.component {
				assert.Equal(t, component, s.Recipe.ComponentOf(path), path)
				assert.Equal(t, component, s.Recipe.ComponentOfName("webroot/"+path, nil), path)
				assert.Equal(t, component, s.Recipe.ComponentOfName("shared/"+path, nil), "another folder mirrors the webroot: %s", path)
			}
			assert.Equal(t, c.recipe == "wordpress", s.Above != "", "settings one folder above are noticed")
			pointed(t, s)
		})
	}
}

// pointed tells a copy of a site about a database and an address of its own: read
// again, its settings say just that.
func pointed(t *testing.T, s *Site) {
	db := s.Databases[0]
	db.Host, db.Port, db.Socket, db.Password = "127.0.0.1", 9999, "", `it's \ "odd"`
	pointed, err := s.Recipe.Point(Pointing{Root: s.Root, Databases: []Database{db}, Address: "http://127.0.0.1:8080"}, InFolder(s.Root))
	if db.Engine == "sqlite" {
		assert.ErrorContains(t, err, "is made of several")
		return
	}
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, pointed.Rel), pointed.Content, 0o644))
	again, err := Open(s.Name, config.Site{Root: s.Root, Recipe: "auto"})
	require.NoError(t, err)
	assert.Equal(t, []Database{db}, again.Databases)
	if s.AddressInSettings() != "" {
		assert.Equal(t, "http://127.0.0.1:8080", again.AddressInSettings())
	}
}

// What recipes say of rows is said in a form that is understood.
func TestRecipesSpeakOfRows(t *testing.T) {
	all, err := Recipes()
	require.NoError(t, err)
	column := regexp.MustCompile(`^[\w*]+\.\w+$`)
	for _, r := range all {
		assert.NotEmpty(t, r.Relations, r.Name)
		for _, rel := range r.Relations {
			assert.Regexp(t, column, rel.From, r.Name)
			assert.Regexp(t, column, rel.To+rel.Parent, r.Name)
			assert.NotEqual(t, rel.To == "", rel.Parent == "", "%s %s: one of to and parent", r.Name, rel.From)
			assert.Equal(t, rel.Where == "", rel.Is == "", "%s %s", r.Name, rel.From)
		}
		assert.NotEmpty(t, r.Watch, r.Name)
		for _, w := range r.Watch {
			assert.NotEmpty(t, w.What, r.Name)
			assert.Equal(t, w.Where == "", len(w.Is) == 0, "%s %s", r.Name, w.Table)
			assert.Equal(t, w.Among == nil, w.Key == "", "%s %s", r.Name, w.Table)
			assert.True(t, w.Pick == "" || w.Column != "", "%s %s: of which column?", r.Name, w.Table)
			_, err := regexp.Compile(w.Pick)
			assert.NoError(t, err)
		}
		assert.NotEmpty(t, r.AfterBreakIn, r.Name)
		for table := range r.Caveats {
			assert.True(t, slices.ContainsFunc(r.Relations, func(rel Relation) bool { return strings.HasPrefix(rel.From, table+".") }), "%s: nobody asks for rows of %s", r.Name, table)
		}
	}
}

func TestSeveralSitesAndASecondDatabase(t *testing.T) {
	settings := func(db string) string {
		return "<?php $databases['default']['default'] = ['database' => '" + db + "', 'username' => 'u', 'password' => 'p', 'host' => 'localhost', 'driver' => 'mysql', 'unix_socket' => '/run/db.sock'];"
	}
	root := installation(t, map[string]string{"core/lib/Drupal.php": "", "core/core.services.yml": "", "sites/default/settings.php": settings("one"), "sites/two/settings.php": settings("two")})
	s, err := Open("two", config.Site{Root: root, Settings: "sites/two/settings.php", Databases: map[string]config.Database{"tickets": {SQLite: "/srv/tickets.db"}}})
	require.NoError(t, err)
	assert.Len(t, s.OtherSettings(t.Context()), 2)
	main, _ := s.Database("main")
	tickets, _ := s.Database("tickets")
	assert.Equal(t, "two", main.Name)
	assert.Equal(t, "/run/db.sock", main.Socket)
	assert.Equal(t, "/srv/tickets.db", tickets.Path)
}

func TestDatabasesOfTheConfiguration(t *testing.T) {
	for in, want := range map[string]Database{
		"museum@db.example:3307/cms":          {User: "museum", Host: "db.example", Port: 3307, Name: "cms"},
		"keeper@museum@db.example/cms":        {User: "keeper@museum", Host: "db.example", Port: 3306, Name: "cms"},
		"museum@/run/x@y/x.sock/c@ms":         {User: "museum", Host: "localhost", Port: 3306, Socket: "/run/x@y/x.sock", Name: "c@ms"},
		"it's \"odd\"@127.0.0.1:3306/my db-é": {User: `it's "odd"`, Host: "127.0.0.1", Port: 3306, Name: "my db-é"},
	} {
		var db Database
		require.NoError(t, db.parseURL(in), in)
		assert.Equal(t, want, db, in)
	}
	for _, bad := range []string{"museum", "museum@db.example", "museum@db.example/", "db.example/cms", "/cms"} {
		assert.Error(t, new(Database).parseURL(bad), bad)
	}
}

func TestHosts(t *testing.T) {
	for in, want := range map[string]Database{
		"db.example":            {Host: "db.example", Port: 3306},
		"db.example:3307":       {Host: "db.example", Port: 3307},
		"localhost:/run/x.sock": {Host: "localhost", Port: 3306, Socket: "/run/x.sock"},
		"/run/x.sock":           {Host: "localhost", Port: 3306, Socket: "/run/x.sock"},
		"[2001:db8::1]:3308":    {Host: "2001:db8::1", Port: 3308},
		"2001:db8::1":           {Host: "2001:db8::1", Port: 3306},
		"p:db.example":          {Host: "db.example", Port: 3306},
	} {
		var db Database
		require.NoError(t, db.setHost(in), in)
		assert.Equal(t, want, db, in)
	}
	for _, bad := range []string{"db:99999", "db:port", "[::1"} {
		assert.ErrorIs(t, (&Database{}).setHost(bad), ErrSettings, bad)
	}
}

func TestSkips(t *testing.T) {
	s := &Site{Root: "/srv/site", Skip: []string{"cache/**", "*.tmp", "**/node_modules/**"}, Databases: []Database{{Engine: "sqlite", Path: "/srv/site/data/m.db"}}, Boxes: map[string][]string{RootLabel: {".revlet-kp-1-a"}, "media": {".revlet-kp-2-a"}}}
	for path, want := range map[string]bool{"cache": false, "cache/x": true, "cachet/x": false, "a.tmp": true, "a/b.tmp": false, "a/node_modules/x/y": true,
		"data/m.db": true, "data/m.db-wal": true, "data/m.db.old": false, ".revlet-new-1": false, ".revlet-kp-1-a": true, ".revlet-kp-1-a/old/x.php": true, ".revlet-kp-1-ab": false, "x/.revlet-kp-1-a": false, ".htaccess": false} {
		_, got := s.Skips(path)
		assert.Equal(t, want, got, path)
	}
	s.Roots = map[string]string{"media": "/srv/media"}
	s.Databases = append(s.Databases, Database{Engine: "sqlite", Path: "/srv/media/b.db"})
	for path, want := range map[string]bool{"cache/x": false, "a.tmp": false, ".revlet-kp-2-a": true, ".revlet-kp-2-a/old/x.php": true, ".revlet-kp-1-a": false, "b.db": true, "b.db-wal": true, "data/m.db": false} {
		_, got := s.SkipsIn("media", path)
		assert.Equal(t, want, got, "rules are of the webroot; %s", path)
	}
}

// A database file is known by where it really is, in whichever of the site's folders: whatever way leads there.
func TestWhereADatabaseFileReallyIs(t *testing.T) {
	dir := t.TempDir()
	at := func(rel string) string { return filepath.Join(dir, rel) }
	for _, folder := range []string{"releases/5/storage/data", "shared/data", "elsewhere"} {
		require.NoError(t, os.MkdirAll(at(folder), 0o755))
	}
	for link, to := range map[string]string{"current": "releases/5", "releases/5/data": "../../shared/data", "releases/5/out": at("elsewhere"), "releases/5/in": at("releases/5/storage"), "releases/5/rel": "storage", "releases/5/gone": at("nothing"),
		"shared/back": at("releases/5/storage")} {
		require.NoError(t, os.Symlink(to, at(link)))
	}
	s := &Site{Root: at("current"), Roots: map[string]string{"shared": at("shared")}}
	for path, want := range map[string]string{
		"current/m.db": "current/m.db", "current/data/m.db": "shared/data/m.db", "current/out/m.db": "elsewhere/m.db", "current/in/data/m.db": "current/storage/data/m.db",
		"current/rel/data/m.db": "current/storage/data/m.db", "releases/5/m.db": "current/m.db", "shared/back/m.db": "current/storage/m.db", "elsewhere/m.db": "elsewhere/m.db", "current/gone/m.db": "nothing/m.db",
		"current/not/yet/m.db": "current/not/yet/m.db",
	} {
		real, err := s.realFile(Database{Engine: "sqlite", Path: at(path)})
		require.NoError(t, err, path)
		assert.Equal(t, at(want), real, path)
	}
}

// Links make of another folder what they say, but nothing of uploads that is none.
func TestWhatLinksMakeOfOtherFolders(t *testing.T) {
	r, err := RecipeNamed("wordpress")
	require.NoError(t, err)
	through := map[string][]string{"shared/media": {"webroot/wp-content/uploads"}, "shared/code": {"webroot/wp-content/plugins"}, "shared/wp-content/uploads": {"webroot/wp-content/plugins/x"},
		"shared/both": {"webroot/wp-content/themes/x", "webroot/wp-content/uploads/x"}, "files": {"webroot/wp-content/uploads"}, "shared/settings.php": {"webroot/wp-config.php"}}
	for name, want := range map[string]string{
		"shared/media/2026/a.php": "uploads", "shared/code/x/x.php": "extensions", "shared/wp-content/uploads/a.php": "uploads", "shared/both/a.php": "uploads", "files/2026/a.jpg": "uploads",
		"shared/settings.php": "settings", "shared/mediaeval/a.php": "other", "shared/wp-content/themes/a.css": "themes", "webroot/wp-content/uploads/a.php": "uploads",
	} {
		assert.Equal(t, want, r.ComponentOfName(name, through), name)
	}
	assert.Equal(t, "uploads", r.LinkOf("wp-content/uploads"))
	assert.Equal(t, "settings", r.LinkOf("wp-config.php"))
	assert.Equal(t, "other", r.LinkOf("files"))
}

// A machine that cannot be asked says nothing of which CMS is there: a site without one has
// no database to be saved.
func TestWhatCannotBeAskedIsNotUnknown(t *testing.T) {
	asked := 0
	r, err := Recognise(func(string) ([]byte, error) {
		if asked++; asked < 4 {
			return nil, fs.ErrNotExist
		}
		return nil, fmt.Errorf("%w: cut", tree.ErrUnreachable)
	})
	require.ErrorIs(t, err, tree.ErrUnreachable)
	assert.Nil(t, r)
	r, err = Recognise(func(string) ([]byte, error) { return nil, fs.ErrNotExist })
	require.NoError(t, err)
	assert.Nil(t, r)
}
