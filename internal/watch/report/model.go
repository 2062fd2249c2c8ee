// Package report tells the state of sites: as a page, as text and as metrics.
package report

import (
	"time"

	"revlet/internal/watch/history"
)

// Site is the state of one site.
type Site struct {
	Name    string `json:"site"`
	Address string `json:"address"`
	// Machine is what the machine that took the newest archive calls itself, in a page that is made of what a
	// store has; what only that machine knows is not in it. Otherwise it is empty.
	Machine string `json:"machine,omitempty"`
	// Newest is the newest good archive, NewestFull that of scope full.
	Newest     *Archive `json:"newest"`
	NewestFull *Archive `json:"newest_full"`
	// Offsite tells that NewestFull, or an archive not much older, is in a store
	// elsewhere.
	Offsite bool    `json:"offsite"`
	Stores  []Store `json:"stores"`
	Alarms  []Alarm `json:"alarms"`
	Duties  []Duty  `json:"duties"`
	// Verified is when an archive was last read again, Rehearsed when one was last
	// put back into scratch space, Restored when the site was.
	Verified  *time.Time `json:"verified"`
	Rehearsed *time.Time `json:"rehearsed"`
	Restored  *time.Time `json:"restored"`
	// Pending are the stores that lack archives.
	Pending []string `json:"pending"`
	// Unseen are the stores of which this machine has never heard what they have of the site.
	Unseen []string `json:"unseen"`
	// Archives are all that are known, newest first, those that are gone included.
	Archives []Archive `json:"archives"`
	// Runs are the last ones, newest first.
	Runs []Run `json:"runs"`
}

// Archive is one archive, here or gone.
type Archive struct {
	Name          string    `json:"name"`
	Taken         time.Time `json:"taken"`
	Scope         string    `json:"scope"`
	Note          string    `json:"note"`
	Seconds       float64   `json:"seconds"`
	Files         int64     `json:"files"`
	FileBytes     int64     `json:"file_bytes"`
	DatabaseBytes int64     `json:"database_bytes"`
	StoredBytes   int64     `json:"stored_bytes"`
	NewBytes      int64     `json:"new_bytes"`
	Gaps          int       `json:"gaps"`
	// Stores are those that have it now.
	Stores []string `json:"stores"`
	Damage bool     `json:"damage"`
	Held   bool     `json:"held"`
	// Kept says why, by store; an archive that would go is not in it.
	Kept map[string][]string `json:"kept"`
}

// Store is a place where a site's archives are.
type Store struct {
	Name     string `json:"store"`
	Where    string `json:"where"`
	Offsite  bool   `json:"offsite"`
	Archives int    `json:"archives"`
	// Newest is when the newest archive there was taken.
	Newest *time.Time `json:"newest"`
	// Free is how much room there is, nil when that is not known; FullOn is when
	// that will be used up, nil when that is not in sight.
	Free   *int64     `json:"free_bytes"`
	FullOn *time.Time `json:"full_on"`
	Rules  []string   `json:"keep"`
}

// Alarm is a finding that a person should look at.
type Alarm struct {
	Kind   string    `json:"kind"`
	Since  time.Time `json:"since"`
	Detail string    `json:"detail"`
	Why    string    `json:"why"`
	Do     string    `json:"do"`
	// Accepted is when a person has looked, nil before; By and Because are who and
	// why.
	Accepted *time.Time `json:"accepted"`
	By       string     `json:"by"`
	Because  string     `json:"because"`
}

// Duty is something that is scheduled.
type Duty struct {
	Duty    string     `json:"duty"`
	Last    *time.Time `json:"last"`
	Outcome string     `json:"outcome"`
	Next    *time.Time `json:"next"`
	// LastDone is when a turn of it was last done without trouble.
	LastDone *time.Time `json:"last_done"`
}

// Run is one command that was run.
type Run struct {
	ID       int64     `json:"run"`
	Site     string    `json:"site"`
	Command  string    `json:"command"`
	Duty     string    `json:"duty"`
	Origin   string    `json:"origin"`
	Archive  string    `json:"archive"`
	Started  time.Time `json:"started"`
	Seconds  float64   `json:"seconds"`
	Outcome  string    `json:"outcome"`
	Detail   string    `json:"detail"`
	Bytes    int64     `json:"bytes"`
	NewBytes int64     `json:"new_bytes"`
	Gaps     int       `json:"gaps"`
	Stores   []string  `json:"stores"`
}

// RunOf makes a Run of a line of the history.
func RunOf(r history.Run) Run {
	stores := r.Stores
	if stores == nil {
		stores = []string{}
	}
	return Run{ID: r.ID, Site: r.Site, Command: r.Command, Duty: r.Duty, Origin: r.Origin, Archive: r.Archive, Started: r.Started, Seconds: r.Finished.Sub(r.Started).Seconds(),
		Outcome: r.Outcome, Detail: r.Detail, Bytes: r.Bytes, NewBytes: r.NewBytes, Gaps: r.Gaps, Stores: stores}
}

// Open are the alarms that nobody has accepted.
func (s *Site) Open() []Alarm {
	var all []Alarm
	for _, a := range s.Alarms {
		if a.Accepted == nil {
			all = append(all, a)
		}
	}
	return all
}

// Health is good, look (an alarm, or an archive that is still pending), none
// (no archive) or unknown (none is known, and not all stores were ever looked into).
func (s *Site) Health() string {
	switch {
	case s.Newest == nil && len(s.Unseen) > 0:
		return "unknown"
	case s.Newest == nil:
		return "none"
	case len(s.Open()) > 0 || len(s.Pending) > 0:
		return "look"
	default:
		return "good"
	}
}

// Existing are the archives that some store has.
func (s *Site) Existing() []Archive {
	var all []Archive
	for _, a := range s.Archives {
		if len(a.Stores) > 0 {
			all = append(all, a)
		}
	}
	return all
}

// Page is what a report tells.
type Page struct {
	Made    time.Time `json:"made"`
	Host    string    `json:"host"`
	Program string    `json:"program"`
	Sites   []Site    `json:"sites"`
	// Store is the store whose records the page is made of; empty for what this machine knows of its own sites.
	Store string `json:"store,omitempty"`
	// NotKnown are the sites of that store of which nothing is said, for what it has of them was not reached, and why.
	NotKnown map[string]string `json:"not_known,omitempty"`
	// Unsent are messages that could not be sent, with the reason.
	Unsent []string `json:"unsent"`
	// Changes are those since the last report; nil when there was none, or nobody asked.
	Changes *Changes `json:"changes,omitempty"`
	// Brand is set on a client's own page.
	Brand *Brand `json:"-"`

	zone *time.Location
}

// In sets the time zone that the page's times are shown in.
func (p Page) In(zone *time.Location) Page {
	p.zone = zone
	return p
}
