package report

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Totals are the sums of a page.
type Totals struct {
	Good, Look, None, Unknown int
	Archives                  int
	// Bytes are those of each site's newest full archive, as it is stored.
	Bytes int64
}

// Totals sums the page up.
func (p Page) Totals() (t Totals) {
	for i := range p.Sites {
		s := &p.Sites[i]
		switch s.Health() {
		case "good":
			t.Good++
		case "look":
			t.Look++
		case "unknown":
			t.Unknown++
		default:
			t.None++
		}
		t.Archives += len(s.Existing())
		if s.NewestFull != nil {
			t.Bytes += s.NewestFull.StoredBytes
		}
	}
	return t
}

// Summary is what is remembered of a report, for the next one.
type Summary struct {
	Made  time.Time              `json:"made"`
	Sites map[string]SiteSummary `json:"sites"`
}

// SiteSummary is one site in it.
type SiteSummary struct {
	Health   string   `json:"health"`
	Alarms   []string `json:"alarms"`
	Archives []string `json:"archives"`
}

// Summary is what the next report is compared with.
func (p Page) Summary() Summary {
	sum := Summary{Made: p.Made, Sites: map[string]SiteSummary{}}
	for i := range p.Sites {
		s := &p.Sites[i]
		one := SiteSummary{Health: s.Health()}
		for _, a := range s.Open() {
			if !slices.Contains(one.Alarms, a.Kind) {
				one.Alarms = append(one.Alarms, a.Kind)
			}
		}
		for _, a := range s.Existing() {
			one.Archives = append(one.Archives, a.Name)
		}
		sum.Sites[s.Name] = one
	}
	return sum
}

// Changes are what is otherwise than in the last report, in words.
type Changes struct {
	// Last is when that was made.
	Last time.Time `json:"last"`
	// New and Gone count archives.
	New  int `json:"new_archives"`
	Gone int `json:"gone_archives"`
	// Worse and Better name sites and what is so, or not so any more.
	Worse  []string `json:"worse"`
	Better []string `json:"better"`
	// Added and Dropped are sites.
	Added   []string `json:"added_sites"`
	Dropped []string `json:"dropped_sites"`
}

// Since compares a page with the last report.
func (p Page) Since(last Summary) *Changes {
	c := &Changes{Last: last.Made, Worse: []string{}, Better: []string{}, Added: []string{}, Dropped: []string{}}
	now := p.Summary()
	for i := range p.Sites {
		name := p.Sites[i].Name
		is, was := now.Sites[name], last.Sites[name]
		if _, known := last.Sites[name]; !known {
			c.Added = append(c.Added, name)
			continue
		}
		c.New += len(without(is.Archives, was.Archives))
		c.Gone += len(without(was.Archives, is.Archives))
		if more := without(is.Alarms, was.Alarms); len(more) > 0 {
			c.Worse = append(c.Worse, fmt.Sprintf("%s: %s", name, strings.Join(more, ", ")))
		}
		if is.Health == "none" && was.Health != "none" {
			c.Worse = append(c.Worse, name+": no archive any more")
		}
		if over := without(was.Alarms, is.Alarms); len(over) > 0 {
			c.Better = append(c.Better, fmt.Sprintf("%s: no more %s", name, strings.Join(over, ", ")))
		}
	}
	for name := range last.Sites {
		if _, there := now.Sites[name]; !there {
			c.Dropped = append(c.Dropped, name)
		}
	}
	slices.Sort(c.Dropped)
	return c
}

// without are those of a that b has not.
func without(a, b []string) (only []string) {
	has := map[string]bool{}
	for _, x := range b {
		has[x] = true
	}
	for _, x := range a {
		if !has[x] {
			only = append(only, x)
		}
	}
	return only
}
