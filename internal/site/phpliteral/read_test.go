package phpliteral

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database/sqltext/sqltexttest"
)

const sample = `<?php
// define('DB_NAME', 'commented_out');
/* $table_prefix = 'no_'; */
# define("DB_NAME", "nor this");
define( 'DB_NAME', 'museum\'s \\ cms' );
define("DB_USER", "kee\x70er\n\u{e9}\$x");
if ( ! defined('DB_HOST') ) { define('DB_HOST', getenv('DB_HOST') ?: 'localhost:/run/db.sock'); }
define('DB_NAME', 'second wins not');
define('DB_PASSWORD', <<<'SECRET'
    it's "raw" $here
    SECRET);
const SUFFIX = '_x';
define('JOINED', DB_NAME . SUFFIX . 7);
define('ENVD', getenv_docker('NOT_SET_ANYWHERE', 'fallback'));
define('DYNAMIC', md5('x'));
$table_prefix = 'kp_';
$greeting = "site {$table_prefix}main $table_prefix";
$databases['default']['default'] = array (
  'database' => 'deep',
  'port' => 3307,
  'nested' => ['a', 'k' => ['x' => true]],
);
class JConfig { public $host = '[::1]:3306'; public string $user = 'typed'; }
?> <p>$table_prefix = 'html';</p> <?php $after = __DIR__ . '/data.db';
`

func TestRead(t *testing.T) {
	env := map[string]string{}
	f := Read(sample, Options{Dir: "/srv/site", Getenv: func(k string) (string, bool) { v, ok := env[k]; return v, ok }})
	for path, want := range map[string]string{
		"DB_NAME":                               `museum's \ cms`,
		"DB_USER":                               "keeper\né$x",
		"DB_HOST":                               "localhost:/run/db.sock",
		"DB_PASSWORD":                           `it's "raw" $here`,
		"JOINED":                                `museum's \ cms_x7`,
		"ENVD":                                  "fallback",
		"$table_prefix":                         "kp_",
		"$greeting":                             "site kp_main kp_",
		"$databases.default.default.database":   "deep",
		"$databases.default.default.port":       "3307",
		"$databases.default.default.nested.k.x": "1",
		"$host":                                 "[::1]:3306",
		"$user":                                 "typed",
		"$after":                                "/srv/site/data.db",
	} {
		got, ok := f.Text(path)
		assert.True(t, ok, path)
		assert.Equal(t, want, got, path)
	}
	_, ok := f.Text("DYNAMIC")
	assert.False(t, ok, "a value that only running tells must not be made up")
	v, _ := f.Lookup("DYNAMIC")
	assert.Equal(t, Unknown{}, v)

	env["DB_HOST"] = "db.internal"
	host, _ := Read(sample, Options{Getenv: func(k string) (string, bool) { v, ok := env[k]; return v, ok }}).Text("DB_HOST")
	assert.Equal(t, "db.internal", host)
}

func FuzzRead(f *testing.F) {
	f.Add(sample)
	f.Add("<?php $a = [[[[(((")
	f.Add("<?php define('A', <<<X\n")
	f.Fuzz(func(t *testing.T, src string) { Read(src, Options{}) })
}

