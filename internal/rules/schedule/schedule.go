// Package schedule reads phrases such as `full, every day at 03:20` and tells
// when they are due. It is pure: functions of time and text.
package schedule

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"
)

// Work is what a duty does.
type Work string

// The kinds of work.
const (
	Full     Work = "full"
	Files    Work = "files"
	Database Work = "database"
	Verify   Work = "verify"
	Rehearse Work = "rehearse"
)

// Works are all of them.
var Works = []Work{Full, Files, Database, Verify, Rehearse}

// Takes tells whether the work is to take an archive.
func (w Work) Takes() bool { return w == Full || w == Files || w == Database }

// Duty is one line of a site's schedule.
type Duty struct {
	Work Work
	// Rhythm is the phrase after the comma, in its plainest wording.
	Rhythm string
	rule   rule
}

// String is the duty as it is written in the configuration.
func (d Duty) String() string { return string(d.Work) + ", " + d.Rhythm }

// clock is a time of day.
type clock struct{ hour, minute int }

// date is a day of the calendar, at midnight UTC.
type date struct{ time.Time }

func dateOf(t time.Time) date {
	y, m, d := t.Date()
	return date{time.Date(y, m, d, 0, 0, 0, 0, time.UTC)}
}

// number counts days from 1970-01-01.
func (d date) number() int { return int(d.Unix() / 86400) }

// week counts weeks that begin on Monday, from the one of 1970-01-05.
func (d date) week() int { return (d.number() - 4) / 7 }

func (d date) monthNumber() int { return d.Year()*12 + int(d.Month()) - 1 }

// daysInMonth is the number of the month's last day.
func (d date) daysInMonth() int {
	return time.Date(d.Year(), d.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day()
}

// rule is the days on which something is due, and the times of those days.
type rule struct {
	on    func(date) bool
	times []clock
	// spread tells that no time was asked for, so that minutes may be added to
	// keep many sites from beginning at once.
	spread bool
}

// horizon bounds the search for the next time: a phrase whose days do not come
// in so long has none.
const horizon = 366 * 9

// Next returns the first moment after after at which the duty is due in a time
// zone, or the zero time when there is none in nine years. A time of day that
// the zone skips is due when the skipped time is over; of one that comes twice,
// the first counts. spread is added where the phrase names no time of day.
func (d Duty) Next(after time.Time, zone *time.Location, spread time.Duration) time.Time {
	day := dateOf(after.In(zone).AddDate(0, 0, -1)) // a spread may lead past midnight
	for range horizon {
		if d.rule.on(day) {
			if t := d.rule.firstOn(day, after, zone, spread); !t.IsZero() {
				return t
			}
		}
		day = date{day.AddDate(0, 0, 1)}
	}
	return time.Time{}
}

func (r rule) firstOn(day date, after time.Time, zone *time.Location, spread time.Duration) time.Time {
	if !r.spread {
		spread = 0
	}
	first := time.Time{}
	for _, c := range r.times {
		wall := day.Add(time.Duration(c.hour)*time.Hour + time.Duration(c.minute)*time.Minute + spread)
		if t := instant(wall, zone); t.After(after) && (first.IsZero() || t.Before(first)) {
			first = t
		}
	}
	return first
}

// instant is the moment at which clocks in zone first show wall, which is given
// as if it were UTC; where they skip it, the moment they have done so.
func instant(wall time.Time, zone *time.Location) time.Time {
	offsetAt := func(t time.Time) time.Duration {
		_, seconds := t.In(zone).Zone()
		return time.Duration(seconds) * time.Second
	}
	earlier, later := offsetAt(wall.Add(-26*time.Hour)), offsetAt(wall.Add(26*time.Hour))
	candidates := []time.Time{wall.Add(-earlier), wall.Add(-later)}
	slices.SortFunc(candidates, time.Time.Compare)
	for _, t := range candidates {
		if offsetAt(t) == wall.Sub(t) {
			return t.In(zone)
		}
	}
	start, _ := wall.Add(-earlier).In(zone).ZoneBounds()
	return start
}

// Times returns the next n moments.
func (d Duty) Times(after time.Time, zone *time.Location, spread time.Duration, n int) []time.Time {
	var all []time.Time
	for len(all) < n {
		after = d.Next(after, zone, spread)
		if after.IsZero() {
			break
		}
		all = append(all, after)
	}
	return all
}

// Longest is the longest time between two turns in succession, of the next few.
func (d Duty) Longest(from time.Time, zone *time.Location) time.Duration {
	times := d.Times(from, zone, 0, 15)
	longest := time.Duration(0)
	for i := 1; i < len(times); i++ {
		longest = max(longest, times[i].Sub(times[i-1]))
	}
	return longest
}

// Late is the moment from which on a turn that was due has been missed: some
// time is given for waiting and working.
func (d Duty) Late(due time.Time, zone *time.Location) time.Time {
	next := d.Next(due, zone, 0)
	if next.IsZero() {
		return due.Add(12 * time.Hour)
	}
	return due.Add(min(max(next.Sub(due)/4, time.Hour), 12*time.Hour))
}

// SpreadOf is the time by which a site's duties without a time of day are put
// off: always the same for a site, below an hour, another for other sites.
func SpreadOf(site string) time.Duration {
	h := fnv.New32a()
	_, _ = h.Write([]byte(site))
	return time.Duration(h.Sum32()%60) * time.Minute
}

// Parse reads a duty. A phrase that is not understood gives an error with the
// nearest right one.
func Parse(phrase string) (Duty, error) {
	work, rhythm, found := strings.Cut(phrase, ",")
	if !found {
		work, rhythm, _ = strings.Cut(strings.TrimSpace(phrase), " ")
	}
	w := Work(strings.ToLower(strings.TrimSpace(work)))
	if !slices.Contains(Works, w) {
		return Duty{}, fmt.Errorf("%q is no duty: it begins with full, files, database, verify or rehearse, and a comma; did you mean %q?", phrase, suggestDuty(string(w), rhythm))
	}
	words := strings.Fields(strings.ToLower(rhythm))
	r, err := parseRhythm(words)
	if err != nil {
		return Duty{}, fmt.Errorf("%q: %w; did you mean %q?", phrase, err, string(w)+", "+suggestRhythm(words))
	}
	d := Duty{Work: w, Rhythm: strings.Join(words, " "), rule: r}
	if d.Next(time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC), time.UTC, 0).IsZero() {
		return Duty{}, fmt.Errorf("%q: that day never comes", phrase)
	}
	return d, nil
}

// ParseRhythm reads a rhythm that belongs to no kind of work.
func ParseRhythm(phrase string) (Duty, error) {
	words := strings.Fields(strings.ToLower(phrase))
	r, err := parseRhythm(words)
	if err != nil {
		return Duty{}, fmt.Errorf("%w; did you mean %q?", err, suggestRhythm(words))
	}
	return Duty{Rhythm: strings.Join(words, " "), rule: r}, nil
}

// Sort puts duties in the order in which they are carried out when they are due
// together: archives first, what proves them afterwards.
func Sort(duties []Duty) {
	slices.SortStableFunc(duties, func(a, b Duty) int {
		return cmp.Compare(slices.Index(Works, a.Work), slices.Index(Works, b.Work))
	})
}
