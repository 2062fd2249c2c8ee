// Package alarm finds what a person should look at. It is pure: it judges what
// is known of a site.
package alarm

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"revlet/internal/archives/changes"
	"revlet/internal/rules/schedule"
	"revlet/internal/watch/history"
)

// The kinds of alarms.
const (
	Overdue       = "overdue"
	Failed        = "failed"
	Shrunken      = "shrunken"
	Grown         = "grown"
	MassChange    = "mass-change"
	Scrambled     = "scrambled"
	CoreChanged   = "core-changed"
	Planted       = "planted"
	Damaged       = "damage"
	Onsite        = "nothing-offsite"
	Behind        = "pending"
	NeverVerified = "never-verified"
	NeverTried    = "never-rehearsed"
	DiskFilling   = "disk-filling"
	WrongClock    = "clock"
	UntriedKey    = "key-untried"
	StoreLost     = "store-lost"
	NotRestorable = "rehearsal-failed"
	Vanished      = "vanished"
	Backdated     = "backdated"
	DatabaseMoved = "database-moved"
	Forged        = "forged"
	DumpOld       = "dump-old"
	NotLinked     = "not-linked"
	LeadsOut      = "leads-out"
)

// Meaning is what an alarm means to a person.
type Meaning struct {
	// Why it matters. What to do about it depends on who tells: see Kinds.
	Why string
	// Stops tells that nothing is removed while it has not been accepted.
	Stops bool
}

var meanings = map[string]Meaning{
	Overdue:       {"a schedule that has stopped leaves you with old archives, or none", false},
	Failed:        {"a turn that fails leaves the last archive to grow old", false},
	Shrunken:      {"what is missing now may be gone from the site, and the older archives may be the only ones that have it", true},
	Grown:         {"a sudden growth fills stores; it may be a log, a cache or somebody else's files", false},
	MassChange:    {"many files replaced at once, with no update, is what an intruder or a broken script leaves", true},
	Scrambled:     {"text that cannot be compressed any more has probably been encrypted by somebody else", true},
	CoreChanged:   {"the CMS's own files change with its updates only; else somebody has edited them", true},
	Planted:       {"a file that the web server may run has no business among uploads", true},
	Damaged:       {"a damaged archive does not restore", true},
	Onsite:        {"a copy on the site's own machine dies with it", false},
	Behind:        {"an archive that has not come to all of its stores is less safe than it should be", false},
	NeverVerified: {"an archive that nobody has ever read may not be readable", false},
	NeverTried:    {"a backup that was never put back is a hope", false},
	DiskFilling:   {"with a full disk no archive can be taken", false},
	WrongClock:    {"with a wrong clock nobody can tell which archive is old", true},
	NotRestorable: {"an archive that does not restore is of no use on the day it is needed", true},
	StoreLost:     {"an empty mount point, or another disk, in a store's place would take the next archives and hide those that there are", true},
	Vanished:      {"somebody else deletes archives: a mistake, or an intruder who wants none left", true},
	DatabaseMoved: {"settings that lead elsewhere would put somebody else's database into the archives; until it is confirmed, no archive is taken", true},
	Forged:        {"somebody has put archives into a store that no machine known here has signed", true},
	DumpOld:       {"the archives hold the database as the host's job left it last: if that has stopped, they hold an old one", false},
	NotLinked:     {"until somebody says yes again, no archive comes to that store", false},
	LeadsOut:      {"what lies behind a link that leads out of the site's folders is in no archive: with it gone, the site does not come back whole", false},
	Backdated:     {"an archive that claims a time long past could push out the real one of that day", true},
	UntriedKey:    {"without its key nobody can read an encrypted archive", false},
}

// Meant returns what a kind of alarm means; false when there is no such kind.
func Meant(kind string) (Meaning, bool) {
	m, ok := meanings[kind]
	return m, ok
}

// Kinds are all kinds of alarms, in order.
func Kinds() []string {
	var all []string
	for kind := range meanings {
		all = append(all, kind)
	}
	slices.Sort(all)
	return all
}

