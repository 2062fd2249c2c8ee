package schedule

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wallClock is what a phrase means, as a question about a calendar and a clock
// on the wall: told apart from the code under test on purpose.
type wallClock func(day time.Time, hour, minute int) bool

func epochDays(day time.Time) int {
	return int(day.Sub(time.Date(1970, 1, 1, 0, 0, 0, 0, time.UTC)).Hours()) / 24
}

func monthLength(day time.Time) int { return day.AddDate(0, 1, -day.Day()).Day() }

// randomPhrase makes a phrase together with its meaning.
func randomPhrase(r *rand.Rand) (string, wallClock) {
	h, m := r.IntN(24), []int{0, 15, 20, 59}[r.IntN(4)]
	if r.IntN(3) == 0 {
		h = 1 + r.IntN(3) // where zones change their clocks
	}
	at := fmt.Sprintf(" at %02d:%02d", h, m)
	timed := func(on func(time.Time) bool) wallClock {
		return func(d time.Time, hour, minute int) bool { return hour == h && minute == m && on(d) }
	}
	weekday := r.IntN(7)
	name := time.Weekday(weekday).String()
	switch r.IntN(12) {
	case 0:
		n := []int{1, 2, 3, 4, 6, 8, 12, 24}[r.IntN(8)]
		return fmt.Sprintf("every %d hours", n), func(_ time.Time, hour, minute int) bool { return minute == 0 && hour%n == 0 }
	case 1:
		n := []int{5, 10, 15, 20, 30}[r.IntN(5)]
		return fmt.Sprintf("every %d minutes", n), func(_ time.Time, _, minute int) bool { return minute%n == 0 }
	case 2:
		return "every day" + at, timed(func(time.Time) bool { return true })
	case 3:
		n := 2 + r.IntN(8)
		return fmt.Sprintf("every %d days%s", n, at), timed(func(d time.Time) bool { return epochDays(d)%n == 0 })
	case 4:
		return "every weekday" + at, timed(func(d time.Time) bool { return d.Weekday()%6 != 0 })
	case 5:
		return "every " + name + at, timed(func(d time.Time) bool { return int(d.Weekday()) == weekday })
	case 6:
		n := 2 + r.IntN(3)
		return fmt.Sprintf("every %d weeks on %s%s", n, name, at), timed(func(d time.Time) bool {
			monday := epochDays(d) - (int(d.Weekday())+6)%7
			return int(d.Weekday()) == weekday && (monday-4)/7%n == 0
		})
	case 7:
		day := 1 + r.IntN(31)
		return fmt.Sprintf("on day %d of every month%s", day, at), timed(func(d time.Time) bool {
			return d.Day() == day || day > monthLength(d) && d.Day() == monthLength(d)
		})
	case 8:
		return "on the last day of every month" + at, timed(func(d time.Time) bool { return d.AddDate(0, 0, 1).Day() == 1 })
	case 9:
		return "on the second " + name + " of every month" + at, timed(func(d time.Time) bool {
			return int(d.Weekday()) == weekday && d.Day() > 7 && d.Day() <= 14
		})
	case 10:
		return fmt.Sprintf("cron %d %d * * %d", m, h, weekday), timed(func(d time.Time) bool { return int(d.Weekday()) == weekday })
	default:
		return fmt.Sprintf("cron %d %d 13 */2 5", m, h), timed(func(d time.Time) bool {
			return d.Month()%2 == 1 && (d.Day() == 13 || d.Weekday() == time.Friday)
		})
	}
}

// slowNext looks at every minute: it is due when clocks show the time for the
// first time, or when they have just skipped it.
func slowNext(due wallClock, after time.Time, zone *time.Location) time.Time {
	shows := func(t time.Time) time.Time {
		_, offset := t.In(zone).Zone()
		return t.UTC().Add(time.Duration(offset) * time.Second)
	}
	is := func(wall time.Time) bool {
		return due(time.Date(wall.Year(), wall.Month(), wall.Day(), 0, 0, 0, 0, time.UTC), wall.Hour(), wall.Minute())
	}
	latest := shows(after.Truncate(time.Minute).Add(-4 * time.Hour))
	for t := after.Truncate(time.Minute).Add(-4 * time.Hour); ; t = t.Add(time.Minute) {
		wall := shows(t)
		found := false
		for w := latest.Add(time.Minute); !w.After(wall); w = w.Add(time.Minute) {
			found = found || is(w)
		}
		if wall.After(latest) {
			latest = wall
		}
		if found && t.After(after) {
			return t
		}
	}
}

