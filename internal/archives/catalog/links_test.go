package catalog

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"revlet/internal/archives/archive"
)

func TestLinksOfAnArchiveAreFollowedInIt(t *testing.T) {
	links := map[string]string{
		"webroot/settings.php": "config/live.php", "webroot/current": "releases/5", "webroot/releases/5/config": "../../config", "webroot/out": "/srv/elsewhere/settings.php",
		"webroot/up": "../above.php", "webroot/over": "../logs/settings.php", "webroot/loop": "loop", "webroot/there": "back", "webroot/back": "there", "webroot/dir": "/srv/elsewhere",
		"webroot/whole": "/srv/app/current/config/live.php", "webroot/really": "/srv/app/releases/5/config/live.php", "webroot/data": "../../shared/data", "webroot/abs": "/srv/app/shared",
		"shared/back": "../releases/5/index.php", "webroot/beside": "/srv/app/shared2/x", "webroot/self": "/srv/app/current", "webroot/settings": "/srv/app/releases/wp-config.php",
	}
	o := &archive.Origin{Roots: map[string]string{"webroot": "/srv/app/current", "shared": "/srv/app/shared", "above": "/srv/app/releases"}, Real: map[string]string{"webroot": "/srv/app/releases/5"}}
	for name, want := range map[string]string{
		"webroot/index.php": "webroot/index.php", "webroot/settings.php": "webroot/config/live.php", "webroot/current/config/a.php": "webroot/config/a.php", "webroot/current": "webroot/releases/5",
		"webroot/settings.phpx": "webroot/settings.phpx", "webroot/out": "", "webroot/up": "", "webroot/over": "", "webroot/loop": "", "webroot/there": "", "webroot/dir/a.php": "",
		"webroot/whole": "webroot/config/live.php", "webroot/really": "webroot/config/live.php", "webroot/data/museum.db": "shared/data/museum.db", "webroot/abs/x": "shared/x", "shared/back": "webroot/index.php",
		"webroot/beside": "", "webroot/self/index.php": "webroot/index.php", "webroot/settings": "",
	} {
		real, err := throughLinks(o, links, name)
		assert.Equal(t, want, real, name)
		assert.Equal(t, want == "", err != nil, name)
	}
	real, err := throughLinks(&archive.Origin{}, links, "webroot/settings.php")
	assert.NoError(t, err)
	assert.Equal(t, "webroot/config/live.php", real, "where nothing is known of its folders")
	_, err = throughLinks(&archive.Origin{}, links, "webroot/up")
	assert.Error(t, err)
}

// A pattern means what links on the way to it lead to, too, and of links themselves those to other folders.
func TestWhatPatternsMean(t *testing.T) {
	o := &archive.Origin{Roots: map[string]string{"webroot": "/srv/app", "media": "/srv/media", "shared": "/srv/shared"}}
	l := &Links{o, map[string]string{"webroot/uploads": "/srv/media", "webroot/data": "../shared/da*ta", "webroot/now": "themes", "media/now": "2026", "shared/site": "/srv/app", "webroot/out": "/etc"}}
	for typed, want := range map[string][]Meaning{
		"uploads": {{"media", "media"}}, "./uploads/": {{"media", "media"}}, "uploads/**": {{"media/**", "media"}}, "uploads/2026/*.svg": {{"media/2026/*.svg", "media/2026"}},
		"data": {{`shared/da\*ta`, "shared/da*ta"}}, "data/x.db": {{`shared/da\*ta/x.db`, "shared/da*ta/x.db"}},
		"now": nil, "now/style.css": {{"themes/style.css", "webroot/themes/style.css"}}, "now/*.css": {{"themes/*.css", "webroot/themes"}},
		"uploads/now": {{"media/now", "media/now"}}, "media/now": nil, "media/now/x": {{"media/2026/x", "media/2026/x"}}, "media": nil,
		"shared/site": {{"**", "webroot"}}, "shared/site/*.php": {{"*.php", "webroot"}}, "shared/site/index.php": {{"index.php", "webroot/index.php"}},
		"out": nil, "out/passwd": nil, "**": nil, "upl*": nil, "../x": nil,
	} {
		assert.Equal(t, want, l.Meant(typed), typed)
	}
}
