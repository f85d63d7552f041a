package report

import (
	"fmt"
	"html/template"
	"image/color"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/history"
)

// colour is one on light ground and on dark.
type colour struct{ light, dark color.RGBA }

// colours are those of the roles; the outcomes' can be told apart by people who do not see
// all colours.
var colours = map[role]colour{
	ink: hex(0x24313a, 0xdbe4ea), grid: hex(0xd9dfe3, 0x36424b),
	median: hex(0x0b6fa4, 0x5bb8ec), upper: hex(0xc05a12, 0xf2a065),
	"processed": hex(0x1b8a6b, 0x3fbf98), "failed": hex(0xc8401f, 0xff7a59), "skipped": hex(0x8a949b, 0x95a1a9),
	"vanished": hex(0xb07aa1, 0xd3a0c6), "cancelled": hex(0xd69a1e, 0xf0bf55), "reverted": hex(0x4a7fb5, 0x86b3de),
}

func hex(light, dark uint32) colour { return colour{rgb(light), rgb(dark)} }

func rgb(hex uint32) color.RGBA {
	return color.RGBA{uint8(hex >> 16), uint8(hex >> 8), uint8(hex), 255}
}

// properties are the colours as custom properties of a style sheet.
func properties(of func(colour) color.RGBA) template.CSS {
	var b strings.Builder
	for _, r := range slices.Sorted(maps.Keys(colours)) {
		at := of(colours[r])
		fmt.Fprintf(&b, "--%s: #%02x%02x%02x; ", r, at.R, at.G, at.B)
	}
	return template.CSS(b.String())
}

// figure is one plot of the page.
type figure struct {
	name, title string
	chart       func(narrow bool) *chart
	high        float64
}

// wide and slim are the widths of a plot, in pixels of the page.
const (
	wide = 920.0
	slim = 430.0
)

