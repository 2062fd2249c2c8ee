package restore

import (
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/site"
)

func TestPatternsMeanPathsAndWhatLiesBelow(t *testing.T) {
	for glob, paths := range map[string]map[string]bool{
		"uploads":            {"uploads": true, "uploads/2026/a.png": true, "uploads2/a.png": false, "x/uploads": false},
		"./uploads/":         {"uploads/a.png": true},
		"uploads/*.png":      {"uploads/a.png": true, "uploads/2026/a.png": false, "uploads/a.jpg": false},
		"uploads/**/*.png":   {"uploads/a.png": true, "uploads/2026/11/a.png": true},
		"**/*.php":           {"a.php": true, "x/y/a.php": true, "x/a.phps": false},
		"{a,b}/c":            {"a/c": true, "b/c/d": true, "ab/c": false},
		"odd \\[name\\].txt": {"odd [name].txt": true, "odd n.txt": false},
	} {
		s := Matching([]string{glob}, false)
		for p, want := range paths {
			assert.Equal(t, want, s.Keep(p), "%s in %s", p, glob)
		}
	}
	both := Matching([]string{"a", "b/*.c"}, true)
	assert.True(t, both.Fill)
	assert.True(t, both.Keep("a/x"))
	assert.True(t, both.Keep("b/x.c"))
	assert.False(t, both.Keep("b/x.d"))
}

// Nothing is looked for where a share cannot lie, and everything where it can.
func TestWhereAShareLies(t *testing.T) {
	for globs, want := range map[string]string{
		"themes/lantern": "themes/lantern", "./themes/lantern/": "themes/lantern", "themes/lantern/**": "themes/lantern", "a/b/*.php": "a/b",
		"**/*.php": ".", "{a,b}/c": ".", "a/b/c a/b/d": "a/b", "a/b a/bc": "a", "a/b a": "a", "a b": ".", "a **": ".", `a/\[b]/c`: "a", "../x": ".",
	} {
		s := Matching(strings.Fields(globs), false)
		assert.Equal(t, want, s.within(), globs)
		for _, p := range []string{"themes/lantern/x.css", "a/b/x.php", "a/b/c/y", "a/b/d", "a/bc/z", "a/[b]/c/w", "b/c", "x/y.php"} {
			for dir := path.Dir(p); s.Keep(p) && dir != "."; dir = path.Dir(dir) {
				assert.True(t, s.reaches(dir), "%s in %s", dir, globs)
			}
		}
	}
	assert.False(t, Matching([]string{"a/b/*.php"}, false).reaches("a/c"))
	assert.True(t, OfComponents(nil, []string{"other"}, false).reaches("a/c"))
	one := FileSelection{roots: []string{"content/museum.db-wal", "content/museum.db"}} // a database alone
	assert.Equal(t, "content", one.within(), "its logs lie beside it")
	assert.True(t, one.reaches("content"))
	assert.False(t, one.reaches("uploads"), "a folder that cannot be read is none of its business")
}

func TestComponentsAreTheRecipes(t *testing.T) {
	recipe, err := site.RecipeNamed("wordpress")
	require.NoError(t, err)
	s := OfComponents(recipe, []string{"themes", "uploads"}, false)
	for p, want := range map[string]bool{"wp-content/themes/lantern/style.css": true, "wp-content/uploads/2026/a.jpg": true, "wp-content/plugins/x/x.php": false, "wp-load.php": false, "wp-content/themesx": false} {
		assert.Equal(t, want, s.Keep(p), p)
	}
	other := OfComponents(nil, []string{"other"}, false)
	assert.True(t, other.Keep("anything"), "without a recipe everything is other")
}
