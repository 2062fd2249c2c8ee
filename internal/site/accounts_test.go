package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheSchemeThatAVersionTakes(t *testing.T) {
	for _, c := range []struct{ recipe, version, scheme string }{
		{"wordpress", "6.8", "wordpress"}, {"wordpress", "6.8-RC1", "wordpress"}, {"wordpress", "6.10.2", "wordpress"}, {"wordpress", "7.0", "wordpress"},
		{"wordpress", "6.7.2", "bcrypt"}, {"wordpress", "5.9", "bcrypt"}, {"wordpress", "", ""}, {"wordpress", "unknown", ""},
		{"drupal", "10.1.0", "bcrypt"}, {"drupal", "11.0.0-dev", "bcrypt"}, {"drupal", "10.0.11", "drupal"}, {"drupal", "9.5.11", "drupal"}, {"drupal", "x", ""},
		{"joomla", "", "bcrypt"}, {"mediawiki", "1.39.17", "mediawiki"},
	} {
		r, err := RecipeNamed(c.recipe)
		require.NoError(t, err)
		scheme, err := r.Accounts.SchemeFor(c.version)
		assert.Equal(t, c.scheme == "", err != nil, c.version)
		assert.Equal(t, c.scheme, scheme, "%s %s", c.recipe, c.version)
	}
}
