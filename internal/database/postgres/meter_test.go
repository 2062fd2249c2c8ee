package postgres

import (
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
)

// again says one thing so often.
type again struct {
	text string
	n    int
	at   strings.Reader
}

func (a *again) Read(p []byte) (int, error) {
	if a.at.Len() == 0 {
		if a.n == 0 {
			return 0, io.EOF
		}
		a.n--
		a.at.Reset(a.text)
	}
	return a.at.Read(p)
}

// A server that never stops talking had all of the machine's memory. Each row of a table that is copied counts by itself, all else
// until it is ready for another query.
func TestAServerThatNeverStops(t *testing.T) {
	const mib = 1 << 20
	message := func(kind byte) string { return honest(kind, strings.Repeat("x", mib-5)) }
	read := func(r io.Reader) (int64, error) {
		m := &metered{r: r}
		m.meter.Left = func() (int64, bool) { return 0, false }
		m.meter.Begin(database.MostAnswer)
		return io.Copy(io.Discard, m)
	}
	for name, c := range map[string]struct {
		says  string
		times int
		over  bool
	}{
		"rows of a question":           {message('D'), 257, true},
		"as many as there may be":      {message('D'), 255, false},
		"rows of a table":              {message('d'), 3 * 257, false},
		"questions":                    {message('D') + honest('Z', "I"), 3 * 257, false},
		"notices":                      {message('N'), 257, true},
		"a message without an end":     {message('D')[:1] + "\xff\xff\xff\xff" + strings.Repeat("x", mib), 257, true},
		"one that has no length":       {"D\x00\x00\x00\x00", mib, false},
		"a row of a table without end": {"d\x7f\xff\xff\xff" + strings.Repeat("x", mib), 1089, true},
	} {
		n, err := read(&again{text: c.says, n: c.times})
		if c.over {
			require.ErrorIs(t, err, database.ErrTooMuch, name)
			continue
		}
		require.NoError(t, err, name)
		assert.EqualValues(t, len(c.says)*c.times, n, name)
	}
	n, err := read(iotest.OneByteReader(&again{text: honest('D', "lamp"), n: 100}))
	require.NoError(t, err)
	assert.EqualValues(t, 900, n, "heads that come in pieces")
}
