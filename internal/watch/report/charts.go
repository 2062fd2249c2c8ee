package report

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// point is a measure at a moment, in seconds since 1970.
type point struct{ at, value float64 }

// series is a line of a chart.
type series struct {
	name   string
	points []point
}

// chart is a small picture of measures over time.
type chart struct {
	id, title string
	unit      func(float64) string
	lines     []series
}

// sizes and durations chart the archives of a site over time, those that are
// gone included.
func (s *Site) sizes() chart {
	bytes := func(v float64) string { return humanize.Bytes(uint64(max(v, 0))) }
	c := chart{id: s.Name + "-sizes", title: "Size in a store", unit: bytes}
	for _, m := range []struct {
		name string
		of   func(Archive) float64
	}{{"whole archive", func(a Archive) float64 { return float64(a.StoredBytes) }}, {"new in it", func(a Archive) float64 { return float64(a.NewBytes) }}} {
		c.lines = append(c.lines, series{m.name, s.points(m.of)})
	}
	return c
}

func (s *Site) durations() chart {
	seconds := func(v float64) string {
		d := time.Duration(v * float64(time.Second))
		if d >= time.Minute {
			return d.Round(time.Second).String()
		}
		return humanize.FtoaWithDigits(v, 2) + " s"
	}
	return chart{id: s.Name + "-times", title: "Time to take", unit: seconds, lines: []series{{"full archives", s.points(func(a Archive) float64 { return a.Seconds })}}}
}

// points are a measure of the full archives, oldest first.
func (s *Site) points(of func(Archive) float64) []point {
	var all []point
	for _, a := range slices.Backward(s.Archives) {
		if a.Scope == "full" {
			all = append(all, point{float64(a.Taken.Unix()), of(a)})
		}
	}
	return all
}

// A picture's size, and how far its axes are from its edges, in its own units: about a pixel each on a
// page of usual width.
const (
	pictureWidth, pictureHeight = 440, 190
	leftEdge, rightEdge         = 62, 12
	topEdge, bottomEdge         = 10, 24
	plotWidth, plotHeight       = pictureWidth - leftEdge - rightEdge, pictureHeight - topEdge - bottomEdge
	// fewDots is up to how many points each has a dot.
	fewDots = 40
)

// label is a text in a picture; line is one of the series.
type label struct {
	X, Y float64
	Text string
}

type drawnLine struct {
	Name, Class, Path string
	Dots              []label
}

// drawn is a chart, ready for the page.
type drawn struct {
	ID, Title, Text string
	Width, Height   int
	Grid, Days      []label
	Left, Right     float64
	Lines           []drawnLine
}

// draw places a chart's lines; the zone is that of its days.
func (c chart) draw(zone *time.Location) drawn {
	first, last, most := math.Inf(1), math.Inf(-1), 0.0
	for _, l := range c.lines {
		for _, p := range l.points {
			first, last, most = min(first, p.at), max(last, p.at), max(most, p.value)
		}
	}
	step := niceStep(most)
	top := max(math.Ceil(most/step), 1) * step
	x := func(at float64) float64 { return leftEdge + plotWidth*share(at-first, last-first) }
	y := func(value float64) float64 { return topEdge + plotHeight*(1-share(value, top)) }
	d := drawn{ID: c.id, Title: c.title, Text: c.text(), Width: pictureWidth, Height: pictureHeight, Left: leftEdge, Right: pictureWidth - rightEdge}
	for value := 0.0; value <= top+step/2; value += step {
		d.Grid = append(d.Grid, label{leftEdge - 6, y(value), c.unit(value)})
	}
	const most4 = 4
	for i := range most4 {
		at := first + (last-first)*(float64(i)+0.5)/most4
		d.Days = append(d.Days, label{x(at), pictureHeight - 6, time.Unix(int64(at), 0).In(zone).Format("2 Jan")})
	}
	for i, l := range c.lines {
		line := drawnLine{Name: l.name, Class: fmt.Sprintf("s%d", i+1)}
		var path strings.Builder
		for j, p := range l.points {
			fmt.Fprintf(&path, "%s%.1f %.1f", map[bool]string{true: "M", false: "L"}[j == 0], x(p.at), y(p.value))
			if len(l.points) < fewDots {
				line.Dots = append(line.Dots, label{x(p.at), y(p.value), ""})
			}
		}
		line.Path = path.String()
		d.Lines = append(d.Lines, line)
	}
	return d
}

// text says what a picture shows to those who do not see it.
func (c chart) text() string {
	var parts []string
	for _, l := range c.lines {
		if len(l.points) == 0 {
			continue
		}
		low := slices.MinFunc(l.points, func(a, b point) int { return cmp.Compare(a.value, b.value) })
		high := slices.MaxFunc(l.points, func(a, b point) int { return cmp.Compare(a.value, b.value) })
		parts = append(parts, fmt.Sprintf("%s: %s to %s, the last %s", l.name, c.unit(low.value), c.unit(high.value), c.unit(l.points[len(l.points)-1].value)))
	}
	return c.title + ". " + strings.Join(parts, "; ") + "."
}

// share is part of whole, and 0.5 of nothing.
func share(part, whole float64) float64 {
	if whole <= 0 {
		return 0.5
	}
	return part / whole
}

// niceStep is 1, 2 or 5 times a power of ten, such that about four of them reach a value.
func niceStep(most float64) float64 {
	if most <= 0 {
		return 1
	}
	rough := most / 4
	power := math.Pow(10, math.Floor(math.Log10(rough)))
	for _, nice := range []float64{1, 2, 5} {
		if rough <= nice*power {
			return nice * power
		}
	}
	return 10 * power
}
