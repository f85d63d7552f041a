package report

import (
	"fmt"
	"image/color"
	"math"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"stilltide/internal/core/history"
)

// theme is a set of colours: for light pages and for dark ones. The outcomes'
// colours can be told apart by people who do not see all colours.
type theme struct {
	ink, grid color.Color
	outcome   map[string]color.Color
	median    color.Color
	upper     color.Color
}

func rgb(hex uint32) color.Color {
	return color.RGBA{uint8(hex >> 16), uint8(hex >> 8), uint8(hex), 255}
}

var light = theme{ink: rgb(0x24313a), grid: rgb(0xd9dfe3), median: rgb(0x0b6fa4), upper: rgb(0xc05a12),
	outcome: map[string]color.Color{
		"processed": rgb(0x1b8a6b), "failed": rgb(0xc8401f), "skipped": rgb(0x8a949b), "vanished": rgb(0xb07aa1),
		"cancelled": rgb(0xd69a1e), "reverted": rgb(0x4a7fb5)}}

var dark = theme{ink: rgb(0xdbe4ea), grid: rgb(0x36424b), median: rgb(0x5bb8ec), upper: rgb(0xf2a065),
	outcome: map[string]color.Color{
		"processed": rgb(0x3fbf98), "failed": rgb(0xff7a59), "skipped": rgb(0x95a1a9), "vanished": rgb(0xd3a0c6),
		"cancelled": rgb(0xf0bf55), "reverted": rgb(0x86b3de)}}

// figure is one plot, drawn as often as the page needs it.
type figure struct {
	name, title string
	draw        func(t theme, narrow bool) (*picture, error)
	high        func(narrow bool) vg.Length
}

// wide and small are the widths of a plot, in points.
const (
	wide  = 9.4 * vg.Inch
	small = 4.4 * vg.Inch
)

func figures(s *history.Summary) []figure {
	usual := func(bool) vg.Length { return 2.9 * vg.Inch }
	rules := s.Rules()
	rules = rules[:min(len(rules), maxRulesDrawn)]
	return []figure{
		{"outcomes", "Jobs by outcome, a bar for each " + every(s.Step), func(t theme, narrow bool) (*picture, error) {
			return outcomes(s, t, narrow), nil
		}, usual},
		{"waiting", "Waiting time, from taken to started", func(t theme, narrow bool) (*picture, error) {
			return times(s, t, narrow, "waiting time", func(b *history.Figures) history.Spread { return b.Waited() })
		}, usual},
		{"running", "Running time", func(t theme, narrow bool) (*picture, error) {
			return times(s, t, narrow, "running time", func(b *history.Figures) history.Spread { return b.Ran() })
		}, usual},
		{"rules", "Jobs by rule and outcome", func(t theme, narrow bool) (*picture, error) {
			return byRule(s, rules, t, narrow), nil
		}, func(bool) vg.Length {
			return vg.Length(len(rules))*0.27*vg.Inch + 1.1*vg.Inch
		}},
	}
}

// maxRulesDrawn bounds the bars of the plot by rule; the table has them all.
const maxRulesDrawn = 15

// every says how wide a bucket is: "day", "5 minutes".
func every(step time.Duration) string {
	units := []struct {
		d    time.Duration
		name string
	}{{7 * 24 * time.Hour, "week"}, {24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"},
		{time.Second, "second"}}
	for _, u := range units {
		if n := int(step / u.d); n == 1 {
			return u.name
		} else if n > 1 {
			return fmt.Sprintf("%d %ss", n, u.name)
		}
	}
	return ""
}

// sheet is an empty plot in a theme.
func sheet(t theme) *picture {
	p := plot.New()
	face := font.Font{Typeface: "Liberation", Variant: "Sans"}
	p.BackgroundColor = nil // that of the page
	p.Title.TextStyle.Font = face
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		a.Color, a.Label.TextStyle.Color, a.Tick.Label.Color, a.Tick.Color = t.ink, t.ink, t.ink, t.ink
		a.Label.TextStyle.Font, a.Tick.Label.Font = face, face
		a.Tick.Label.Font.Size, a.Label.TextStyle.Font.Size = 10, 10
		a.LineStyle.Width, a.Tick.LineStyle.Width = 0.6, 0.6
		a.Label.Padding = 4
	}
	p.Y.Min = 0
	style := p.Legend.TextStyle
	style.Font, style.Color = face, t.ink
	style.Font.Size = 10
	return &picture{Plot: p, style: style}
}

