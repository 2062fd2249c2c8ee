package catalog

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/reason"
)

func listing(names ...string) *Listing {
	l := &Listing{}
	for _, name := range names {
		site, taken, _ := archive.SplitName(name)
		l.Archives = append(l.Archives, Held{Record: &archive.Record{Name: name, Site: site, Taken: taken}})
	}
	return l
}

func TestPick(t *testing.T) {
	l := listing("kp-20261123-032000", "kp-20261122-032000", "kp-20261115-032000")
	at := func(day int) time.Time { return time.Date(2026, 11, day, 0, 0, 0, 0, time.UTC) }
	for typed, want := range map[string]string{"": "kp-20261123-032000", "kp": "kp-20261123-032000", "kp-20261115": "kp-20261115-032000", "kp-20261122-032000": "kp-20261122-032000"} {
		h, err := l.Pick("kp", typed, time.Time{})
		require.NoError(t, err, typed)
		assert.Equal(t, want, h.Name)
	}
	h, err := l.Pick("kp", "kp", at(22))
	require.NoError(t, err)
	assert.Equal(t, "kp-20261115-032000", h.Name, "before the 22nd")
	_, err = l.Pick("kp", "kp-202611", time.Time{})
	assert.ErrorContains(t, err, "could be any of 3 archives")
	_, err = l.Pick("kp", "kp-2025", time.Time{})
	assert.ErrorIs(t, err, ErrUnknown)
	_, err = l.Pick("kp", "kp", at(1))
	assert.ErrorContains(t, err, "the oldest is kp-20261115-032000")
	_, err = listing().Pick("kp", "kp", time.Time{})
	assert.True(t, reason.Is(err, reason.NoArchives))
	broken := listing()
	broken.Broken = []Broken{{Store: "here", Name: "kp-20261123-032000", Err: archive.ErrRecord}}
	_, err = broken.Pick("kp", "kp", time.Time{})
	assert.ErrorIs(t, err, archive.ErrRecord, "what cannot be read is not called absent")
}
