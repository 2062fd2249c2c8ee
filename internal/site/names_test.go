package site_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/site"
)

// What a recipe says anything of is not taken for a file like any other.
func TestWhatARecipeNames(t *testing.T) {
	wordpress, err := site.RecipeNamed("wordpress")
	require.NoError(t, err)
	drupal, err := site.RecipeNamed("drupal")
	require.NoError(t, err)
	for _, name := range []string{"wp-config.php", ".htaccess", ".maintenance", "wp-includes/version.php"} {
		assert.True(t, wordpress.Names(name), name)
	}
	assert.True(t, drupal.Names("sites/default/settings.php"))
	for _, name := range []string{"wp-content/uploads/2026/lamp.jpg", "wp-content/themes/lantern/style.css", "uploads/wp-config.php"} {
		assert.False(t, wordpress.Names(name), name)
	}
}
