package retention

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// Archive is what the decision about one depends on.
type Archive struct {
	Name string
	// Scope is counted apart: archives of one scope never push out another's.
	Scope string
	Taken time.Time
	// Bad is set when it is known to be damaged: it counts for no rule.
	Bad bool
	// Protected says why it must stay, whatever the rules say; empty is no reason.
	Protected string
}

// Silence is a time in which nothing was seen of the clock: the machine was
// off, or the clock jumped. Archives do not age in it.
type Silence struct{ From, To time.Time }

// Policy is what archives are judged by.
type Policy struct {
	// Rules keep; without any, everything stays.
	Rules []Rule
	Now   time.Time
	// Zone is where days, weeks, months and years begin; weeks on Monday.
	Zone     *time.Location
	Silences []Silence
	// Stopped are reasons for which nothing goes now.
	Stopped []string
}

// Decision is what becomes of an archive, and why.
type Decision struct {
	Archive
	Keep bool `json:"keep"`
	// Why has every reason to keep it, or the one for which it goes.
	Why []string `json:"why"`
	// Stopped tells that it is kept for no other reason than Policy.Stopped.
	Stopped bool `json:"-"`
}

// ahead is how far in the future an archive may lie before its time is taken
// for wrong: clocks of two machines differ.
const ahead = time.Hour

// Plan decides about archives; the answer is in their order, newest first. The
// newest good archive of each scope always stays, whatever the rules.
func Plan(archives []Archive, p Policy) []Decision {
	all := make([]Decision, 0, len(archives))
	for _, a := range archives {
		all = append(all, Decision{Archive: a})
	}
	slices.SortStableFunc(all, func(a, b Decision) int {
		return cmp.Or(b.Taken.Compare(a.Taken), cmp.Compare(b.Name, a.Name))
	})
	scopes := map[string][]*Decision{}
	for i := range all {
		d := &all[i]
		switch {
		case d.Taken.After(p.Now.Add(ahead)):
			d.keep("it is dated in the future; was a clock wrong?")
		case d.Bad: // counts for nothing
		default:
			scopes[d.Scope] = append(scopes[d.Scope], d)
		}
		if d.Protected != "" {
			d.keep(d.Protected)
		}
		if len(p.Rules) == 0 {
			d.keep("there are no keep rules")
		}
	}
	for scope, good := range scopes {
		good[0].keep("newest good " + scope)
		for _, r := range p.Rules {
			p.apply(r, good)
		}
	}
	for i := range all {
		p.settle(&all[i])
	}
	return all
}

func (d *Decision) keep(why string) {
	d.Keep = true
	d.Why = append(d.Why, why)
}

// apply marks what one rule keeps among the good archives of a scope, which are
// ordered newest first.
func (p Policy) apply(r Rule, good []*Decision) {
	if r.Newest > 0 {
		for i, d := range good[:min(r.Newest, len(good))] {
			d.keep(fmt.Sprintf("newest %d (%d)", r.Newest, i+1))
		}
		return
	}
	limit := r.For.Before(p.Now.In(p.Zone))
	seen := map[string]bool{}
	for _, d := range good {
		if !d.Taken.Add(p.silent(d.Taken)).After(limit) {
			break
		}
		if r.Per == "" {
			d.keep(r.String())
			continue
		}
		if period := Period(r.Per, d.Taken.In(p.Zone)); !seen[period] {
			seen[period] = true
			d.keep(fmt.Sprintf("one per %s (%s)", r.Per, period))
		}
	}
}

// silent is how much of the time since t does not count.
func (p Policy) silent(t time.Time) time.Duration {
	total := time.Duration(0)
	for _, s := range p.Silences {
		from, to := s.From, s.To
		if from.Before(t) {
			from = t
		}
		if to.After(p.Now) {
			to = p.Now
		}
		total += max(to.Sub(from), 0)
	}
	return total
}

// Period names the period of a unit in which t lies, by the clock that t shows.
func Period(u Unit, t time.Time) string {
	switch u {
	case Hour:
		return t.Format("2006-01-02 15:00 -07:00")
	case Day:
		return t.Format("2006-01-02")
	case Week:
		year, week := t.ISOWeek()
		return fmt.Sprintf("%d-W%02d", year, week) // ISO 8601
	case Month:
		return t.Format("2006-01")
	default:
		return t.Format("2006")
	}
}

// settle words what becomes of an archive that no rule keeps.
func (p Policy) settle(d *Decision) {
	switch {
	case d.Keep:
	case len(p.Stopped) > 0:
		for _, why := range p.Stopped {
			d.Stopped = true
			d.keep("removal is stopped: " + why)
		}
	case d.Bad:
		d.Why = []string{"it is damaged, and no rule counts it"}
	default:
		d.Why = []string{"no rule keeps it"}
	}
}