// ruled draws lines across, at the marks of the axis that counts.
func ruled(p *picture, t theme, lying bool) {
	grid := plotter.NewGrid()
	grid.Horizontal.Color, grid.Horizontal.Width = t.grid, 0.5
	grid.Vertical.Color, grid.Vertical.Width = t.grid, 0.5
	if lying {
		grid.Horizontal.Color = nil
	} else {
		grid.Vertical.Color = nil
	}
	p.Add(grid)
}

// bars are a column's parts, drawn from x to x+width.
type bars struct {
	x, width   []float64
	from, upto []float64
	color      color.Color
	lying      bool
}

// Plot draws them.
func (b bars) Plot(c draw.Canvas, p *plot.Plot) {
	trX, trY := p.Transforms(&c)
	for i := range b.x {
		if b.upto[i] == b.from[i] {
			continue
		}
		x0, x1, y0, y1 := trX(b.x[i]), trX(b.x[i]+b.width[i]), trY(b.from[i]), trY(b.upto[i])
		if b.lying {
			x0, x1, y0, y1 = trX(b.from[i]), trX(b.upto[i]), trY(b.x[i]), trY(b.x[i]+b.width[i])
		} else if gap := (x1 - x0) * 0.12; x1-x0 > 3 {
			x0, x1 = x0+gap, x1-gap
		}
		c.FillPolygon(b.color, c.ClipPolygonXY([]vg.Point{{X: x0, Y: y0}, {X: x1, Y: y0}, {X: x1, Y: y1},
			{X: x0, Y: y1}}))
	}
}

// Thumbnail is the legend's swatch.
func (b bars) Thumbnail(c *draw.Canvas) {
	c.FillPolygon(b.color, []vg.Point{{X: c.Min.X, Y: c.Min.Y}, {X: c.Min.X, Y: c.Max.Y}, {X: c.Max.X, Y: c.Max.Y},
		{X: c.Max.X, Y: c.Min.Y}})
}

// stack makes bars of counts, one outcome on the other.
func stack(figures []*history.Figures, x, width []float64, t theme, lying bool) (list []bars, names []string,
	top float64) {
	base := make([]float64, len(figures))
	for _, o := range history.Outcomes {
		b := bars{x: x, width: width, color: t.outcome[o], lying: lying}
		any := false
		for i, f := range figures {
			n := float64(f.Count[o])
			any = any || n > 0
			b.from, b.upto = append(b.from, base[i]), append(b.upto, base[i]+n)
			base[i] += n
			top = max(top, base[i])
		}
		if any {
			list, names = append(list, b), append(names, o)
		}
	}
	return list, names, top
}

func outcomes(s *history.Summary, t theme, narrow bool) *picture {
	p := sheet(t)
	ruled(p, t, false)
	var all []*history.Figures
	var x, width []float64
	for i := range s.Buckets {
		all = append(all, &s.Buckets[i].Figures)
		x = append(x, float64(s.Buckets[i].Start.Unix()))
		width = append(width, s.Step.Seconds())
	}
	list, names, top := stack(all, x, width, t, false)
	for i, b := range list {
		p.Add(b)
		p.explain(names[i], b)
	}
	overTime(p, s, narrow)
	p.Y.Max = max(top, 1) * 1.08
	p.Y.Tick.Marker = counts{}
	p.Y.Label.Text = "jobs"
	return p
}

// overTime lets the X axis be the report's time.
func overTime(p *picture, s *history.Summary, narrow bool) {
	p.X.Min = float64(s.Buckets[0].Start.Unix())
	p.X.Max = float64(s.Buckets[len(s.Buckets)-1].Start.Unix()) + s.Step.Seconds()
	p.X.Tick.Marker = clock{s: s, most: map[bool]int{false: 9, true: 4}[narrow]}
	p.X.Label.Text = "when the job ended"
}

// times draws the middle and the upper end of times.
func times(s *history.Summary, t theme, narrow bool, label string,
	of func(*history.Figures) history.Spread) (*picture, error) {
	p := sheet(t)
	ruled(p, t, false)
	var median, upper plotter.XYs
	top := 0.0
	for i := range s.Buckets {
		b := &s.Buckets[i]
		if b.Jobs() == 0 {
			continue
		}
		v := of(&b.Figures)
		x := float64(b.Start.Unix()) + s.Step.Seconds()/2
		median, upper = append(median, plotter.XY{X: x, Y: v.Median}), append(upper, plotter.XY{X: x, Y: v.P95})
		top = max(top, v.P95)
	}
	for _, l := range []struct {
		name  string
		xy    plotter.XYs
		color color.Color
		shape draw.GlyphDrawer
	}{{"95th percentile", upper, t.upper, draw.TriangleGlyph{}}, {"median", median, t.median, draw.CircleGlyph{}}} {
		if len(l.xy) == 0 {
			continue
		}
		line, points, err := plotter.NewLinePoints(l.xy)
		if err != nil {
			return nil, err
		}
		line.Color, line.Width = l.color, 1.4
		points.Color, points.Shape, points.Radius = l.color, l.shape, 2.4
		p.Add(line, points)
		p.explain(l.name, line, points)
	}
	overTime(p, s, narrow)
	p.Y.Max = max(top, 0.001) * 1.08
	p.Y.Label.Text = label
	p.Y.Tick.Marker = spans{}
	return p, nil
}

