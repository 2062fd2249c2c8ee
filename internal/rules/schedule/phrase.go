package schedule

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/robfig/cron/v3"
)

var (
	weekdays = []string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}
	ordinals = []string{"first", "second", "third", "fourth", "last"}
)

// quietHour is the time of day of a phrase that names none.
var quietHour = []clock{{3, 0}}

// parseRhythm reads what comes after the comma.
func parseRhythm(words []string) (rule, error) {
	if len(words) == 0 {
		return rule{}, errors.New("it does not say when")
	}
	if words[0] == "cron" {
		return parseCron(words[1:])
	}
	days, at := words, []string(nil)
	if i := slices.Index(words, "at"); i >= 0 {
		days, at = words[:i], words[i+1:]
		if len(at) == 0 {
			return rule{}, errors.New("no time of day follows `at`")
		}
	}
	if r, ok, err := parseInterval(days); ok || err != nil {
		if err == nil && at != nil {
			err = errors.New("a rhythm of minutes or hours takes no time of day")
		}
		return r, err
	}
	on, err := parseDays(days)
	if err != nil {
		return rule{}, err
	}
	r := rule{on: on, times: quietHour, spread: at == nil}
	if at != nil {
		r.times, err = parseTimes(at)
	}
	return r, err
}

// parseTimes reads `03:20`, or `03:20 and 15:20`.
func parseTimes(words []string) ([]clock, error) {
	var times []clock
	for i, w := range words {
		if i%2 == 1 {
			if w != "and" || i == len(words)-1 {
				return nil, fmt.Errorf("%q stands where only `and` and another time may", w)
			}
			continue
		}
		t, err := time.Parse("15:04", w)
		if err != nil {
			return nil, fmt.Errorf("%q is no time of day such as 03:20", w)
		}
		times = append(times, clock{t.Hour(), t.Minute()})
	}
	return times, nil
}

// parseInterval reads `every 6 hours`, `every 15 minutes`; ok is false when it
// is another kind of phrase.
func parseInterval(words []string) (r rule, ok bool, err error) {
	if words[0] != "every" || len(words) < 2 || len(words) > 3 {
		return rule{}, false, nil
	}
	unit := strings.TrimSuffix(words[len(words)-1], "s")
	span, known := map[string]struct {
		most, minutes int
		whole         string
	}{"minute": {60, 1, "an hour"}, "hour": {24, 60, "a day"}}[unit]
	if !known {
		return rule{}, false, nil
	}
	n, err := number(words[1:len(words)-1], span.most)
	if err != nil {
		return rule{}, true, err
	}
	if span.most%n != 0 {
		return rule{}, true, fmt.Errorf("%d %ss do not go evenly into %s", n, unit, span.whole)
	}
	for m := 0; m < 24*60; m += n * span.minutes {
		r.times = append(r.times, clock{m / 60, m % 60})
	}
	r.on, r.spread = always, unit == "hour"
	return r, true, nil
}

func always(date) bool { return true }

// number reads an optional count.
func number(words []string, most int) (int, error) {
	if len(words) == 0 {
		return 1, nil
	}
	n, err := strconv.Atoi(words[0])
	if err != nil {
		return 0, fmt.Errorf("%q is no number", words[0])
	}
	if n < 1 || n > most {
		return 0, fmt.Errorf("%d is not between 1 and %d", n, most)
	}
	return n, nil
}

// parseDays reads which days are meant.
func parseDays(words []string) (func(date) bool, error) {
	switch {
	case len(words) > 1 && words[0] == "every":
		return parseEvery(words[1:])
	case len(words) > 1 && words[0] == "on":
		return parseMonthly(words[1:])
	}
	return nil, errors.New("it begins with neither `every`, `on` nor `cron`")
}

// parseEvery reads what follows `every`.
func parseEvery(words []string) (func(date) bool, error) {
	if on, err := weekdaysNamed(words); err == nil {
		return on, nil
	}
	count, rest := []string(nil), words
	if _, err := strconv.Atoi(words[0]); err == nil && len(words) > 1 {
		count, rest = words[:1], words[1:]
	}
	switch unit := strings.TrimSuffix(rest[0], "s"); {
	case unit == "weekday" && len(words) == 1:
		return func(d date) bool { return d.Weekday() != time.Saturday && d.Weekday() != time.Sunday }, nil
	case unit == "day" && len(rest) == 1:
		n, err := number(count, 366)
		return func(d date) bool { return d.number()%n == 0 }, err
	case unit == "week":
		n, err := number(count, 52)
		if err != nil {
			return nil, err
		}
		on := func(d date) bool { return d.Weekday() == time.Sunday }
		if len(rest) > 1 {
			if rest[1] != "on" {
				return nil, fmt.Errorf("%q stands where `on` and a day of the week may", rest[1])
			}
			if on, err = weekdaysNamed(rest[2:]); err != nil {
				return nil, err
			}
		}
		return func(d date) bool { return on(d) && d.week()%n == 0 }, nil
	case unit == "month":
		n, err := number(count, 12)
		if err != nil {
			return nil, err
		}
		on := dayOfMonth(1)
		if len(rest) > 1 {
			if rest[1] != "on" {
				return nil, fmt.Errorf("%q stands where `on` and a day of the month may", rest[1])
			}
			if on, err = dayInMonth(rest[2:]); err != nil {
				return nil, err
			}
		}
		return func(d date) bool { return on(d) && d.monthNumber()%n == 0 }, nil
	}
	return nil, fmt.Errorf("%q is no day, weekday, week, month or day of the week", strings.Join(words, " "))
}

