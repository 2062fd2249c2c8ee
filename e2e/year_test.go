package e2e

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/lampblack"
	"revlet/internal/practice/place"
)

const yearConfig = `state: ./state
time_zone: UTC
stores:
  here: {folder: ./archives}
  harbour: %s
sites:
  kestrelpoint:
    root: ./htdocs
    address: %q
    stores: [here, harbour]
    schedule:
      - full, every day at 03:20
      - database, every day at 15:00
    keep:
      - newest 4
      - one per day for 1 week
      - one per week for 1 month
      - one per month for 1 year
`

// everTaken is the history's line of an archive.
type everTaken struct {
	Name, Scope string
	Taken       time.Time
	Stores      []string
}

// keepRule is a rule of the year's policies, as a person would apply it to a list.
type keepRule struct {
	newest int
	period string // a layout that is the same within a period
	oldest time.Time
}

// stay picks the archives of a scope that rules keep: all is newest first.
func stay(all []everTaken, rules []keepRule) map[string]bool {
	keep := map[string]bool{}
	for _, scope := range []string{"full", "database"} {
		var mine []everTaken
		for _, a := range all {
			if a.Scope == scope {
				mine = append(mine, a)
			}
		}
		for _, r := range rules {
			met := map[string]bool{}
			for i, a := range mine {
				period := a.Taken.Format(r.period)
				if r.period == "week" {
					y, w := a.Taken.ISOWeek()
					period = fmt.Sprint(y, w)
				}
				switch {
				case r.newest > 0:
					keep[a.Name] = keep[a.Name] || i < r.newest
				case a.Taken.After(r.oldest) && !met[period]:
					met[period] = true
					keep[a.Name] = true
				}
			}
		}
		keep[mine[0].Name] = true
	}
	return keep
}

// livesADay changes the museum's site so that every day's archive can be told.
func livesADay(t *testing.T, w *world, day int) {
	require.NoError(t, os.WriteFile(w.path("htdocs/uploads/2026/day.txt"), fmt.Appendf(nil, "day %d", day), 0o644))
	statement := fmt.Sprintf("UPDATE settings SET value = 'day %d' WHERE name = 'season'", day)
	require.NoError(t, lampblack.Execute(context.Background(), w.path("htdocs", lampblack.DatabaseFile), statement))
}

// More than a year of days with outages of machine and store, and a bad
// fortnight in which half the site is gone: what is left is what the rules say,
// it can all be restored from, and nothing else takes space.
func TestFourHundredDays(t *testing.T) {
	t.Parallel()
	w, address := museum(t)
	faults := &place.Faults{}
	_, f := standin(w, place.S3, faults, "")
	harbour := strings.TrimSuffix(f.config, "}") + ", keep: [newest 2, one per month for 1 year, one per year for 5 years]}"
	w.write("revlet.yaml", fmt.Sprintf(yearConfig, harbour, address))
	for i := range 14 {
		w.write(fmt.Sprintf("htdocs/uploads/2027/note-%02d.txt", i), strings.Repeat("A note. ", 2000))
	}
	first := time.Date(2025, 9, 17, 0, 0, 0, 0, time.UTC)
	at := func(day, hour int) time.Time { return first.AddDate(0, 0, day).Add(time.Duration(hour) * time.Hour) }
	w.clock = at(-1, 12)
	w.run("duties")
	const days, badFrom, badTo = 400, 250, 264
	taken, archives := map[string]int{}, 0
	for day := range days {
		w.clock = at(day, 4)
		faults.Away.Store(day >= 60 && day < 65 || day >= 200 && day < 203)
		switch day {
		case badFrom:
			require.NoError(t, os.Rename(w.path("htdocs/uploads/2027"), w.path("gone")))
		case badTo:
			require.NoError(t, os.Rename(w.path("gone"), w.path("htdocs/uploads/2027")))
			w.fails(4, []string{"shrunken", "mass-change"}, "status")
			for _, kind := range []string{"shrunken", "mass-change"} {
				w.run("status", "--accept", "kestrelpoint/"+kind, "--why", "they are back")
			}
		}
		if day >= 100 && day < 105 || day > 30 && day%2 == 1 {
			continue // the machine is off; later it is on every other day
		}
		livesADay(t, w, day)
		want := 0
		if faults.Away.Load() {
			want = 3
		}
		r := w.try("--quiet", "due")
		require.Equal(t, want, r.code, "day %d: %s%s", day, r.out, r.err)
		taken[at(day, 4).Format("20060102")] = day
		archives++
		if day%8 == 0 {
			archives++
			w.clock = at(day, 16)
			r = w.try("--quiet", "due")
			require.Equal(t, want, r.code, "day %d: %s%s", day, r.out, r.err)
		}
	}
	var all struct{ Archives []everTaken }
	w.json(&all, "history", "--archives")
	require.Len(t, all.Archives, archives, "the line of every archive stays")

	end := at(days-2, 4)
	periods := map[string][]keepRule{
		"here":    {{newest: 4}, {period: "20060102", oldest: end.AddDate(0, 0, -7)}, {period: "week", oldest: end.AddDate(0, -1, 0)}, {period: "200601", oldest: end.AddDate(-1, 0, 0)}},
		"harbour": {{newest: 2}, {period: "200601", oldest: end.AddDate(-1, 0, 0)}, {period: "2006", oldest: end.AddDate(-5, 0, 0)}},
	}
	var left []string
	for store, rules := range periods {
		want := stay(all.Archives, rules)
		for _, a := range all.Archives {
			assert.Equal(t, want[a.Name], slices.Contains(a.Stores, store), "%s in %s", a.Name, store)
			if a.Scope == "full" && slices.Contains(a.Stores, store) && !slices.Contains(left, a.Name) {
				left = append(left, a.Name)
			}
		}
	}
	noneLeftOver(t, w, f)
	noneLeftOver(t, w, far{dir: w.path("archives")})
	w.run("--quiet", "verify", "--full")
	slices.Sort(left)
	for _, name := range []string{left[0], left[1], left[len(left)/2], left[len(left)-5], left[len(left)-1]} {
		w.run("--quiet", "restore", name, "--yes")
		day := taken[strings.Split(name, "-")[1]]
		data, err := os.ReadFile(w.path("htdocs/uploads/2026/day.txt"))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("day %d", day), string(data), name)
		assert.Contains(t, rows(t, w), fmt.Sprintf("day %d", day), name)
		w.run("settle", "kestrelpoint", "--unsaved", "--yes")
	}
}