// A setting gets another value wherever and however it is written, and nothing
// else changes; one that is made of several is left alone.
func TestSet(t *testing.T) {
	src := `<?php // 'localhost'
define( "DB_HOST", 'localhost' ); define('NAME', 'localhost');
$db['default']['port'] = 3306; $x = 'a' . 'b';
class C { public $host = "localhost"; public $user = "localhost"; }
$databases = array('default' => array('default' => array('host' => 'localhost', 'password' => 'it\'s')));
`
	for path, want := range map[string]string{
		"DB_HOST":                             `define( "DB_HOST", '127.0.0.1:1' )`,
		"$host":                               `public $host = '127.0.0.1:1';`,
		"$db.default.port":                    `['port'] = '127.0.0.1:1';`,
		"$databases.default.default.host":     `'host' => '127.0.0.1:1',`,
		"$databases.default.default.password": `'password' => '127.0.0.1:1')`,
	} {
		out, err := Set(src, path, "127.0.0.1:1", Options{})
		require.NoError(t, err, path)
		assert.Contains(t, out, want)
		assert.Equal(t, 1, strings.Count(out, "127.0.0.1:1"), path)
	}
	out, err := Set(src, "NAME", `o'b\`, Options{})
	require.NoError(t, err)
	assert.Contains(t, out, `define('NAME', 'o\'b\\')`)
	same, err := Set(src, "$x", "ab", Options{})
	require.NoError(t, err)
	assert.Equal(t, src, same)
	for _, path := range []string{"$x", "ABSENT"} {
		_, err := Set(src, path, "y", Options{})
		assert.ErrorIs(t, err, ErrNotPlain, path)
	}
}

func TestWhatDependsOnConditionsIsNotKnown(t *testing.T) {
	for src, want := range map[string]string{
		`<?php define('A', 'x'); define('A', 'y');`:                                                "x", // PHP keeps the first
		`<?php if ($_SERVER['HTTP_HOST'] == 'b') { define('A', 'x'); } else { define('A', 'y'); }`: "",
		`<?php if (file_exists('/x')) define('A', 'x'); define('A', 'y');`:                         "",
		`<?php if (x()) { define('A', 'x'); } define('A', 'x');`:                                   "x",
		`<?php if (!defined('A')) { define('A', 'x'); }`:                                           "x",
		`<?php define('A', 'x'); if (x()) { define('A', 'y'); }`:                                   "x",
	} {
		got, _ := Read(src, Options{}).Text("A")
		assert.Equal(t, want, got, src)
	}
	f := Read(`<?php require_once ABSPATH . 'wp-settings.php'; include __DIR__ . '/local.php'; require('/etc/x.php'); @include_once $dir . '/y.php';`, Options{Dir: "/srv/site"})
	assert.Equal(t, []any{Unknown{}, "/srv/site/local.php", "/etc/x.php", Unknown{}}, f.Includes)
	f = Read(`<?php if (!defined('ABSPATH')) { define('ABSPATH', __DIR__ . '/'); } require_once ABSPATH . 'wp-settings.php';`, Options{Dir: "/srv/site"})
	assert.Equal(t, []any{"/srv/site/wp-settings.php"}, f.Includes)
}

func TestSettingsAreReadInLinearTime(t *testing.T) {
	sqltexttest.Linear(t, func(text string) { Read(text, Options{}) })
}

// A few lines could ask for any amount of memory.
func TestSettingsThatGrowAreNotFollowed(t *testing.T) {
	f := Read("<?php $a = 'museum'; $b = 'x'; $d = 'x';"+strings.Repeat(`$a = $a . $a; $b .= $b; $d = "$d$d";`, 60)+"$c = 'whole';", Options{})
	assert.Equal(t, Unknown{}, f.Variables["a"])
	assert.Equal(t, Unknown{}, f.Variables["b"])
	assert.Equal(t, Unknown{}, f.Variables["d"])
	assert.Equal(t, "whole", f.Variables["c"])
	f = Read("<?php $a"+strings.Repeat("[1]", 1<<20)+" = 1; $c = 'whole';", Options{})
	assert.Nil(t, f.Variables["a"])
	assert.Equal(t, "whole", f.Variables["c"])
}

func TestInsert(t *testing.T) {
	for src, want := range map[string]string{
		"<?php\n$a = 1;\n":                                 "<?php\n$x = 2;\n$a = 1;\n",
		"<?php /* declare(x); */ $a = 1;":                  "<?php\n$x = 2;\n /* declare(x); */ $a = 1;",
		"<?php\ndeclare(strict_types=1);\n$a = ';';":       "<?php\ndeclare(strict_types=1);\n$x = 2;\n$a = ';';",
		"<?php // declare\ndeclare ( strict_types = 1 ) ;": "<?php // declare\ndeclare ( strict_types = 1 ) ;\n$x = 2;\n",
		"#!/usr/bin/php\n<?php\n$a = 1;":                   "#!/usr/bin/php\n<?php\n$x = 2;\n$a = 1;",
	} {
		got, err := Insert(src, "$x = 2;")
		require.NoError(t, err, src)
		assert.Equal(t, want, got)
		v, ok := Read(got, Options{}).Text("$x")
		assert.True(t, ok && v == "2", src)
	}
	for _, src := range []string{"", "no PHP", "<?= 1 ?><?php $a = 1;", "<?php\nnamespace a;\n$a = 1;", "<?php declare(ticks=1) { $a = 1; }", "<?php declare(strict_types=1) ?> text"} {
		_, err := Insert(src, "$x = 2;")
		assert.ErrorIs(t, err, ErrNotPlain, src)
	}
}

func TestSetTakesWordsForValues(t *testing.T) {
	out, err := Set("<?php class JConfig { public $mailonline = true; public $other = true; }", "$mailonline", "0", Options{})
	require.NoError(t, err)
	assert.Equal(t, "<?php class JConfig { public $mailonline = '0'; public $other = true; }", out)
	out, err = Set("<?php define('WP_CRON', FALSE); $x = trueish;", "WP_CRON", "1", Options{})
	require.NoError(t, err)
	assert.Equal(t, "<?php define('WP_CRON', '1'); $x = trueish;", out)
}

func TestSetAlongTakesWhatIsPutTogetherOfIt(t *testing.T) {
	const src = "<?php $base = '/wiki'; $res = $base; $logo = \"$res/x.png\"; define('HOST', 'a.example'); define('URL', 'https://' . HOST);"
	out, err := SetAlong(src, "$base", "/visit", Options{})
	require.NoError(t, err)
	v, _ := Read(out, Options{}).Text("$logo")
	assert.Equal(t, "/visit/x.png", v)
	out, err = SetAlong(src, "HOST", "b.example", Options{})
	require.NoError(t, err)
	v, _ = Read(out, Options{}).Text("URL")
	assert.Equal(t, "https://b.example", v)
	_, err = Set(src, "$base", "/visit", Options{})
	assert.ErrorIs(t, err, ErrNotPlain, "Set changes nothing else")
	for _, src := range []string{"<?php $base = f();", "<?php $base = '/a' . '/b';", "<?php if ($x) { $base = '/a'; } else { $base = '/b'; }"} {
		_, err := SetAlong(src, "$base", "/visit", Options{})
		assert.ErrorIs(t, err, ErrNotPlain, src)
	}
}

// What is assigned twice, and the second time in a block that may not run, is not known: a
// copy that took the one for the other would lead to what is live.
func TestAVariableThatDependsOnAConditionIsNotKnown(t *testing.T) {
	for src, want := range map[string]string{
		"$a = 'x'; if ($c) { $a = 'y'; }":                                   "",
		"if ($c) { $a = 'x'; } else { $a = 'y'; }":                          "",
		"if ($c) $a = 'x'; else $a = 'y';":                                  "",
		"$a = 'x'; function f() { $a = 'y'; }":                              "",
		"$a = 'x'; if ($c) { $a = 'x'; }":                                   "x",
		"if ($c) { $a = 'x'; }":                                             "x",
		"if ($c) { $a = 'x'; } $a = 'y';":                                   "y",
		"$a = 'x'; $a = 'y';":                                               "y",
		"class C { public $a = 'x'; public ?string $b = 'y'; }":             "x",
		"final class C extends D { var $a = 'x'; } if (1) { $b; }":          "x",
		"$a = 'x'; $c and $a = 'y';":                                        "",
		"$a = 'x'; $c && $a = 'y';":                                         "",
		"$a = 'x'; f() || $a = 'y';":                                        "",
		"$a = 'x'; $c ? $a = 'y' : 0;":                                      "",
		"if ($c): $b = 1; $a = 'x'; else: $b = 2; $a = 'y'; endif;":         "",
		"if ($c): $a = 'x'; elseif ($d): $a = 'y'; endif; $a = 'z';":        "z",
		"foreach ($l as $v): $a = 'y'; endforeach; ?> text <?php $a = 'x';": "x",
		"$a = 'x'; try { $a = 'y'; } catch (E $e) {}":                       "",
		"$a = 'x'; $f = function () { $a = 'y'; };":                         "x",
		"switch ($h) { case 1: $a = 'x'; break; default: $a = 'y'; }":       "",
	} {
		got, ok := Read("<?php "+src, Options{}).Text("$a")
		assert.Equal(t, want != "", ok, src)
		assert.Equal(t, want, got, src)
	}
	_, ok := Read("<?php if ($c): $b = 1; define('A', 'x'); else: $b = 2; define('A', 'y'); endif;", Options{}).Text("A")
	assert.False(t, ok, "constants as well")
	f := Read("<?php $d['a']['n'] = 'x'; $d['a']['m'] = 'z'; if ($c) { $d['a']['n'] = 'y'; $d['b']['n'] = 'w'; }", Options{})
	_, ok = f.Text("$d.a.n")
	assert.False(t, ok)
	for path, want := range map[string]string{"$d.a.m": "z", "$d.b.n": "w"} {
		got, _ := f.Text(path)
		assert.Equal(t, want, got)
	}
}

// The web server may have in its environment what is not there here.
func TestWhatTheEnvironmentLacksIsNotKnown(t *testing.T) {
	none := Options{Getenv: func(string) (string, bool) { return "", false }}
	for src, want := range map[string]string{
		"$a = getenv('X');":                  "",
		"$a = $_ENV['X'];":                   "",
		"$a = 'x' . getenv('X');":            "",
		"$a = getenv('X') ?: 'y';":           "y",
		"$a = $_SERVER['X'] ?? 'y';":         "y",
		"$a = env('X', 'y');":                "y",
		"$a = getenv('X') ?: getenv('Y');":   "",
		"$a = ['k' => getenv('X')]; $a = 1;": "1",
	} {
		f := Read("<?php "+src, none)
		got, ok := f.Text("$a")
		assert.Equal(t, want, got, src)
		assert.Equal(t, want != "", ok, src)
		assert.Equal(t, want == "", f.Unknown("$a"), src)
	}
	f := Read("<?php $d = ['k' => getenv('X'), 'm' => 'y']; define('C', getenv('X'));", none)
	assert.True(t, f.Unknown("$d.k"))
	assert.True(t, f.Unknown("C"))
	assert.False(t, f.Unknown("$d.m"))
	assert.False(t, f.Unknown("$d.none"))
	assert.False(t, f.Unknown("NONE"))
	assert.True(t, Read("<?php $d = f();", none).Unknown("$d.k"), "it may be in there")
}