// weekdaysNamed reads `sunday`, or `monday and thursday`.
func weekdaysNamed(words []string) (func(date) bool, error) {
	var named [7]bool
	for i, w := range words {
		day := slices.Index(weekdays, strings.TrimSuffix(w, "s"))
		switch {
		case i%2 == 1 && (w != "and" || i == len(words)-1):
			return nil, fmt.Errorf("%q stands where only `and` and another day may", w)
		case i%2 == 0 && day < 0:
			return nil, fmt.Errorf("%q is no day of the week", w)
		case i%2 == 0:
			named[day] = true
		}
	}
	if len(words) == 0 {
		return nil, errors.New("it names no day of the week")
	}
	return func(d date) bool { return named[d.Weekday()] }, nil
}

// parseMonthly reads `day 1 of every month`, `the last day of every month`,
// `the first sunday of every 3 months`.
func parseMonthly(words []string) (func(date) bool, error) {
	i := slices.Index(words, "of")
	if i < 0 || len(words) < i+3 || words[i+1] != "every" || strings.TrimSuffix(words[len(words)-1], "s") != "month" {
		return nil, errors.New("after `on` and the day, `of every month` is missing")
	}
	on, err := dayInMonth(words[:i])
	if err != nil {
		return nil, err
	}
	n, err := number(words[i+2:len(words)-1], 12)
	if err != nil || n == 1 {
		return on, err
	}
	return func(d date) bool { return on(d) && d.monthNumber()%n == 0 }, nil
}

// dayInMonth reads `day 31`, `the last day`, `the second tuesday`. A month too
// short for a day has it on its last.
func dayInMonth(words []string) (func(date) bool, error) {
	if len(words) > 0 && words[0] == "the" {
		words = words[1:]
	}
	if len(words) != 2 {
		return nil, errors.New("it names no day of the month")
	}
	if words[0] == "day" {
		n, err := number(words[1:], 31)
		return dayOfMonth(n), err
	}
	nth := slices.Index(ordinals, words[0])
	last := nth == len(ordinals)-1
	switch day := slices.Index(weekdays, words[1]); {
	case nth < 0:
		return nil, fmt.Errorf("%q is none of %s", words[0], strings.Join(ordinals, ", "))
	case words[1] == "day" && last:
		return func(d date) bool { return d.Day() == d.daysInMonth() }, nil
	case words[1] == "day":
		return dayOfMonth(nth + 1), nil
	case day < 0:
		return nil, fmt.Errorf("%q is no day of the week", words[1])
	default:
		return func(d date) bool {
			if int(d.Weekday()) != day {
				return false
			}
			if last {
				return d.Day()+7 > d.daysInMonth()
			}
			return (d.Day()-1)/7 == nth
		}, nil
	}
}

func dayOfMonth(n int) func(date) bool {
	return func(d date) bool { return d.Day() == min(n, d.daysInMonth()) }
}

// parseCron reads the five fields of a crontab line (POSIX, with names, ranges
// and steps).
func parseCron(fields []string) (rule, error) {
	if len(fields) != 5 {
		return rule{}, fmt.Errorf("after `cron` there are five fields, not %d", len(fields))
	}
	s, err := cron.ParseStandard(strings.Join(fields, " "))
	if err != nil {
		return rule{}, fmt.Errorf("the cron fields are wrong: %w", err)
	}
	spec, ok := s.(*cron.SpecSchedule)
	if !ok {
		return rule{}, errors.New("the cron fields are not understood")
	}
	const star = 1 << 63
	has := func(bits uint64, n int) bool { return bits&(1<<n) != 0 }
	r := rule{on: func(d date) bool {
		day, weekday := has(spec.Dom, d.Day()), has(spec.Dow, int(d.Weekday()))
		if spec.Dom&star != 0 || spec.Dow&star != 0 {
			return has(spec.Month, int(d.Month())) && day && weekday
		}
		return has(spec.Month, int(d.Month())) && (day || weekday)
	}}
	for m := range 24 * 60 {
		if has(spec.Hour, m/60) && has(spec.Minute, m%60) {
			r.times = append(r.times, clock{m / 60, m % 60})
		}
	}
	return r, nil
}

