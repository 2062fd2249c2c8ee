package jobs

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"revlet/internal/archives/archive"
)

// What is proposed takes along all that the links lead to, and nothing that is not the site's.
func TestFoldersForWhatLinksLeadTo(t *testing.T) {
	folders := "/srv/app/shared /srv/app/shared/uploads /srv/app/shared/data /srv/app /srv/app/media /srv/media /srv/data /srv /srv/app/Odd! /srv/o/uploads /srv/p/uploads"
	for links, want := range map[string]string{
		"/srv/app/shared/uploads":                              "uploads=/srv/app/shared/uploads",
		"/srv/app/shared/uploads /srv/app/shared/data":         "shared=/srv/app/shared",
		"/srv/app/shared/uploads /srv/app/shared/settings.php": "shared=/srv/app/shared",
		"/srv/app/shared/settings.php":                         "shared=/srv/app/shared",
		"/srv/app/media /srv/app/shared/uploads":               "media=/srv/app/media uploads=/srv/app/shared/uploads", // in one folder with the webroot
		"/srv/media /srv/data":                                 "data=/srv/data media=/srv/media",
		"/srv/o/uploads /srv/p/uploads":                        "uploads=/srv/o/uploads uploads2=/srv/p/uploads",
		"/srv/media /srv/app.php":                              "",
		"/srv/app/Odd!":                                        "more=/srv/app/Odd!",
		"/etc":                                                 "",
		"/etc/ssl /etc/php":                                    "",
		"/srv/other/data":                                      "", // somebody else's
		"/srv/other/data /srv/media":                           "",
		"/srv/app/shared/uploads /srv/app/shared/data /srv/app/shared/uploads /srv/app/shared/data/museum.db": "shared=/srv/app/shared",
	} {
		var all []archive.Outside
		for _, to := range strings.Fields(links) {
			all = append(all, archive.Outside{Path: "webroot/x", To: to})
		}
		var got []string
		for _, r := range rootsFor("/srv/app/releases/5", all, func(p string) bool { return strings.Contains(" "+folders+" ", " "+p+" ") }) {
			got = append(got, r.Label+"="+r.Path)
		}
		assert.Equal(t, want, strings.Join(got, " "), links)
	}
}
