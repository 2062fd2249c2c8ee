package backup

import (
	"io"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What was handed over is counted once, however often an upload is begun anew.
func TestHandingOver(t *testing.T) {
	var waiting atomic.Int64
	waiting.Store(100)
	h := &handing{ReadSeeker: strings.NewReader(strings.Repeat("x", 100)), waiting: &waiting}
	read := func(n int) {
		t.Helper()
		_, err := io.ReadFull(h, make([]byte, n))
		require.NoError(t, err)
	}
	read(60)
	assert.EqualValues(t, 40, waiting.Load())
	_, err := h.Seek(0, io.SeekStart)
	require.NoError(t, err)
	read(50)
	assert.EqualValues(t, 40, waiting.Load(), "again, from the start")
	read(30)
	assert.EqualValues(t, 20, waiting.Load())
	rest, err := io.ReadAll(h)
	require.NoError(t, err)
	assert.Len(t, rest, 20)
	assert.Zero(t, waiting.Load())
	assert.EqualValues(t, 100, h.most.Load())
}