// examples are right phrases, to suggest when nothing typed comes near.
var examples = []string{
	"every 6 hours", "every 30 minutes", "every day at 03:20", "every 2 days at 03:20", "every weekday at 03:20", "every sunday at 05:00",
	"every 2 weeks on friday at 03:20", "on day 1 of every month at 05:30", "on the last day of every month at 05:30",
	"on the first sunday of every month at 05:30", "cron 20 3 * * *",
}

// synonyms are wordings that people try.
var synonyms = map[string]string{
	"daily": "every day", "nightly": "every day", "hourly": "every hour", "weekly": "every week", "monthly": "every month", "each": "every",
	"mon": "monday", "tue": "tuesday", "wed": "wednesday", "thu": "thursday", "fri": "friday", "sat": "saturday", "sun": "sunday",
	"h": "hours", "min": "minutes", "mins": "minutes", "hrs": "hours", "noon": "12:00", "midnight": "00:00", "1st": "first", "2nd": "second",
	"weekdays": "weekday", "night": "day", "two": "2", "three": "3",
}

var (
	looseTime = regexp.MustCompile(`^(\d{1,2})(?:[:.h]?(\d{2}))?\s*(am|pm)?$`)
	counted   = regexp.MustCompile(`^(\d+)([a-z]+)$`)
)

// suggestRhythm words the nearest right phrase to a wrong one: word for word
// where that leads to one, or else the most similar example.
func suggestRhythm(words []string) string {
	corrected := correct(words)
	for _, try := range [][]string{corrected, append([]string{"every"}, corrected...), withAt(corrected), append([]string{"every"}, withAt(corrected)...)} {
		if _, err := parseRhythm(try); err == nil {
			return strings.Join(try, " ")
		}
	}
	return nearest(strings.Join(corrected, " "), examples)
}

// suggestDuty does so for a phrase whose first word is wrong.
func suggestDuty(work, rhythm string) string {
	names := make([]string, len(Works))
	for i, w := range Works {
		names[i] = string(w)
	}
	words := strings.Fields(strings.ToLower(rhythm))
	if _, err := parseRhythm(words); err == nil {
		return nearest(work, names) + ", " + strings.Join(words, " ")
	}
	return nearest(work, names) + ", " + suggestRhythm(words)
}

// vocabulary is every word that a phrase may have.
var vocabulary = slices.Concat([]string{"every", "on", "at", "day", "days", "week", "weeks", "month", "months", "hour", "hours", "minute", "minutes", "weekday",
	"of", "the", "and", "cron"}, weekdays, ordinals)

func correct(words []string) []string {
	var all []string
	for i, w := range words {
		w = strings.Trim(w, ",.;")
		if s, ok := synonyms[w]; ok {
			all = append(all, strings.Fields(s)...)
			continue
		}
		afterAt := i > 0 && words[i-1] == "at"
		if m := looseTime.FindStringSubmatch(w); m != nil && (afterAt || m[2] != "" || m[3] != "") {
			all = append(all, timeOfDay(m))
			continue
		}
		if m := counted.FindStringSubmatch(w); m != nil {
			all = append(all, append([]string{m[1]}, correct([]string{m[2]})...)...)
			continue
		}
		if near := nearest(w, vocabulary); len(w) > 2 && levenshtein.ComputeDistance(near, w) <= 2 {
			w = near
		}
		all = append(all, w)
	}
	return all
}

// timeOfDay reads hour, minute and half of the day as people write them.
func timeOfDay(m []string) string {
	hour, _ := strconv.Atoi(m[1])
	minute, _ := strconv.Atoi(m[2])
	if m[3] == "pm" && hour < 12 {
		hour += 12
	}
	return fmt.Sprintf("%02d:%02d", hour%24, minute%60)
}

// withAt puts a missing `at` before a time of day.
func withAt(words []string) []string {
	i := slices.IndexFunc(words, func(w string) bool { return strings.Contains(w, ":") })
	if i < 1 || words[i-1] == "at" {
		return words
	}
	return slices.Insert(slices.Clone(words), i, "at")
}

func nearest(typed string, known []string) string {
	return slices.MinFunc(known, func(a, b string) int {
		return levenshtein.ComputeDistance(typed, a) - levenshtein.ComputeDistance(typed, b)
	})
}
