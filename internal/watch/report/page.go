package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

//go:embed page.html
var pageText string

// HTML writes the report as one page that needs nothing from elsewhere.
func (p Page) HTML(w io.Writer) error {
	t, err := template.New("report").Funcs(template.FuncMap{
		"when": p.when, "day": func(t time.Time) string { return t.In(p.zone).Format("2 Jan 2006") }, "age": p.age, "bytes": func(n int64) string { return humanize.Bytes(uint64(max(n, 0))) },
		"count": func(n int64) string { return humanize.Comma(n) }, "took": took, "join": strings.Join, "months": p.months, "charts": p.charts,
	}).Parse(pageText)
	if err != nil {
		return err
	}
	return t.Execute(w, p)
}

func (p Page) when(t time.Time) string { return t.In(p.zone).Format("2 Jan 2006 15:04 MST") }

func (p Page) age(t time.Time) string { return humanize.RelTime(t, p.Made, "ago", "from now") }

func took(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", seconds)
	default:
		return d.Round(time.Second).String()
	}
}

// day is one square of the calendar.
type day struct {
	Number int
	// Class says how it looks: out (not in the month), none, gone, part or full. Title says what there is,
	// Said the same in two words, for those who do not see it.
	Class, Title, Said string
}

type month struct {
	Name  string
	Weeks [][]day
}

const (
	monthsShown = 3
	weekdays    = 7
)

// months are the last ones of a site's calendar, oldest first.
func (p Page) months(s Site) []month {
	byDay := map[string][]Archive{}
	for _, a := range s.Archives {
		key := a.Taken.In(p.zone).Format(time.DateOnly)
		byDay[key] = append(byDay[key], a)
	}
	made := p.Made.In(p.zone)
	first := time.Date(made.Year(), made.Month(), 1, 0, 0, 0, 0, p.zone)
	var all []month
	for i := monthsShown - 1; i >= 0; i-- {
		if first.AddDate(0, 1-i, 0).Before(s.oldest()) {
			continue
		}
		all = append(all, p.month(first.AddDate(0, -i, 0), byDay))
	}
	return all
}

// oldest is when the first archive that is known was taken.
func (s *Site) oldest() time.Time {
	if len(s.Archives) == 0 {
		return time.Time{}
	}
	return s.Archives[len(s.Archives)-1].Taken
}

func (p Page) month(first time.Time, byDay map[string][]Archive) month {
	m := month{Name: first.Format("January 2006")}
	start := first.AddDate(0, 0, -(int(first.Weekday())+6)%weekdays)
	for d := start; d.Before(first.AddDate(0, 1, 0)); {
		var week []day
		for range weekdays {
			week = append(week, p.square(d, first.Month(), byDay[d.Format(time.DateOnly)]))
			d = d.AddDate(0, 0, 1)
		}
		m.Weeks = append(m.Weeks, week)
	}
	return m
}

func (p Page) square(d time.Time, in time.Month, archives []Archive) day {
	square := day{Number: d.Day(), Class: "none", Title: d.Format("2 Jan") + ": no archive"}
	if d.Month() != in {
		return day{Class: "out"}
	}
	if d.After(p.Made) {
		square.Class, square.Title = "later", ""
		return square
	}
	rank := []string{"none", "gone", "part", "full", "bad"}
	var words []string
	for _, a := range archives {
		class, is := "gone", "removed since"
		switch {
		case a.Damage && len(a.Stores) > 0:
			class, is = "bad", "DAMAGED"
		case len(a.Stores) > 0 && a.Scope == "full":
			class, is = "full", strings.Join(a.Stores, ", ")
		case len(a.Stores) > 0:
			class, is = "part", strings.Join(a.Stores, ", ")
		}
		if slices.Index(rank, class) > slices.Index(rank, square.Class) {
			square.Class = class
		}
		words = append(words, fmt.Sprintf("%s %s (%s)", a.Taken.In(p.zone).Format("15:04"), a.Scope, is))
	}
	if len(words) > 0 {
		square.Title = d.Format("2 Jan") + ": " + strings.Join(words, "; ")
		square.Said = map[string]string{"gone": "removed since", "part": "files or database only", "full": "full archive", "bad": "DAMAGED"}[square.Class]
	}
	return square
}

// charts are those of a site; fewer than two full archives make none.
func (p Page) charts(s Site) []drawn {
	if len(s.points(func(Archive) float64 { return 0 })) < 2 {
		return nil
	}
	return []drawn{s.sizes().draw(p.zone), s.durations().draw(p.zone)}
}
