package restore

import (
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/catalog"
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
			assert.Equal(t, want, s.Keep(site.RootLabel, p), "%s in %s", p, glob)
		}
	}
	both := Matching([]string{"a", "b/*.c"}, true)
	assert.True(t, both.Fill)
	assert.True(t, both.Keep(site.RootLabel, "a/x"))
	assert.True(t, both.Keep(site.RootLabel, "b/x.c"))
	assert.False(t, both.Keep(site.RootLabel, "b/x.d"))
}

// Nothing is looked for where a share cannot lie, and everything where it can.
func TestWhereAShareLies(t *testing.T) {
	for globs, want := range map[string]string{
		"themes/lantern": "themes/lantern", "./themes/lantern/": "themes/lantern", "themes/lantern/**": "themes/lantern", "a/b/*.php": "a/b",
		"**/*.php": ".", "{a,b}/c": ".", "a/b/c a/b/d": "a/b", "a/b a/bc": "a", "a/b a": "a", "a b": ".", "a **": ".", `a/\[b]/c`: "a", "../x": ".",
	} {
		s := Matching(strings.Fields(globs), false)
		assert.Equal(t, want, s.within(site.RootLabel), globs)
		for _, p := range []string{"themes/lantern/x.css", "a/b/x.php", "a/b/c/y", "a/b/d", "a/bc/z", "a/[b]/c/w", "b/c", "x/y.php"} {
			for dir := path.Dir(p); s.Keep(site.RootLabel, p) && dir != "."; dir = path.Dir(dir) {
				assert.True(t, s.reaches(site.RootLabel, dir), "%s in %s", dir, globs)
			}
		}
	}
	assert.False(t, Matching([]string{"a/b/*.php"}, false).reaches(site.RootLabel, "a/c"))
	assert.True(t, OfComponents(nil, []string{"other"}, false).reaches(site.RootLabel, "a/c"))
	one := FileSelection{roots: []string{"webroot/content/museum.db-wal", "webroot/content/museum.db"}} // a database alone
	assert.Equal(t, "content", one.within(site.RootLabel), "its logs lie beside it")
	assert.True(t, one.reaches(site.RootLabel, "content"))
	assert.False(t, one.reaches(site.RootLabel, "uploads"), "a folder that cannot be read is none of its business")
}

// Patterns are of the webroot, and of another folder where they begin with its label.
func TestSharesOfOtherFolders(t *testing.T) {
	for glob, want := range map[string]string{"uploads/*": "webroot/uploads/a", "shared/uploads/*": "shared/uploads/a", "shared": "shared/uploads/a shared/x", "**/a": "webroot/uploads/a shared/uploads/a", "*": "webroot/uploads/a shared/uploads/a shared/x"} {
		s := Matching([]string{glob}, false)
		var kept []string
		for _, name := range []string{"webroot/uploads/a", "shared/uploads/a", "shared/x"} {
			label, rel, _ := strings.Cut(name, "/")
			if s.Keep(label, rel) {
				kept = append(kept, name)
				assert.True(t, s.reaches(label, "."), "%s: %s", glob, name)
				assert.True(t, s.reaches(label, rel), "%s: %s", glob, name)
			}
		}
		assert.Equal(t, want, strings.Join(kept, " "), glob)
	}
	assert.False(t, Matching([]string{"uploads/*"}, false).reaches("shared", "."))
	assert.Equal(t, "uploads", Matching([]string{"shared/uploads/*", "themes"}, false).within("shared"))
	assert.Equal(t, "themes", Matching([]string{"themes/*"}, false).within(site.RootLabel))
	assert.Equal(t, ".", Matching([]string{"shared"}, false).within("shared"))
	odd := `a[b]{c}*?\d`
	assert.True(t, Matching([]string{catalog.Quoted(odd)}, false).Keep(site.RootLabel, odd))
	assert.False(t, Matching([]string{catalog.Quoted("a*")}, false).Keep(site.RootLabel, "ab"))
}

func TestComponentsAreTheRecipes(t *testing.T) {
	recipe, err := site.RecipeNamed("wordpress")
	require.NoError(t, err)
	s := OfComponents(recipe, []string{"themes", "uploads"}, false)
	for p, want := range map[string]bool{"wp-content/themes/lantern/style.css": true, "wp-content/uploads/2026/a.jpg": true, "wp-content/plugins/x/x.php": false, "wp-load.php": false, "wp-content/themesx": false} {
		assert.Equal(t, want, s.Keep(site.RootLabel, p), p)
	}
	other := OfComponents(nil, []string{"other"}, false)
	assert.True(t, other.Keep(site.RootLabel, "anything"), "without a recipe everything is other")
}
