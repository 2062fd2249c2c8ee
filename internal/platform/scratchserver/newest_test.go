package scratchserver

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheNewestServerIsTaken(t *testing.T) {
	at := func(v string) string { return "/usr/lib/postgresql/" + v + "/bin/initdb" }
	for want, all := range map[string][]string{
		"16":  {"10", "16", "9", "9.6"},
		"9.6": {"9.1", "9.6", "old"},
		"17":  {"17"},
	} {
		var paths []string
		for _, v := range all {
			paths = append(paths, at(v))
		}
		assert.Equal(t, at(want), newest(paths), "%v", all)
	}
}