// Facts are what is known of a site at a moment.
type Facts struct {
	Now    time.Time
	Zone   *time.Location
	Spread time.Duration
	Duties []schedule.Duty
	// States is what is known of duties, by their wording.
	States map[string]history.DutyState
	// Archives are newest first; those that are gone have no copy left.
	Archives []history.Archive
	// Bad names the archives that are known to be damaged, with the stores.
	Bad       map[string][]string
	Proofs    map[string][]history.Proof
	Pending   []history.Pending
	Rehearsed *history.Rehearsal
	// Runs are the latest, newest first.
	Runs []history.Run
	// Restored is when the site was last put back, zero if never.
	Restored time.Time
	Stores   []Store
	// Forged says which archives nobody known has signed, if there are any.
	Forged string
	// DatabaseMoved says which databases the site's settings lead to that nobody has
	// confirmed, if there are any.
	DatabaseMoved string
	// DumpOld says which dumps of the site's host are older than they may be, if any are.
	DumpOld string
	// NotLinked says which stores somebody has to link, if there are any.
	NotLinked string
	// LeadsOut says which links of the site lead out of its folders, as of the last archive, if there are any.
	LeadsOut string
	// KeyUntried is set when archives are encrypted and the key was never tried.
	KeyUntried bool
}

// Store is a place where a site's archives are held.
type Store struct {
	Name    string
	Offsite bool
	// Lost says why it is not the store that it was, if it is not.
	Lost string
	// Free is how many bytes it has room for, negative if that is not known.
	Free int64
}

// State finds what holds at this moment.
func State(f Facts) []history.Finding {
	var all []history.Finding
	for _, find := range []func(Facts) (kind, detail string){
		overdue, failed, damaged, onsite, behind, neverVerified, neverTried, notRestorable, diskFilling, wrongClock, untriedKey, storeLost, databaseMoved, forged, dumpOld, notLinked, leadsOut,
	} {
		if kind, detail := find(f); detail != "" {
			all = append(all, history.Finding{Kind: kind, Detail: detail})
		}
	}
	return all
}

func notLinked(f Facts) (kind, detail string) { return NotLinked, f.NotLinked }

func leadsOut(f Facts) (kind, detail string) { return LeadsOut, f.LeadsOut }

func forged(f Facts) (kind, detail string) { return Forged, f.Forged }

func dumpOld(f Facts) (kind, detail string) { return DumpOld, f.DumpOld }

func databaseMoved(f Facts) (kind, detail string) { return DatabaseMoved, f.DatabaseMoved }

// existing are the archives that some store still has.
func (f Facts) existing() []history.Archive {
	return slices.DeleteFunc(slices.Clone(f.Archives), func(a history.Archive) bool { return !a.Exists() })
}

func (f Facts) moment(t time.Time) string { return t.In(f.Zone).Format("2 Jan 2006 15:04") }

// satisfies tells whether an archive's scope does what a duty asks for.
func satisfies(scope string, w schedule.Work) bool {
	return scope == string(w) || scope == string(schedule.Full)
}

// lastDone is when what a duty asks for was last done, by whatever command.
func (f Facts) lastDone(d schedule.Duty) time.Time {
	last := time.Time{}
	if s := f.States[d.String()]; s.Outcome != history.Failed {
		last = s.Started
	}
	if !d.Work.Takes() {
		return last
	}
	for _, a := range f.Archives {
		if satisfies(a.Scope, d.Work) && a.Taken.After(last) && !a.Taken.After(f.Now) {
			last = a.Taken
		}
	}
	return last
}

func overdue(f Facts) (string, string) {
	var late []string
	for _, d := range f.Duties {
		last := f.lastDone(d)
		seen := f.States[d.String()].Seen
		if last.Before(seen) {
			last = seen
		}
		if last.IsZero() {
			continue
		}
		due := d.Next(last, f.Zone, f.Spread)
		if due.IsZero() || f.Now.Before(d.Late(due, f.Zone)) {
			continue
		}
		late = append(late, fmt.Sprintf("`%s` was due on %s", d, f.moment(due)))
	}
	return Overdue, strings.Join(late, "; ")
}

