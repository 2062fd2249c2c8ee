package catalog

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Within agrees with a slow model: everything that is expected was expected
// before, in the same order.
func TestWithinIsBeingASubsequence(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	var model func(now, before []Expected) bool
	model = func(now, before []Expected) bool {
		if len(now) == 0 {
			return true
		}
		for i := range before {
			if before[i] == now[0] {
				return model(now[1:], before[i+1:])
			}
		}
		return false
	}
	yes := 0
	for range 3000 {
		var before, now []Expected
		for range r.IntN(12) {
			x := Expected{name: r.Uint64N(5), size: r.Int64N(2)}
			before = append(before, x)
			if r.IntN(3) > 0 {
				now = append(now, x)
			}
		}
		if r.IntN(3) == 0 && len(now) > 0 {
			now[r.IntN(len(now))].size = r.Int64N(3)
		}
		got := Within(now, before)
		assert.Equal(t, model(now, before), got)
		if got {
			yes++
		}
	}
	assert.Greater(t, yes, 1000)
}
