package report

import (
	"math"
)

// role is what a colour stands for: "ink", "grid", a percentile, the outcome of a job.
type role string

const (
	ink    role = "ink"
	grid   role = "grid"
	median role = "median"
	upper  role = "upper"
)

// point is a place on a surface, in pixels of the page (CSS Values 4) from its upper left corner; or
// in a chart's own measures, before it is laid out.
type point struct{ x, y float64 }

// align is the part of a text that stands at its point.
type align string

const (
	start  align = "start"
	middle align = "middle"
	end    align = "end"
)

// surface is what a chart is drawn on.
type surface interface {
	fill(outline []point, r role)
	line(along []point, width float64, r role)
	text(at point, a align, size float64, s string)
	width(size float64, s string) float64
}

// chart is a plot before it is drawn.
type chart struct {
	x, y   axis
	lying  bool // x counts, and not y
	legend []entry
	bars   []bar
	curves []curve
}

// axis is one side of a chart.
type axis struct {
	from, to float64
	label    string
	ticks    []tick
}

type tick struct {
	at    float64
	label string
}

// entry explains a colour.
type entry struct {
	name string
	role role
	mark mark
}

// bar is a rectangle between two corners.
type bar struct {
	from, to point
	role     role
}

// curve is a line with a mark at each of its points.
type curve struct {
	points []point
	role   role
	mark   mark
}

// mark is the shape of a curve's points, so that colour is not all that tells two apart.
type mark int

const (
	square mark = iota // of bars
	circle
	triangle
)

// The measures of a chart, in pixels.
const (
	small     = 12.5 // size of the text
	rowHeight = 22.0
	swatch    = 18.0
	gap       = 6.0
	tickLong  = 6.0
	radius    = 3.2
)

// area is where data is drawn.
type area struct{ left, top, right, bottom float64 }

// draw lays a chart out and draws it.
func (c *chart) draw(s surface, width, height float64) {
	in := c.layOut(s, width, height)
	c.drawLegend(s, width)
	c.drawGrid(s, in)
	for _, b := range c.bars {
		from, to := c.place(in, b.from), c.place(in, b.to)
		s.fill([]point{from, {to.x, from.y}, to, {from.x, to.y}}, b.role)
	}
	for _, l := range c.curves {
		placed := make([]point, len(l.points))
		for i, p := range l.points {
			placed[i] = c.place(in, p)
		}
		s.line(placed, 1.8, l.role)
		for _, p := range placed {
			s.fill(l.mark.around(p, radius), l.role)
		}
	}
	c.drawAxes(s, in)
}

// layOut finds out where data is drawn: what stands around it has its place first.
func (c *chart) layOut(s surface, width, height float64) area {
	widest := 0.0
	for _, t := range c.y.ticks {
		widest = max(widest, s.width(small, t.label))
	}
	in := area{left: widest + gap + tickLong, top: c.rows(s, width)*rowHeight + gap, right: width - 2*swatch,
		bottom: height - rowHeight}
	if c.y.label != "" {
		in.top += rowHeight
	}
	if c.x.label != "" {
		in.bottom -= rowHeight
	}
	return in
}

// place finds a point's place on the surface. What lies beyond the axes is drawn at their ends.
func (c *chart) place(in area, p point) point {
	return point{in.left + c.x.share(p.x)*(in.right-in.left), in.bottom - c.y.share(p.y)*(in.bottom-in.top)}
}

func (a *axis) share(v float64) float64 {
	if a.to <= a.from {
		return 0
	}
	return min(1, max(0, (v-a.from)/(a.to-a.from)))
}

// drawGrid draws a line across at each tick of the axis that counts.
func (c *chart) drawGrid(s surface, in area) {
	if c.lying {
		for _, t := range c.x.ticks {
			at := c.place(in, point{t.at, c.y.from})
			s.line([]point{{at.x, in.top}, {at.x, in.bottom}}, 0.7, grid)
		}
		return
	}
	for _, t := range c.y.ticks {
		at := c.place(in, point{c.x.from, t.at})
		s.line([]point{{in.left, at.y}, {in.right, at.y}}, 0.7, grid)
	}
}

func (c *chart) drawAxes(s surface, in area) {
	s.line([]point{{in.left, in.top}, {in.left, in.bottom}, {in.right, in.bottom}}, 0.9, ink)
	for _, t := range c.y.ticks {
		at := c.place(in, point{c.x.from, t.at})
		if !c.lying {
			s.line([]point{{in.left - tickLong, at.y}, {in.left, at.y}}, 0.9, ink)
		}
		s.text(point{in.left - tickLong - gap/2, at.y + small/3}, end, small, t.label)
	}
	for _, t := range c.x.ticks {
		at := c.place(in, point{t.at, c.y.from})
		s.line([]point{{at.x, in.bottom}, {at.x, in.bottom + tickLong}}, 0.9, ink)
		s.text(point{at.x, in.bottom + tickLong + small}, middle, small, t.label)
	}
	if c.y.label != "" {
		s.text(point{0, in.top - gap - 2}, start, small, c.y.label)
	}
	if c.x.label != "" {
		s.text(point{(in.left + in.right) / 2, in.bottom + rowHeight + small + 2}, middle, small, c.x.label)
	}
}

// drawLegend draws the legend in rows from the top down.
func (c *chart) drawLegend(s surface, width float64) {
	c.eachEntry(s, width, func(e entry, at point) {
		center := point{at.x + swatch/2, at.y - small/3}
		if e.mark == square {
			s.fill(square.around(center, swatch/3), e.role)
		} else {
			s.line([]point{{at.x, center.y}, {at.x + swatch, center.y}}, 1.8, e.role)
			s.fill(e.mark.around(center, radius+0.6), e.role)
		}
		s.text(point{at.x + swatch + gap, at.y}, start, small, e.name)
	})
}

// rows counts those of the legend.
func (c *chart) rows(s surface, width float64) float64 {
	last := 0.0
	c.eachEntry(s, width, func(_ entry, at point) { last = at.y })
	return math.Ceil(last / rowHeight)
}

// eachEntry lists where the entries of the legend begin, and their text stands.
func (c *chart) eachEntry(s surface, width float64, list func(e entry, at point)) {
	at := point{0, rowHeight - gap}
	for _, e := range c.legend {
		long := swatch + gap + s.width(small, e.name)
		if at.x > 0 && at.x+long > width {
			at = point{0, at.y + rowHeight}
		}
		list(e, at)
		at.x += long + swatch
	}
}

// around returns a mark's outline.
func (m mark) around(at point, radius float64) (outline []point) {
	corners, turn := 24, 0.0
	switch m {
	case square:
		corners, turn, radius = 4, math.Pi/4, radius*math.Sqrt2
	case triangle:
		corners, turn, radius = 3, -math.Pi/2, radius*1.4
	}
	for i := range corners {
		sin, cos := math.Sincos(turn + 2*math.Pi*float64(i)/float64(corners))
		outline = append(outline, point{at.x + radius*cos, at.y + radius*sin})
	}
	return outline
}
