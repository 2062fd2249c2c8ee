package catalog

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestLinksOfAnArchiveAreFollowedInIt(t *testing.T) {
	links := map[string]string{
		"webroot/settings.php": "config/live.php", "webroot/current": "releases/5", "webroot/releases/5/config": "../../config", "webroot/out": "/srv/shared/settings.php",
		"webroot/up": "../above.php", "webroot/over": "../logs/settings.php", "webroot/loop": "loop", "webroot/there": "back", "webroot/back": "there", "webroot/dir": "/srv/shared",
	}
	for name, want := range map[string]string{
		"webroot/index.php": "webroot/index.php", "webroot/settings.php": "webroot/config/live.php", "webroot/current/config/a.php": "webroot/config/a.php", "webroot/current": "webroot/releases/5",
		"webroot/settings.phpx": "webroot/settings.phpx", "webroot/out": "", "webroot/up": "", "webroot/over": "", "webroot/loop": "", "webroot/there": "", "webroot/dir/a.php": "",
	} {
		real, err := throughLinks(links, name)
		assert.Equal(t, want, real, name)
		assert.Equal(t, want == "", err != nil, name)
	}
}
