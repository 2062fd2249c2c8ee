package alarm

import (
	"fmt"
	"slices"
	"time"

	"revlet/internal/watch/report"
)

const (
	// rhythmOf is how many archives tell how often they come.
	rhythmOf = 12
	// longSilence is how old the newest may be when that cannot be told.
	longSilence = 32 * 24 * time.Hour
)

// OutOfRhythm says that archives have stopped to come, judged by how they came before: the newest is older than twice
// the usual time between two, and an hour. Of a site with fewer than three it says so after a month. all are newest first.
func OutOfRhythm(all []report.Archive, now time.Time) string {
	var taken []time.Time
	for _, a := range all {
		if !a.Taken.After(now.Add(time.Hour)) && len(taken) < rhythmOf {
			taken = append(taken, a.Taken)
		}
	}
	if len(taken) == 0 {
		return ""
	}
	age := now.Sub(taken[0])
	if len(taken) < 3 {
		if age > longSilence {
			return fmt.Sprintf("the newest archive is %s old", span(age))
		}
		return ""
	}
	var between []time.Duration
	for i := 1; i < len(taken); i++ {
		between = append(between, taken[i-1].Sub(taken[i]))
	}
	slices.Sort(between)
	usual := between[len(between)*3/4] // a few taken by hand in a row say little
	if age <= 2*usual+time.Hour {
		return ""
	}
	return fmt.Sprintf("an archive came about every %s; the newest is %s old", span(usual), span(age))
}

// span words a time in its largest whole unit.
func span(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	case d >= 2*time.Hour:
		return fmt.Sprintf("%d hours", int(d.Hours()))
	default:
		return fmt.Sprintf("%d minutes", max(int(d.Minutes()), 1))
	}
}
