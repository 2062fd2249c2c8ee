package database

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/memory"
)

func TestWhatAServerSaysIsBounded(t *testing.T) {
	free, asked := int64(16<<30), 0
	m := Meter{Left: func() (int64, bool) { asked++; return free, true }}
	m.Begin(MostRow)
	require.NoError(t, m.Said(MostRow))
	assert.Equal(t, 1, asked)
	require.ErrorIs(t, m.Said(1), ErrTooMuch)
	m.Begin(MostRow)
	require.ErrorIs(t, m.Said(0), ErrTooMuch, "it stays")

	m = Meter{Left: m.Left}
	free = 512 << 20
	m.Begin(MostAnswer)
	for range 7 { // as much again, and what has to be left
		require.NoError(t, m.Said(lookEvery))
	}
	m.Begin(MostRow)
	require.NoError(t, m.Said(200<<20), "another answer")
	require.ErrorIs(t, m.Said(100<<20), memory.ErrShort)
}