func failed(f Facts) (string, string) {
	var all []string
	for _, d := range f.Duties {
		if s := f.States[d.String()]; s.Outcome == history.Failed && !f.lastDone(d).After(s.Started) {
			line, _, _ := strings.Cut(s.Detail, "\n")
			all = append(all, fmt.Sprintf("`%s` on %s: %s", d, f.moment(s.Since()), line))
		}
	}
	// By hand: the last one, as long as nothing was taken since.
	if i := slices.IndexFunc(f.Runs, func(r history.Run) bool { return r.Command == "backup" && r.Outcome != history.Interrupted }); i >= 0 && f.Runs[i].Outcome == history.Failed && f.Runs[i].Duty == "" {
		r := f.Runs[i]
		line, _, _ := strings.Cut(r.Detail, "\n")
		all = append(all, fmt.Sprintf("a backup by %s on %s: %s", cmp.Or(r.Origin, "hand"), f.moment(r.Started), line))
	}
	return Failed, strings.Join(all, "; ")
}

func damaged(f Facts) (string, string) {
	var all []string
	for _, a := range f.existing() {
		if stores := f.Bad[a.Name]; len(stores) > 0 {
			all = append(all, a.Name+" in "+strings.Join(stores, ", "))
		}
	}
	return Damaged, Some(all, 5)
}

// Some joins the first of many.
func Some(all []string, most int) string {
	if len(all) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(all[:most], "; "), len(all)-most)
	}
	return strings.Join(all, "; ")
}

func storeLost(f Facts) (string, string) {
	var all []string
	for _, s := range f.Stores {
		if s.Lost != "" {
			all = append(all, "store "+s.Name+": "+s.Lost)
		}
	}
	return StoreLost, strings.Join(all, "; ")
}

func onsite(f Facts) (string, string) {
	if !slices.ContainsFunc(f.Stores, func(s Store) bool { return s.Offsite }) {
		return Onsite, "every store of the site is on its own machine"
	}
	archives := f.existing()
	if len(archives) == 0 {
		return Onsite, ""
	}
	for _, a := range archives {
		if slices.ContainsFunc(f.Stores, func(s Store) bool { return s.Offsite && a.In(s.Name) }) {
			return Onsite, ""
		}
	}
	return Onsite, "no archive has come to a store elsewhere yet"
}

// shortWait is how long an archive may be pending without an alarm.
const shortWait = 26 * time.Hour

func behind(f Facts) (string, string) {
	oldest := map[string]time.Time{}
	counts := map[string]int{}
	for _, p := range f.Pending {
		counts[p.Store]++
		if t, ok := oldest[p.Store]; !ok || p.Since.Before(t) {
			oldest[p.Store] = p.Since
		}
	}
	var all []string
	for name, since := range oldest {
		if f.Now.Sub(since) > shortWait {
			all = append(all, fmt.Sprintf("store %s lacks %d since %s", name, counts[name], f.moment(since)))
		}
	}
	slices.Sort(all)
	return Behind, strings.Join(all, "; ")
}

const (
	// longUnread is how old the oldest archive may be when none was ever verified,
	// longUntried the same for putting one back.
	longUnread  = 8 * 24 * time.Hour
	longUntried = 92 * 24 * time.Hour
)

func neverVerified(f Facts) (string, string) {
	archives := f.existing()
	if len(archives) == 0 || f.Now.Sub(f.Archives[len(f.Archives)-1].Taken) < longUnread {
		return NeverVerified, ""
	}
	for _, a := range f.Archives {
		if slices.ContainsFunc(f.Proofs[a.Name], func(p history.Proof) bool { return p.Level != "quick" }) {
			return NeverVerified, ""
		}
	}
	return NeverVerified, fmt.Sprintf("of %d archives none was ever read again", len(archives))
}

func neverTried(f Facts) (string, string) {
	if len(f.Archives) == 0 || f.Rehearsed != nil || !f.Restored.IsZero() {
		return NeverTried, ""
	}
	first := f.Archives[len(f.Archives)-1].Taken
	if f.Now.Sub(first) < longUntried {
		return NeverTried, ""
	}
	return NeverTried, "archives are taken since " + f.moment(first) + ", and none was ever put back"
}

