package site

import (
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatACMSNeedsStandsInItsFiles(t *testing.T) {
	for _, c := range []struct {
		recipe, file, text string
		want               Needs
	}{
		{"wordpress", "wp-includes/version.php", "<?php\n$wp_version = '6.9';\n$required_php_version = '7.2.24';\n$required_php_extensions = array(\n\t'json',\n\t'hash',\n);\n$required_mysql_version = '5.5.5';\n", Needs{"7.2.24", "5.5.5", []string{"hash", "json", "mysqli"}}},
		{"wordpress", "wp-includes/version.php", "<?php\n$wp_version = '6.1';\n$required_php_version = '5.6.20';\n$required_mysql_version = '5.0';\n", Needs{"5.6.20", "5.0", []string{"mysqli"}}},
		{"wordpress", "wp-includes/version.php", "<?php $required_php_version = getenv('X'); $required_php_extensions = ['a;b', \"x\\x1b[2J\"];", Needs{"", "", []string{"mysqli"}}},
		{"joomla", "index.php", "<?php\ndefine('JOOMLA_MINIMUM_PHP', '8.1.0');\nif (version_compare(PHP_VERSION, JOOMLA_MINIMUM_PHP, '<')) { die(); }\n", Needs{"8.1.0", "", nil}},
		{"drupal", "core/lib/Drupal.php", "<?php class Drupal { const VERSION = '11.0.1'; const MINIMUM_PHP = '8.3.0'; }", Needs{"8.3.0", "", nil}},
		{"drupal", "core/composer.json", `{"name": "drupal/core", "require": {"php": ">=8.3.0", "ext-dom": "*", "ext-pdo": "*", "symfony/http-kernel": "^7"}}`, Needs{"8.3.0", "", []string{"dom", "pdo"}}},
		{"mediawiki", "composer.json", `{"require": {"php": "^7.4.3 || ^8", "ext-mbstring": "*", "ext-intl": "*"}}`, Needs{"7.4.3", "", []string{"intl", "mbstring"}}},
		{"mediawiki", "composer.json", `{"require": ["broken"]}`, Needs{}},
		{"mediawiki", "composer.json", `{"require": {"php": "` + strings.Repeat("9", longestNeeds) + `"}}`, Needs{}},
		{"lampblack", "index.php", "", Needs{}},
	} {
		r, err := RecipeNamed(c.recipe)
		require.NoError(t, err)
		got := r.NeedsIn(func(rel string) ([]byte, error) {
			if rel == c.file {
				return []byte(c.text), nil
			}
			return nil, fs.ErrNotExist
		})
		if len(got.Modules) == 0 {
			got.Modules = nil
		}
		assert.Equal(t, c.want, got, "%s: %.80s", c.recipe, c.text)
	}
}

func TestVersionsAreComparedByNumbers(t *testing.T) {
	for _, c := range []struct {
		has, wants string
		ok, known  bool
	}{
		{"8.2.29", "7.2.24", true, true}, {"7.2.24", "7.2.24", true, true}, {"7.2.9", "7.2.24", false, true}, {"10.11.6-MariaDB-0+deb12u1", "5.5.5", true, true},
		{"8.0.36", "8.0", true, true}, {"8", "8.1", false, true}, {"", "7", false, false}, {"7", "", false, false}, {"unknown", "7", false, false},
	} {
		ok, known := AtLeast(c.has, c.wants)
		assert.Equal(t, [2]bool{c.ok, c.known}, [2]bool{ok, known}, c.has+" "+c.wants)
	}
}
