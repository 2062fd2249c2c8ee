package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSubSitesHaveTablesOfTheirOwn(t *testing.T) {
	wp, err := RecipeNamed("wordpress")
	require.NoError(t, err)
	tables := []string{"kp_posts", "kp_users", "kp_10_posts", "kp_2_posts", "kp_2_options", "kp_2fa_codes", "other_3_posts", "kp_blogs"}
	assert.Equal(t, []string{"", "2_", "10_"}, wp.SubPrefixes("kp_", tables))
	for want, of := range map[string][2]string{"kp_posts": {"", "posts"}, "kp_10_posts": {"10_", "posts"}, "kp_users": {"10_", "users"}, "kp_sitemeta": {"2_", "sitemeta"}} {
		assert.Equal(t, want, wp.TableOf("kp_", of[0], of[1]))
	}
	for _, name := range []string{"drupal", "joomla", "mediawiki", "lampblack"} {
		other, err := RecipeNamed(name)
		require.NoError(t, err)
		assert.Equal(t, []string{""}, other.SubPrefixes("kp_", tables), name)
		assert.Equal(t, "kp_users", other.TableOf("kp_", "", "users"))
	}
	var none *Recipe
	assert.Equal(t, []string{""}, none.SubPrefixes("kp_", tables))
	for rel, runs := range map[string]bool{"wp-content/mu-plugins/a.php": true, "wp-content/db.php": true, "wp-content/plugins/a.php": false, "wp-content/mu-plugins/deep/a.php": false} {
		assert.Equal(t, runs, wp.Autoloads(rel), rel)
	}
}
