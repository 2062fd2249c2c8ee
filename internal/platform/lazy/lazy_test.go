package lazy

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRegexp(t *testing.T) {
	wrong, right := Regexp(`(`), Regexp(`^a+$`)
	assert.Same(t, right(), right())
	assert.True(t, right().MatchString("aa"))
	assert.Panics(t, func() { wrong() })
}
