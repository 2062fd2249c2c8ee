package report

import (
	"bytes"
	"html/template"
	"image/color"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"
)

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// scheme are the colours of a chart, for light or dark paper.
type scheme struct {
	ink, faint color.Color
	lines      []color.Color
}

var (
	light = scheme{color.RGBA{0x3a, 0x42, 0x4d, 255}, color.RGBA{0xdd, 0xe2, 0xe8, 255}, []color.Color{color.RGBA{0x1f, 0x6f, 0xb2, 255}, color.RGBA{0xc2, 0x5e, 0x12, 255}}}
	dark  = scheme{color.RGBA{0xc4, 0xcc, 0xd6, 255}, color.RGBA{0x33, 0x3b, 0x46, 255}, []color.Color{color.RGBA{0x6c, 0xb6, 0xf2, 255}, color.RGBA{0xf2, 0xa3, 0x5e, 255}}}
)

// series is a line of a chart.
type series struct {
	name   string
	points plotter.XYs
}

// chart is a small picture of measures over time.
type chart struct {
	title string
	unit  func(float64) string
	lines []series
}

const (
	chartWidth  vg.Length = 315 // points
	chartHeight vg.Length = 142
)

// sizes and durations chart the archives of a site over time, those that are
// gone included.
func (s *Site) sizes() chart {
	bytes := func(v float64) string { return humanize.Bytes(uint64(max(v, 0))) }
	c := chart{title: "Size in a store", unit: bytes}
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
		return strings.TrimSuffix(strings.TrimRight(humanize.FtoaWithDigits(v, 2), " "), ".") + " s"
	}
	return chart{title: "Time to take", unit: seconds, lines: []series{{"full archives", s.points(func(a Archive) float64 { return a.Seconds })}}}
}

// points are a measure of the full archives, oldest first.
func (s *Site) points(of func(Archive) float64) plotter.XYs {
	var all plotter.XYs
	for _, a := range slices.Backward(s.Archives) {
		if a.Scope == "full" {
			all = append(all, plotter.XY{X: float64(a.Taken.Unix()), Y: of(a)})
		}
	}
	return all
}

// unitTicks labels an axis that begins at 0.
type unitTicks struct{ unit func(float64) string }

// Ticks implements plot.Ticker.
func (u unitTicks) Ticks(low, high float64) []plot.Tick {
	ticks := plot.DefaultTicks{}.Ticks(low, high)
	for i := range ticks {
		if ticks[i].Label != "" {
			ticks[i].Label = u.unit(ticks[i].Value)
		}
	}
	return ticks
}

// dayTicks labels an axis of time with at most five days.
type dayTicks struct{ zone *time.Location }

// Ticks implements plot.Ticker.
func (d dayTicks) Ticks(low, high float64) []plot.Tick {
	const most = 4
	var ticks []plot.Tick
	for i := range most {
		at := low + (high-low)*(float64(i)+0.5)/most
		ticks = append(ticks, plot.Tick{Value: at, Label: time.Unix(int64(at), 0).In(d.zone).Format("2 Jan")})
	}
	return ticks
}

// svg draws the chart in one scheme.
func (c chart) svg(colours scheme, zone *time.Location) (template.HTML, error) {
	p := plot.New()
	p.BackgroundColor = color.Transparent
	p.Title.Text, p.Title.TextStyle.Color = c.title, colours.ink
	p.Title.TextStyle.Font.Size, p.Title.Padding = vg.Points(9), vg.Points(4)
	p.X.Tick.Marker, p.Y.Tick.Marker = dayTicks{zone}, unitTicks{c.unit}
	for _, axis := range []*plot.Axis{&p.X, &p.Y} {
		axis.Color, axis.Tick.Color, axis.Tick.Label.Color = colours.faint, colours.faint, colours.ink
		axis.Tick.Label.Font.Size = vg.Points(7)
		axis.Padding = 0
	}
	p.Legend.Top, p.Legend.Left, p.Legend.TextStyle.Color = false, true, colours.ink
	p.Legend.TextStyle.Font.Size = vg.Points(7)
	grid := plotter.NewGrid()
	grid.Vertical.Width, grid.Horizontal.Color = 0, colours.faint
	p.Add(grid)
	most := 0.0
	for i, l := range c.lines {
		line, err := plotter.NewLine(l.points)
		if err != nil {
			return "", err
		}
		line.Color, line.Width = colours.lines[i], vg.Points(1.3)
		p.Add(line)
		if len(l.points) < 40 {
			dots, err := plotter.NewScatter(l.points)
			if err != nil {
				return "", err
			}
			dots.Color, dots.Shape, dots.Radius = colours.lines[i], draw.CircleGlyph{}, vg.Points(1.6)
			p.Add(dots)
		}
		if len(c.lines) > 1 {
			p.Legend.Add(l.name, line)
		}
		for _, xy := range l.points {
			most = max(most, xy.Y)
		}
	}
	p.Y.Min, p.Y.Max = 0, max(most*1.15, 0.001)
	p.Legend.YOffs = chartHeight / 3 // between what is usually large and what is small
	canvas := vgsvg.New(chartWidth, chartHeight)
	p.Draw(draw.New(canvas))
	var out bytes.Buffer
	if _, err := canvas.WriteTo(&out); err != nil {
		return "", err
	}
	return inline(out.String()), nil
}

var (
	fixedSize  = regexp.MustCompile(`<svg width="[^"]*" height="[^"]*"`)
	fontFamily = regexp.MustCompile(`font-family:[^;"]*;?`)
)

// inline makes a picture part of a page: no prologue, as wide as there is room,
// in the page's own font.
func inline(svg string) template.HTML {
	if i := strings.Index(svg, "<svg"); i > 0 {
		svg = svg[i:]
	}
	svg = fixedSize.ReplaceAllString(svg, "<svg")
	return template.HTML(fontFamily.ReplaceAllString(svg, ""))
}