func TestNextAgreesWithACalendar(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 11))
	var zones []*time.Location
	for _, name := range []string{"UTC", "Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Africa/Casablanca", "America/Santiago", "Asia/Kolkata"} {
		z, err := time.LoadLocation(name)
		require.NoError(t, err)
		zones = append(zones, z)
	}
	for range 400 {
		phrase, due := randomPhrase(r)
		zone := zones[r.IntN(len(zones))]
		after := time.Date(2026, 1, 1, 0, 0, r.IntN(60), 0, time.UTC).Add(time.Duration(r.IntN(365*24*60)) * time.Minute)
		if start, end := after.In(zone).ZoneBounds(); r.IntN(2) == 0 && !end.IsZero() && !start.IsZero() {
			after = end.Add(time.Duration(r.IntN(600)-400) * time.Minute) // about when clocks change
		}
		d, err := Parse("full, " + phrase)
		require.NoError(t, err, phrase)
		got := d.Next(after, zone, 0)
		require.True(t, got.After(after), phrase)
		require.True(t, slowNext(due, after, zone).Equal(got), "%s in %s after %s: %s, want %s", phrase, zone, after, got, slowNext(due, after, zone))
	}
}

func TestClocksThatChange(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	d, err := Parse("database, every day at 02:30")
	require.NoError(t, err)
	for _, c := range []struct{ after, want string }{
		{"2026-03-28T03:00:00+01:00", "2026-03-29T03:00:00+02:00"}, // 02:30 is skipped
		{"2026-10-24T03:00:00+02:00", "2026-10-25T02:30:00+02:00"}, // 02:30 comes twice
		{"2026-10-25T02:30:00+02:00", "2026-10-26T02:30:00+01:00"},
	} {
		after, err := time.Parse(time.RFC3339, c.after)
		require.NoError(t, err)
		assert.Equal(t, c.want, d.Next(after, berlin, 0).Format(time.RFC3339))
	}
}

func TestSitesAreSpread(t *testing.T) {
	stated, err := Parse("full, every day at 03:20")
	require.NoError(t, err)
	open, err := Parse("full, every 6 hours")
	require.NoError(t, err)
	noon := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	assert.Equal(t, "03:20", stated.Next(noon, time.UTC, SpreadOf("kestrelpoint")).Format("15:04"), "a time that was asked for is kept")
	minutes := map[int]bool{}
	for i := range 40 {
		next := open.Next(noon, time.UTC, SpreadOf(fmt.Sprintf("site%d", i)))
		assert.Less(t, next.Sub(noon), 7*time.Hour)
		minutes[next.Minute()] = true
	}
	assert.Greater(t, len(minutes), 15)
}

func TestWrongPhrasesAreSetRight(t *testing.T) {
	for typed, want := range map[string]string{
		"full, evry day at 03:20":                `"full, every day at 03:20"`,
		"full, daily at 3am":                     `"full, every day at 03:00"`,
		"fulll, every day at 03:20":              `"full, every day at 03:20"`,
		"full, every day 3:20":                   `"full, every day at 03:20"`,
		"full, sunday at 5pm":                    `"full, every sunday at 17:00"`,
		"database, every 6h":                     `"database, every 6 hours"`,
		"full, every day at 25:00":               "no time of day",
		"full, every 5 hours":                    "do not go evenly into a day",
		"full, every 0 days at 03:20":            "not between 1 and",
		"full, on day 32 of every month":         "not between 1 and 31",
		"full, cron 20 3 * *":                    "five fields, not 4",
		"full, cron 0 3 30 2 *":                  "never comes",
		"full, on the last day of evry month":    `"full, on the last day of every month"`,
		"full, every 6 hours at 03:20":           "takes no time of day",
		"full":                                   "does not say when",
		"verify, on the fifth sunday of a month": "did you mean",
	} {
		_, err := Parse(typed)
		if assert.Error(t, err, typed) {
			assert.Contains(t, err.Error(), want, typed)
		}
	}
}