func byRule(s *history.Summary, rules []string, t theme, narrow bool) *picture {
	p := sheet(t)
	ruled(p, t, true)
	var all []*history.Figures
	var x, width []float64
	var ticks []plot.Tick
	for i, name := range rules {
		at := float64(len(rules) - 1 - i)
		all, x, width = append(all, s.Rule(name)), append(x, at+0.16), append(width, 0.68)
		label := name
		if most := map[bool]int{false: 28, true: 14}[narrow]; len([]rune(label)) > most {
			label = string([]rune(label)[:most-1]) + "…"
		}
		ticks = append(ticks, plot.Tick{Value: at + 0.5, Label: label})
	}
	list, names, top := stack(all, x, width, t, true)
	for i, b := range list {
		p.Add(b)
		p.explain(names[i], b)
	}
	p.X.Min, p.X.Max, p.Y.Max = 0, max(top, 1)*1.04, max(float64(len(rules)), 1)
	p.X.Label.Text = "jobs"
	p.X.Tick.Marker = counts{}
	p.Y.Tick.Marker = plot.ConstantTicks(ticks)
	p.Y.Tick.Length = 0
	return p
}

// counts marks an axis of whole numbers.
type counts struct{}

// Ticks returns about five round numbers.
func (counts) Ticks(from, to float64) []plot.Tick {
	step := math.Max(1, nice((to-from)/5))
	var list []plot.Tick
	for v := math.Ceil(from/step) * step; v <= to; v += step {
		list = append(list, plot.Tick{Value: v, Label: fmt.Sprintf("%.0f", v)})
	}
	return list
}

// nice rounds up to 1, 2 or 5 times a power of ten.
func nice(v float64) float64 {
	if v <= 0 {
		return 1
	}
	power := math.Pow(10, math.Floor(math.Log10(v)))
	for _, n := range []float64{1, 2, 5} {
		if v <= n*power*1.0000001 {
			return n * power
		}
	}
	return 10 * power
}

// spans marks an axis of seconds in the unit that fits.
type spans struct{}

// Ticks returns about five round times.
func (spans) Ticks(from, to float64) []plot.Tick {
	unit, name := 1.0, "s"
	switch {
	case to < 1:
		unit, name = 0.001, "ms"
	case to >= 2*3600:
		unit, name = 3600, "h"
	case to >= 120:
		unit, name = 60, "min"
	}
	step := nice((to - from) / unit / 5)
	var list []plot.Tick
	for v := 0.0; v*unit <= to; v += step {
		list = append(list, plot.Tick{Value: v * unit, Label: fmt.Sprintf("%.4g %s", v, name)})
	}
	return list
}

// clock marks the time axis at round times.
type clock struct {
	s    *history.Summary
	most int
}

// marks are the distances that marks may have.
var marks = []time.Duration{
	time.Second, 5 * time.Second, 15 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute,
	30 * time.Minute, time.Hour, 3 * time.Hour,
	6 * time.Hour, 12 * time.Hour, 24 * time.Hour, 48 * time.Hour, 7 * 24 * time.Hour, 14 * 24 * time.Hour,
	28 * 24 * time.Hour, 91 * 24 * time.Hour, 364 * 24 * time.Hour,
}

// Ticks returns at most as many marks as there is room for.
func (c clock) Ticks(from, to float64) []plot.Tick {
	span := time.Duration((to - from) * float64(time.Second))
	step := marks[len(marks)-1]
	for _, m := range marks {
		if int(span/m) < c.most {
			step = m
			break
		}
	}
	format := "15:04"
	switch {
	case step < time.Minute:
		format = "15:04:05"
	case step >= 24*time.Hour:
		format = "2 Jan"
	case span > 24*time.Hour:
		format = "2 Jan 15:04"
	}
	var list []plot.Tick
	for at := history.Floor(c.s.Buckets[0].Start, step); float64(at.Unix()) <= to; at = history.Next(at, step) {
		if v := float64(at.Unix()); v >= from {
			list = append(list, plot.Tick{Value: v, Label: at.Format(format)})
		}
	}
	return list
}