func figures(s *history.Summary) []figure {
	const usual = 290.0
	rules := s.Rules()
	rules = rules[:min(len(rules), maxRulesDrawn)]
	return []figure{
		{"outcomes", "Jobs by outcome, a bar for each " + every(s.Step), func(narrow bool) *chart {
			return outcomes(s, narrow)
		}, usual},
		{"waiting", "Waiting time, from taken to started", func(narrow bool) *chart {
			return times(s, narrow, "waiting time", func(b *history.Figures) history.Spread { return b.Waited() })
		}, usual},
		{"running", "Running time", func(narrow bool) *chart {
			return times(s, narrow, "running time", func(b *history.Figures) history.Spread { return b.Ran() })
		}, usual},
		{"rules", "Jobs by rule and outcome", func(narrow bool) *chart { return byRule(s, rules, narrow) },
			float64(len(rules))*26 + 4*rowHeight},
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

// stack adds bars of counts to a chart, one outcome on the other, each between two places on the
// axis that does not count. It returns how high they are.
func (c *chart) stack(figures []*history.Figures, from, to []float64) (top float64) {
	base := make([]float64, len(figures))
	for _, o := range history.Outcomes {
		any := false
		for i, f := range figures {
			if n := float64(f.Count[o]); n > 0 {
				any = true
				low, high := point{from[i], base[i]}, point{to[i], base[i] + n}
				if c.lying {
					low, high = point{low.y, low.x}, point{high.y, high.x}
				}
				c.bars = append(c.bars, bar{low, high, role(o)})
				base[i] += n
				top = max(top, base[i])
			}
		}
		if any {
			c.legend = append(c.legend, entry{o, role(o), square})
		}
	}
	return top
}

func outcomes(s *history.Summary, narrow bool) *chart {
	c := &chart{x: overTime(s, narrow), y: axis{label: "jobs"}}
	var all []*history.Figures
	var from, to []float64
	between := s.Step.Seconds() * 0.1
	for i := range s.Buckets {
		all = append(all, &s.Buckets[i].Figures)
		at := float64(s.Buckets[i].Start.Unix())
		from, to = append(from, at+between), append(to, at+s.Step.Seconds()-between)
	}
	c.y.to = max(c.stack(all, from, to), 1) * 1.08
	c.y.ticks = counts(c.y.to)
	return c
}

// overTime is the axis of the report's time.
func overTime(s *history.Summary, narrow bool) axis {
	a := axis{from: float64(s.Buckets[0].Start.Unix()), label: "when the job ended",
		to: float64(s.Buckets[len(s.Buckets)-1].Start.Unix()) + s.Step.Seconds()}
	a.ticks = clock(s.Buckets[0].Start, a.from, a.to, map[bool]int{false: 9, true: 4}[narrow])
	return a
}

// times draws the middle and the upper end of times.
func times(s *history.Summary, narrow bool, label string, of func(*history.Figures) history.Spread) *chart {
	c := &chart{x: overTime(s, narrow), y: axis{label: label}}
	high, mid := curve{role: upper, mark: triangle}, curve{role: median, mark: circle}
	top := 0.0
	for i := range s.Buckets {
		b := &s.Buckets[i]
		if b.Jobs() == 0 {
			continue
		}
		v := of(&b.Figures)
		x := float64(b.Start.Unix()) + s.Step.Seconds()/2
		mid.points, high.points = append(mid.points, point{x, v.Median}), append(high.points, point{x, v.P95})
		top = max(top, v.P95)
	}
	c.curves = []curve{high, mid}
	c.legend = []entry{{"95th percentile", upper, triangle}, {"median", median, circle}}
	c.y.to = max(top, 0.001) * 1.08
	c.y.ticks = spans(c.y.to)
	return c
}

func byRule(s *history.Summary, rules []string, narrow bool) *chart {
	c := &chart{lying: true, x: axis{label: "jobs"}, y: axis{to: max(float64(len(rules)), 1)}}
	var all []*history.Figures
	var from, to []float64
	for i, name := range rules {
		at := float64(len(rules) - 1 - i)
		all, from, to = append(all, s.Rule(name)), append(from, at+0.16), append(to, at+0.84)
		label := name
		if most := map[bool]int{false: 28, true: 14}[narrow]; len([]rune(label)) > most {
			label = string([]rune(label)[:most-1]) + "…"
		}
		c.y.ticks = append(c.y.ticks, tick{at + 0.5, label})
	}
	c.x.to = max(c.stack(all, from, to), 1) * 1.04
	c.x.ticks = counts(c.x.to)
	return c
}

// counts are about five round numbers on an axis from 0.
func counts(to float64) (list []tick) {
	step := math.Max(1, nice(to/5))
	for v := 0.0; v <= to; v += step {
		list = append(list, tick{v, fmt.Sprintf("%.0f", v)})
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

// spans are about five round times on an axis of seconds from 0, in the unit that fits.
func spans(to float64) (list []tick) {
	unit, name := 1.0, "s"
	switch {
	case to < 1:
		unit, name = 0.001, "ms"
	case to >= 2*3600:
		unit, name = 3600, "h"
	case to >= 120:
		unit, name = 60, "min"
	}
	step := nice(to / unit / 5)
	for v := 0.0; v*unit <= to; v += step {
		list = append(list, tick{v * unit, fmt.Sprintf("%.4g %s", v, name)})
	}
	return list
}

// marks are the distances that marks may have.
var marks = []time.Duration{
	time.Second, 5 * time.Second, 15 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute,
	30 * time.Minute, time.Hour, 3 * time.Hour,
	6 * time.Hour, 12 * time.Hour, 24 * time.Hour, 48 * time.Hour, 7 * 24 * time.Hour, 14 * 24 * time.Hour,
	28 * 24 * time.Hour, 91 * 24 * time.Hour, 364 * 24 * time.Hour,
}

// clock marks round times on an axis of seconds since 1970, at most so many as there is room for.
func clock(first time.Time, from, to float64, most int) (list []tick) {
	span := time.Duration((to - from) * float64(time.Second))
	step := marks[len(marks)-1]
	for _, m := range marks {
		if int(span/m) < most {
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
	for at := history.Floor(first, step); float64(at.Unix()) <= to; at = history.Next(at, step) {
		if v := float64(at.Unix()); v >= from {
			list = append(list, tick{v, at.Format(format)})
		}
	}
	return list
}
