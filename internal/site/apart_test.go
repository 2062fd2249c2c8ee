package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFoldersLieApart(t *testing.T) {
	for _, c := range []struct {
		a, b  string
		apart bool
	}{
		{"/srv/site", "/srv/media", true},
		{"/srv/site", "/srv/site2", true},
		{"/srv/site", "/srv/site", false},
		{"/srv/site", "/srv/site/uploads/2026", false},
		{"/srv/site/sub/", "/srv/site", false},
		{"/", "/srv", false},
	} {
		err := Apart(map[string]string{RootLabel: c.a, "media": c.b, "far": "/elsewhere"})
		if c.a == "/" {
			err = Apart(map[string]string{RootLabel: c.a, "media": c.b})
		}
		assert.Equal(t, c.apart, err == nil, "%s and %s: %v", c.a, c.b, err)
	}
}
