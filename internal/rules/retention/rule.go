// Package retention decides which archives stay and which go. It is pure:
// functions of time, lists and rules.
package retention

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Unit is a span of the calendar.
type Unit string

// The units.
const (
	Hour  Unit = "hour"
	Day   Unit = "day"
	Week  Unit = "week"
	Month Unit = "month"
	Year  Unit = "year"
)

// length is about how long a unit lasts, to compare spans with.
var length = map[Unit]time.Duration{Hour: time.Hour, Day: 24 * time.Hour, Week: 7 * 24 * time.Hour, Month: 30 * 24 * time.Hour, Year: 365 * 24 * time.Hour}

// Span is a number of units of the calendar.
type Span struct {
	N    int
	Unit Unit
}

// Before returns the moment a span before t, by the calendar.
func (s Span) Before(t time.Time) time.Time {
	switch s.Unit {
	case Hour:
		return t.Add(-time.Duration(s.N) * time.Hour)
	case Day:
		return t.AddDate(0, 0, -s.N)
	case Week:
		return t.AddDate(0, 0, -7*s.N)
	case Month:
		return t.AddDate(0, -s.N, 0)
	default:
		return t.AddDate(-s.N, 0, 0)
	}
}

func (s Span) about() time.Duration { return time.Duration(s.N) * length[s.Unit] }

func (s Span) String() string {
	if s.N == 1 {
		return "1 " + string(s.Unit)
	}
	return fmt.Sprintf("%d %ss", s.N, s.Unit)
}

// Rule is one line of a policy. Exactly one of its forms is set: newest N, one
// per Per for For, or everything for For.
type Rule struct {
	Newest int
	Per    Unit
	For    Span
}

// String is the rule as it is written in the configuration.
func (r Rule) String() string {
	switch {
	case r.Newest > 0:
		return fmt.Sprintf("newest %d", r.Newest)
	case r.Per != "":
		return fmt.Sprintf("one per %s for %s", r.Per, r.For)
	default:
		return fmt.Sprintf("everything for %s", r.For)
	}
}

var (
	newestForm     = regexp.MustCompile(`^newest (\d+)$`)
	onePerForm     = regexp.MustCompile(`^one per (\w+) for (.+)$`)
	everythingForm = regexp.MustCompile(`^everything for (.+)$`)
	spanForm       = regexp.MustCompile(`^(?:(\d+) )?([a-z]+?)s?$`)
)

const (
	mostNewest = 100_000
	mostSpan   = 100 * 365 * 24 * time.Hour
)

// ErrForm is wrapped by errors about a rule that is not understood.
var ErrForm = errors.New("is no keep rule; write `newest 4`, `one per week for 2 months` or `everything for 3 days`")

// ParseRule reads a keep rule.
func ParseRule(phrase string) (Rule, error) {
	text := strings.Join(strings.Fields(strings.ToLower(phrase)), " ")
	if m := newestForm.FindStringSubmatch(text); m != nil {
		n, err := strconv.Atoi(m[1])
		if err != nil || n < 1 || n > mostNewest {
			return Rule{}, fmt.Errorf("keep rule %q: the number is between 1 and %d", phrase, mostNewest)
		}
		return Rule{Newest: n}, nil
	}
	if m := everythingForm.FindStringSubmatch(text); m != nil {
		span, err := parseSpan(m[1])
		if err != nil {
			return Rule{}, fmt.Errorf("keep rule %q: %w", phrase, err)
		}
		return Rule{For: span}, nil
	}
	m := onePerForm.FindStringSubmatch(text)
	if m == nil {
		return Rule{}, fmt.Errorf("%q %w", phrase, ErrForm)
	}
	per := Unit(m[1])
	if length[per] == 0 {
		return Rule{}, fmt.Errorf("keep rule %q: %q is none of hour, day, week, month and year", phrase, m[1])
	}
	span, err := parseSpan(m[2])
	if err != nil {
		return Rule{}, fmt.Errorf("keep rule %q: %w", phrase, err)
	}
	if span.about() < length[per] {
		return Rule{}, fmt.Errorf("keep rule %q: %s is shorter than a %s, so it would keep nothing for most of the time", phrase, span, per)
	}
	return Rule{Per: per, For: span}, nil
}

func parseSpan(text string) (Span, error) {
	m := spanForm.FindStringSubmatch(text)
	if m == nil || length[Unit(m[2])] == 0 {
		return Span{}, fmt.Errorf("%q is no span of time such as 2 weeks or 1 year", text)
	}
	s := Span{1, Unit(m[2])}
	if m[1] != "" {
		n, err := strconv.Atoi(m[1])
		if err != nil || n < 1 || n > int(mostSpan/length[s.Unit]) {
			return Span{}, fmt.Errorf("%q: the number is between 1 and %d", text, mostSpan/length[s.Unit])
		}
		s.N = n
	}
	return s, nil
}

// ParseRules reads a policy. Rules that add nothing beside another are refused:
// who wrote them expects something else of them than they do.
func ParseRules(phrases []string) ([]Rule, error) {
	var rules []Rule
	for _, p := range phrases {
		r, err := ParseRule(p)
		if err != nil {
			return nil, err
		}
		for _, other := range rules {
			if idle, busy := r, other; idle.within(busy) || busy.within(idle) {
				if !idle.within(busy) {
					idle, busy = busy, idle
				}
				return nil, fmt.Errorf("keep rule `%s` adds nothing beside `%s`; leave one of them out", idle, busy)
			}
		}
		rules = append(rules, r)
	}
	return rules, nil
}

// within tells whether whatever r keeps is kept by other as well.
func (r Rule) within(other Rule) bool {
	switch {
	case r.Newest > 0 || other.Newest > 0:
		return r.Newest > 0 && other.Newest >= r.Newest
	case r.For.about() > other.For.about():
		return false
	case other.Per == "":
		return true
	case r.Per == "" || length[r.Per] < length[other.Per]:
		return false
	default:
		// A week may lie in two months: one of each does not make one of the other.
		return r.Per == other.Per || other.Per != Week
	}
}
