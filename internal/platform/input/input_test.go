package input_test

import (
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/input"
)

func TestFill(t *testing.T) {
	b := make([]byte, 8)
	for _, r := range []io.Reader{strings.NewReader("whole"), iotest.OneByteReader(strings.NewReader("whole")), iotest.DataErrReader(strings.NewReader("whole"))} {
		n, err := input.Fill(r, b)
		require.NoError(t, err)
		assert.Equal(t, "whole", string(b[:n]), "an end is none")
	}
	n, err := input.Fill(strings.NewReader("more than that"), b)
	require.NoError(t, err)
	assert.Equal(t, 8, n)
	broken := errors.New("broken")
	_, err = input.Fill(io.MultiReader(strings.NewReader("ab"), iotest.ErrReader(broken)), b)
	assert.ErrorIs(t, err, broken)

	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	_, _ = w.Write(bytes.Repeat([]byte("x"), 5))
	require.NoError(t, w.Close())
	torn, err := gzip.NewReader(bytes.NewReader(z.Bytes()[:z.Len()-9]))
	require.NoError(t, err)
	_, err = input.Fill(torn, b)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF, "a break is one")
}