func notRestorable(f Facts) (string, string) {
	if f.Rehearsed == nil || f.Rehearsed.Passed {
		return NotRestorable, ""
	}
	line, _, _ := strings.Cut(f.Rehearsed.Detail, "\n")
	return NotRestorable, fmt.Sprintf("%s, tried on %s: %s", f.Rehearsed.Archive, f.moment(f.Rehearsed.At), line)
}

const (
	// window is how far back growth is measured, soon how near a full disk must
	// be for an alarm.
	window = 30 * 24 * time.Hour
	soon   = 21 * 24 * time.Hour
)

// FullOn estimates when a store will be full, from what archives of the last
// month have added and what was removed; the zero time means not in sight.
func (f Facts) FullOn(s Store) time.Time {
	if s.Free < 0 {
		return time.Time{}
	}
	begin := f.Now.Add(-window)
	first := f.Now
	grown := int64(0)
	for _, a := range f.Archives {
		for _, c := range a.Copies {
			if c.Store != s.Name {
				continue
			}
			if a.Taken.After(begin) && !a.Taken.After(f.Now) {
				grown += a.NewBytes
				if a.Taken.Before(first) {
					first = a.Taken
				}
			}
			if c.Gone.After(begin) {
				grown -= a.NewBytes
			}
		}
	}
	past := f.Now.Sub(first)
	if grown <= 0 || past < 24*time.Hour {
		return time.Time{}
	}
	left := float64(s.Free) / float64(grown) * float64(past)
	if left > float64(10*365*24*time.Hour) {
		return time.Time{}
	}
	return f.Now.Add(time.Duration(left))
}

func diskFilling(f Facts) (string, string) {
	var all []string
	for _, s := range f.Stores {
		full := f.FullOn(s)
		var newest int64
		if existing := f.existing(); len(existing) > 0 {
			newest = existing[0].StoredBytes
		}
		switch {
		case s.Free >= 0 && s.Free < newest:
			all = append(all, fmt.Sprintf("store %s has %s left, less than one whole archive takes", s.Name, humanize.Bytes(uint64(s.Free))))
		case !full.IsZero() && full.Sub(f.Now) < soon:
			all = append(all, fmt.Sprintf("store %s has %s left and will be full about %s", s.Name, humanize.Bytes(uint64(s.Free)), full.In(f.Zone).Format("2 Jan 2006")))
		}
	}
	return DiskFilling, strings.Join(all, "; ")
}

func wrongClock(f Facts) (string, string) {
	for _, a := range f.existing() {
		if a.Taken.After(f.Now.Add(time.Hour)) {
			return WrongClock, fmt.Sprintf("%s is dated in the future; it is %s now", a.Name, f.moment(f.Now))
		}
	}
	return WrongClock, ""
}

func untriedKey(f Facts) (string, string) {
	if f.KeyUntried && len(f.existing()) > 0 {
		return UntriedKey, "the archives are encrypted, and their key was never tried"
	}
	return UntriedKey, ""
}

const (
	// compared is how many archives before suggest what is usual.
	compared = 8
	// lessShare and moreShare are the changes in size that are always usual,
	// fewFiles and fewBytes differences too small to matter.
	lessShare = 0.30
	moreShare = 1.00
	fewFiles  = 10
	fewBytes  = 20 << 10
	// massShare of all files, and at least massFiles, replaced or gone at once is
	// many.
	massShare = 0.30
	massFiles = 10
)

// lateArrival is how old an archive may be when another machine's keeper sees it first.
const lateArrival = 7 * 24 * time.Hour

