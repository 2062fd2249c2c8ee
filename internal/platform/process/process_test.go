package process

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Programs of the user's get what they need, and no secret.
func TestEnvironment(t *testing.T) {
	t.Setenv("LANG", "de_DE.UTF-8")
	t.Setenv("REVLET_KEY_FILE", "/secret")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "hidden")
	t.Setenv("LANGUAGE_OF_OTHERS", "x")
	all := Environment()
	assert.Contains(t, all, "LANG=de_DE.UTF-8")
	for _, e := range all {
		assert.NotRegexp(t, "REVLET_|SECRET|OTHERS", e)
	}
}
