package retention

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 11, 15, 12, 0, 0, 0, time.UTC)

// world is a random set of archives under a random policy.
func world(r *rand.Rand) ([]Archive, Policy) {
	zones := []string{"UTC", "Europe/Berlin", "America/New_York", "Asia/Kolkata"}
	zone, _ := time.LoadLocation(zones[r.IntN(len(zones))])
	p := Policy{Now: now, Zone: zone}
	all := []string{"newest 1", "newest 7", "one per hour for 2 days", "one per day for 2 weeks", "one per week for 2 months", "one per month for 1 year", "one per year for 5 years", "everything for 3 days"}
	for _, phrase := range all {
		if r.IntN(3) == 0 {
			rule, _ := ParseRule(phrase)
			p.Rules = append(p.Rules, rule)
		}
	}
	if r.IntN(4) == 0 {
		from := now.AddDate(0, 0, -r.IntN(90))
		p.Silences = []Silence{{from, from.AddDate(0, 0, r.IntN(30))}}
	}
	if r.IntN(6) == 0 {
		p.Stopped = []string{"an alarm"}
	}
	span := []int{3, 40, 900}[r.IntN(3)]
	var archives []Archive
	for i := range r.IntN(120) {
		a := Archive{Name: fmt.Sprint(i), Scope: []string{"full", "database"}[r.IntN(2)], Taken: now.Add(-time.Duration(r.IntN(span*24*60)) * time.Minute), Bad: r.IntN(8) == 0}
		if r.IntN(15) == 0 {
			a.Protected = "held"
		}
		if r.IntN(30) == 0 {
			a.Taken = now.AddDate(0, 0, 1+r.IntN(400))
		}
		archives = append(archives, a)
	}
	return archives, p
}

// slowKeeps decides about one archive as a person would with a list and a
// calendar in front of him.
func slowKeeps(a Archive, all []Archive, p Policy) bool {
	future := func(b Archive) bool { return b.Taken.After(p.Now.Add(time.Hour)) }
	if a.Protected != "" || future(a) || len(p.Rules) == 0 || len(p.Stopped) > 0 {
		return true
	}
	if a.Bad {
		return false
	}
	age := func(b Archive) time.Duration { // in minutes that somebody was there for
		d := p.Now.Sub(b.Taken)
		for _, s := range p.Silences {
			for t := s.From; t.Before(s.To); t = t.Add(time.Minute) {
				if !t.Before(b.Taken) && t.Before(p.Now) {
					d -= time.Minute
				}
			}
		}
		return d
	}
	newer := func(in func(Archive) bool) (n int) {
		for _, b := range all {
			if b.Scope == a.Scope && !b.Bad && !future(b) && in(b) && (b.Taken.After(a.Taken) || b.Taken.Equal(a.Taken) && b.Name > a.Name) {
				n++
			}
		}
		return n
	}
	any := func(Archive) bool { return true }
	if newer(any) == 0 {
		return true
	}
	for _, r := range p.Rules {
		most := p.Now.Sub(r.For.Before(p.Now.In(p.Zone)))
		same := func(b Archive) bool { return Period(r.Per, b.Taken.In(p.Zone)) == Period(r.Per, a.Taken.In(p.Zone)) }
		switch {
		case r.Newest > 0 && newer(any) < r.Newest,
			r.Newest == 0 && r.Per == "" && age(a) < most,
			r.Per != "" && age(a) < most && newer(same) == 0:
			return true
		}
	}
	return false
}

func TestPlanAgreesWithASlowModel(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 12))
	for range 500 {
		archives, p := world(r)
		plan := Plan(archives, p)
		require.Len(t, plan, len(archives))
		var left []Archive
		for i, d := range plan {
			require.Equal(t, slowKeeps(d.Archive, archives, p), d.Keep, "%v of %v by %v", d, archives, p.Rules)
			require.NotEmpty(t, d.Why)
			require.True(t, i == 0 || !d.Taken.After(plan[i-1].Taken), "newest first")
			require.True(t, d.Keep || d.Protected == "")
			if d.Keep {
				left = append(left, d.Archive)
			}
		}
		for _, d := range Plan(left, p) {
			require.True(t, d.Keep, "what one pass keeps, the next one keeps")
		}
		onePerPeriod(t, left, archives, p)
	}
}