// OfArrival finds what is unusual about an archive that another machine has taken, when it
// is first seen; seen are those of the site that were known before. A machine that was
// taken over can sign whatever it likes.
func OfArrival(a history.Archive, seen []history.Archive, now time.Time) []history.Finding {
	if len(seen) == 0 {
		return nil
	}
	all := OfArchive(a, seen)
	if now.Sub(a.Taken) > lateArrival {
		all = append(all, history.Finding{Kind: Backdated, Archive: a.Name,
			Detail: fmt.Sprintf("%s came to light now, and says that it was taken %s ago", a.Name, humanize.RelTime(a.Taken, now, "", ""))})
	}
	return all
}

// OfArchive finds what is unusual about a new archive, beside those before it,
// newest first.
func OfArchive(a history.Archive, before []history.Archive) []history.Finding {
	var alike []history.Archive
	for _, b := range before {
		if b.Scope == a.Scope && !b.Taken.After(a.Taken) && b.Name != a.Name && len(alike) < compared {
			alike = append(alike, b)
		}
	}
	var all []history.Finding
	add := func(kind, detail string) {
		if detail != "" {
			all = append(all, history.Finding{Kind: kind, Detail: detail, Archive: a.Name})
		}
	}
	less, more := unusual(a, alike)
	add(Shrunken, strings.Join(less, "; "))
	add(Grown, strings.Join(more, "; "))
	if c := a.Changes; c != nil {
		add(MassChange, massChange(c))
		add(Scrambled, named(c.Scrambled, "text can no longer be compressed", "texts can no longer be compressed"))
		if c.SameVersion {
			add(CoreChanged, named(c.Core, "file of the CMS itself differs", "files of the CMS itself differ"))
		}
		add(Planted, named(c.Planted, "file that can be run is new among the uploads", "files that can be run are new among the uploads"))
	}
	return all
}

func massChange(c *changes.Changes) string {
	touched := c.Changed + c.Removed
	if !c.SameVersion || touched < massFiles || float64(touched) < massShare*float64(c.Files) {
		return ""
	}
	return fmt.Sprintf("of %d files %d were replaced and %d removed since %s", c.Files, c.Changed, c.Removed, c.Before)
}

func named(n changes.Named, one, many string) string {
	if n.Count == 0 {
		return ""
	}
	text := fmt.Sprintf("%d %s: ", n.Count, many)
	if n.Count == 1 {
		text = "1 " + one + ": "
	}
	shown := n.Names[:min(len(n.Names), 3)]
	text += strings.Join(shown, ", ")
	if more := n.Count - int64(len(shown)); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// unusual words which sizes are far below or above the usual.
func unusual(a history.Archive, before []history.Archive) (less, more []string) {
	if len(before) == 0 {
		return nil, nil
	}
	plain := func(n int64) string { return humanize.Comma(n) }
	bytes := func(n int64) string { return humanize.Bytes(uint64(n)) }
	for _, m := range []struct {
		what  string
		of    func(history.Archive) int64
		few   int64
		words func(int64) string
	}{
		{"files", func(a history.Archive) int64 { return a.Files }, fewFiles, plain},
		{"size of files", func(a history.Archive) int64 { return a.FileBytes }, fewBytes, bytes},
		{"size of the database", func(a history.Archive) int64 { return a.DatabaseBytes }, fewBytes, bytes},
	} {
		usual, spread := middle(before, m.of)
		got := m.of(a)
		if usual == 0 || max(got-usual, usual-got) < m.few {
			continue
		}
		share := float64(got-usual) / float64(usual)
		text := fmt.Sprintf("%s: %s, usually about %s", m.what, m.words(got), m.words(usual))
		switch {
		case share < -max(lessShare, 2*spread):
			less = append(less, text)
		case share > max(moreShare, 3*spread):
			more = append(more, text)
		}
	}
	return less, more
}

// middle is the median of a measure and the largest relative distance from it.
func middle(all []history.Archive, of func(history.Archive) int64) (usual int64, spread float64) {
	values := make([]int64, len(all))
	for i, a := range all {
		values[i] = of(a)
	}
	slices.SortFunc(values, cmp.Compare[int64])
	usual = values[len(values)/2]
	if usual == 0 {
		return 0, 0
	}
	for _, v := range values {
		spread = max(spread, float64(max(v-usual, usual-v))/float64(usual))
	}
	return usual, spread
}
