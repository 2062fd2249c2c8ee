package steady

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestItRunsOn(t *testing.T) {
	a, boot, known := Now()
	require.True(t, known)
	time.Sleep(20 * time.Millisecond)
	b, again, known := Now()
	require.True(t, known)
	assert.Equal(t, boot, again)
	assert.Len(t, boot, 36)
	assert.GreaterOrEqual(t, b-a, 20*time.Millisecond)
	assert.Less(t, b-a, time.Minute)
}
