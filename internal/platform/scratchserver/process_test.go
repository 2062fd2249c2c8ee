package scratchserver

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A port that somebody else takes first is no reason to give up; anything else is.
func TestAPortThatIsTaken(t *testing.T) {
	taken, other := errors.New("bind: Address already in use"), errors.New("no such folder")
	for _, c := range []struct {
		answers []error
		want    error
	}{{[]error{nil}, nil}, {[]error{taken, taken, nil}, nil}, {[]error{taken, taken, taken, nil}, taken}, {[]error{other, nil}, other}} {
		tries, ports := 0, map[int]bool{}
		err := onFreePort(func(port int) error {
			tries, ports[port] = tries+1, true
			return c.answers[tries-1]
		})
		assert.Equal(t, c.want, err)
		assert.Len(t, ports, tries, "another port each time")
	}
}
