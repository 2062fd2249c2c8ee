package database

import (
	"errors"
	"fmt"

	"revlet/internal/platform/memory"
)

// ErrTooMuch is of a server that says more at a time than can be.
var ErrTooMuch = errors.New("the server says more than it can have to say")

// What a server may say at a time, in bytes: in answer to a query, and of one row of a table that is being saved (a packet of
// MySQL has at most 1 GiB, a field of PostgreSQL, too).
const (
	MostAnswer = 256 << 20
	MostRow    = 1<<30 + 64<<20
)

// lookEvery is after how much more is looked whether there is room for it.
const lookEvery = 32 << 20

// Meter bounds what a server says at a time. Drivers gather a row, and this program answers to its questions, in memory, and a
// site's settings choose the server: one that never stops would have the machine end some program. It is not safe for concurrent use.
type Meter struct {
	// Left is memory.Left, for tests.
	Left             func() (int64, bool)
	most, said, next int64
	// Err is why no more is taken.
	Err error
}

// Begin begins an answer, or a row, that may have so many bytes.
func (m *Meter) Begin(most int64) { m.most, m.said, m.next = most, 0, lookEvery }

// Said counts bytes. The error wraps ErrTooMuch or memory.ErrShort, and stays.
func (m *Meter) Said(bytes int) error {
	if m.said += int64(bytes); m.Err == nil && m.said > m.most {
		m.Err = fmt.Errorf("%w: more than %d MiB", ErrTooMuch, m.most>>20)
	}
	if m.Err == nil && m.said >= m.next {
		m.next += lookEvery
		left := m.Left
		if left == nil {
			left = memory.Left
		}
		m.Err = memory.Room(m.said, left)
	}
	return m.Err
}
