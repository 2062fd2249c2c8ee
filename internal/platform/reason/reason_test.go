package reason

import (
	"errors"
	"fmt"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"
)

// typed is an error of another package that has a reason.
type typed struct{}

func (typed) Error() string        { return "the host is unknown" }
func (typed) Why() (Reason, Names) { return HostUnknown, Names{"host": "harbour"} }

func TestReasonsAreFoundWhereverTheyAre(t *testing.T) {
	inner := New(NoKey, nil, "it is encrypted: %w", fs.ErrPermission)
	outer := New(NoArchives, Names{"site": "kp"}, "site %s: %w", "kp", inner)
	joined := fmt.Errorf("both: %w", errors.Join(errors.New("plain"), outer, typed{}))
	var found []Reason
	for _, r := range All(joined) {
		why, _ := r.Why()
		found = append(found, why)
	}
	assert.Equal(t, []Reason{NoArchives, NoKey, HostUnknown}, found, "outermost first")
	assert.True(t, Is(joined, HostUnknown))
	assert.False(t, Is(joined, Usage))
	assert.ErrorIs(t, joined, fs.ErrPermission)
	assert.Empty(t, All(nil))
	assert.Empty(t, All(errors.New("plain")))
}

func TestAReasonChangesNoText(t *testing.T) {
	cause := errors.New("the disk is full")
	err := Because(StateFolder, Names{"path": "/var"}, cause)
	assert.Equal(t, cause.Error(), err.Error())
	assert.ErrorIs(t, err, cause)
	assert.NoError(t, Because(StateFolder, nil, nil))
	assert.True(t, Is(BadUsage("%d is too many", 3), Usage))
}
