package progress

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestOnlyWorkThatHangsIsSilent(t *testing.T) {
	now := time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)
	b := &Beat{Now: func() time.Time { return now }}
	later := func(d time.Duration) time.Duration { now = now.Add(d); return b.Silence() }
	assert.Zero(t, later(time.Hour), "there is no work")
	end := b.Begin()
	assert.Equal(t, time.Minute, later(time.Minute))
	for _, sign := range []func(){func() { b.Phase("x", 1) }, func() { b.Advance(1) }, func() { b.Note("x") }, func() { b.Begin()() }} {
		sign()
		assert.Equal(t, time.Second, later(time.Second))
	}
	end()
	assert.Zero(t, later(time.Hour))
}

// notes are what an Observer was told.
type notes struct {
	Silent
	said chan string
}

func (n notes) Note(text string) { n.said <- text }

func TestPatienceEndsOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := notes{said: make(chan string, 10)}
		heard, done := Patience(n, 30*time.Millisecond, "no word")
		for range 20 {
			time.Sleep(29 * time.Millisecond)
			heard()
		}
		assert.Empty(t, n.said, "there were signs of life all the while")
		assert.Equal(t, "no word", <-n.said)
		heard()
		time.Sleep(time.Minute)
		assert.Empty(t, n.said, "once is enough")
		done()
		_, done = Patience(n, 20*time.Millisecond, "no word")
		done()
		time.Sleep(time.Minute)
		assert.Empty(t, n.said)
	})
}
