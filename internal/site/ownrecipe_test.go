package site

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/schema/schematest"

	"revlet/internal/config"
)

// tides is a recipe of one's own, for a CMS that Revlet does not know.
const tides = `name: tides
title: Tide Tables
recognise: [tides.php]
version: {file: tides.php, value: "{TIDES_VERSION}"}
settings: {syntax: php, files: [config.php]}
databases:
  main: {engine: {always: mysql}, host: DB_HOST, name: DB, user: DB_USER, password: DB_PASSWORD, prefix: $prefix, own_tables: [tide, port]}
address: {table: port, column: value, where: name, is: address}
components: [{name: uploads, paths: ["charts/**"]}]
skip: ["cache/**"]
move:
  texts: [.htaccess]
  copy: [{what: no mail is sent, setting: MAIL, to: "0"}]
accounts: {table: keeper, key: id, name: login, password: hash, hashes: [{scheme: bcrypt}]}
`

func TestTheRecipesThatRevletBringsAreSound(t *testing.T) {
	all, err := Recipes()
	require.NoError(t, err)
	for _, r := range all {
		assert.NoError(t, r.Check(), r.Name)
	}
}

func TestARecipeOfOnesOwn(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "tides.yaml")
	require.NoError(t, os.WriteFile(file, []byte(tides), 0o600))
	root := filepath.Join(dir, "htdocs")
	require.NoError(t, os.Mkdir(root, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "tides.php"), []byte("<?php const TIDES_VERSION = '2.1';"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "config.php"), []byte("<?php define('DB_HOST', '127.0.0.1'); define('DB', 'tides'); define('DB_USER', 'keeper'); define('DB_PASSWORD', 'x'); $prefix = 'td_';"), 0o644))
	s, err := Open("kestrelpoint", config.Site{Root: root, Recipe: file})
	require.NoError(t, err)
	assert.Equal(t, "2.1", s.Version())
	assert.Equal(t, "td_", s.Databases[0].Prefix)
	assert.Equal(t, "uploads", s.Recipe.ComponentOf("charts/bay.png"))

	require.NoError(t, os.Chmod(file, 0o662))
	_, err = ReadRecipe(file)
	assert.ErrorContains(t, err, "others may change it")
	require.NoError(t, os.Chmod(file, 0o600))
	if os.Geteuid() == 0 {
		require.NoError(t, os.Chown(file, 12345, 0))
		_, err = ReadRecipe(file)
		assert.ErrorContains(t, err, "belongs to another account")
	}
}

func TestARecipeThatMakesNoSenseIsRefused(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.yaml")
	for old, c := range map[string]struct{ new, why string }{
		"name: tides":                       {"name: wordpress", "has the name of one"},
		"name: tides\n":                     {"name: Tides/..\n", "small letters"},
		"title: Tide Tables":                {"titel: Tide Tables", "titel"},
		"recognise: [tides.php]":            {"recognise: []", "names no file"},
		"recognise: [tides.php]\n":          {"recognise: [/etc/passwd]\n", "no path in the webroot"},
		"files: [config.php]":               {"files: [../../config.php]", "no path in the webroot"},
		"syntax: php":                       {"syntax: ini", "php or yaml"},
		"always: mysql":                     {"always: oracle", "mysql, postgres or sqlite"},
		"engine: {always: mysql}":           {"engine: {}", "`always:` or `setting:`"},
		"user: DB_USER, ":                   {"", "is missing"},
		`paths: ["charts/**"]`:              {`paths: ["charts/[**"]`, "no pattern"},
		`skip: ["cache/**"]`:                {`skip: ["/**"]`, "no pattern"},
		"table: keeper":                     {"table: \"keeper; DROP\"", "no name of a table"},
		"scheme: bcrypt":                    {"scheme: rot13", "no scheme"},
		"hashes: [{scheme: bcrypt}]":        {"hashes: []", "hashes"},
		"what: no mail is sent, ":           {"", "needs `what:`"},
		"setting: MAIL, to: \"0\"":          {"setting: MAIL, file: x.php", "one of"},
		"setting: MAIL, to: \"0\"}":         {"file: ../x.php}", "no path in the webroot"},
		"  texts: [.htaccess]":              {"  keep: [port]", "TABLE.COLUMN"},
		"{name: uploads, paths:":            {"{name: Up/loads, paths:", "component"},
		"address: {table: port, column: va": {"watch: [{table: a, pick: \"(\", what: x}]\naddress: {table: port, column: va", "pattern"},
	} {
		text := strings.Replace(tides, old, c.new, 1)
		require.NotEqual(t, tides, text, old)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := ReadRecipe(file)
		assert.ErrorContains(t, err, c.why, "%s → %s", old, c.new)
	}
}

// docs/recipe.schema.json is made of the types; UPDATE=1 writes it.
func TestTheSchemaOfRecipesIsUpToDate(t *testing.T) {
	schematest.UpToDate(t, Schema(), "../../docs/recipe.schema.json", os.Getenv("UPDATE") != "")
}