// onePerPeriod makes sure that every period of the past that had a good archive
// still has one.
func onePerPeriod(t *testing.T, left, all []Archive, p Policy) {
	for _, rule := range p.Rules {
		if rule.Per == "" {
			continue
		}
		has := func(list []Archive, like Archive) bool {
			return slices.ContainsFunc(list, func(b Archive) bool {
				return !b.Bad && b.Scope == like.Scope && Period(rule.Per, b.Taken.In(p.Zone)) == Period(rule.Per, like.Taken.In(p.Zone))
			})
		}
		for _, a := range all {
			if !a.Bad && a.Taken.After(rule.For.Before(now)) && !a.Taken.After(now) {
				require.True(t, has(left, a), "%s keeps one of %s", rule, Period(rule.Per, a.Taken.In(p.Zone)))
			}
		}
	}
}

// Day after day for two years, a daily archive: what stays is what the rules
// say, and the number does not grow.
func TestTwoYearsOfDays(t *testing.T) {
	rules, err := ParseRules([]string{"newest 4", "one per day for 2 weeks", "one per week for 2 months", "one per month for 1 year"})
	require.NoError(t, err)
	var left []Archive
	start := time.Date(2024, 1, 1, 3, 20, 0, 0, time.UTC)
	for day := range 730 {
		taken := start.AddDate(0, 0, day)
		left = append(left, Archive{Name: taken.Format("20060102"), Scope: "full", Taken: taken})
		kept := left[:0:0]
		for _, d := range Plan(left, Policy{Rules: rules, Now: taken.Add(time.Minute), Zone: time.UTC}) {
			if d.Keep {
				kept = append(kept, d.Archive)
			}
		}
		left = kept
	}
	require.Len(t, left, 14+7+11, "two weeks of days, then the weeks and months before")
	assert.Equal(t, "20241231", left[len(left)-1].Name)
}

func TestAClockThatJumpsRemovesNothing(t *testing.T) {
	rules, err := ParseRules([]string{"one per day for 2 weeks"})
	require.NoError(t, err)
	var archives []Archive
	for i := range 14 {
		archives = append(archives, Archive{Name: fmt.Sprint(i), Scope: "full", Taken: now.AddDate(0, 0, -i)})
	}
	ahead := now.AddDate(1, 0, 0)
	jumped := append(archives, Archive{Name: "jumped", Scope: "full", Taken: ahead})
	for _, d := range Plan(jumped, Policy{Rules: rules, Now: ahead, Zone: time.UTC, Silences: []Silence{{now.Add(time.Hour), ahead}}}) {
		assert.True(t, d.Keep, d.Name)
	}
	for _, d := range Plan(jumped, Policy{Rules: rules, Now: now.AddDate(0, 0, -1), Zone: time.UTC}) {
		assert.True(t, d.Keep, "the clock was set back a day: %s", d.Name)
	}
}

func TestRulesThatMakeNoSenseAreRefused(t *testing.T) {
	for _, c := range []struct {
		rules []string
		want  string
	}{
		{[]string{"newest 0"}, "between 1 and"},
		{[]string{"newest 99999999999999999999"}, "between 1 and"},
		{[]string{"one per day for 0 weeks"}, "between 1 and"},
		{[]string{"one per day for 900 years"}, "between 1 and 100"},
		{[]string{"one per fortnight for 1 year"}, "none of hour, day, week"},
		{[]string{"one per month for 2 weeks"}, "shorter than a month"},
		{[]string{"last 4"}, "is no keep rule; write `newest 4`"},
		{[]string{"everything for ever"}, "no span of time"},
		{[]string{"newest 4", "newest 7"}, "`newest 4` adds nothing beside `newest 7`"},
		{[]string{"one per day for 2 months", "one per week for 1 month"}, "`one per week for 1 month` adds nothing"},
		{[]string{"one per day for 1 week", "everything for 2 weeks"}, "adds nothing beside `everything for 2 weeks`"},
	} {
		_, err := ParseRules(c.rules)
		assert.ErrorContains(t, err, c.want, "%v", c.rules)
	}
	_, err := ParseRules([]string{"one per week for 1 month", "one per month for 1 month", "one per day for 1 week"})
	assert.NoError(t, err, "the last of a month need not be the last of a week of it")
}
