package alarm

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"revlet/internal/watch/report"
)

// How archives came tells when they have stopped; where that cannot be told, nothing is said before a month is over.
func TestOutOfRhythm(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	ago := func(hours ...int) (all []report.Archive) {
		for _, h := range hours {
			all = append(all, report.Archive{Taken: now.Add(-time.Duration(h) * time.Hour)})
		}
		return all
	}
	for name, c := range map[string]struct {
		all  []report.Archive
		want string
	}{
		"none":                    {nil, ""},
		"daily, on time":          {ago(20, 44, 68, 92), ""},
		"daily, one was left out": {ago(47, 71, 95), ""},
		"daily, stopped":          {ago(74, 98, 122), "an archive came about every 24 hours; the newest is 3 days old"},
		"by hand in a row":        {ago(30, 54, 78, 79, 80), ""},
		"from the future":         {ago(-1000, 74, 98, 122), "an archive came about every 24 hours; the newest is 3 days old"},
		"one, of last month":      {ago(24 * 40), "the newest archive is 40 days old"},
		"two, of last week":       {ago(24*7, 24*8), ""},
	} {
		assert.Equal(t, c.want, OutOfRhythm(c.all, now), name)
	}
}
