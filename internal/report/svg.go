package report

import (
	"fmt"
	"html"
	"strings"
)

// svg is a surface inside a page (SVG 2), whose style sheet has a custom property for each role.
type svg struct{ strings.Builder }

// drawSVG draws a chart as an svg element.
func drawSVG(c *chart, width, height float64) string {
	var s svg
	fmt.Fprintf(&s, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %.0f %.0f">`, width, height)
	c.draw(&s, width, height)
	s.WriteString("</svg>")
	return s.String()
}

func (s *svg) fill(outline []point, r role) {
	fmt.Fprintf(s, `<polygon points="%s" style="fill:var(--%s)"/>`, places(outline), r)
}

func (s *svg) line(along []point, width float64, r role) {
	fmt.Fprintf(s, `<polyline points="%s" style="fill:none;stroke:var(--%s);stroke-width:%g"/>`, places(along), r, width)
}

func (s *svg) text(at point, a align, size float64, text string) {
	fmt.Fprintf(s, `<text x="%.1f" y="%.1f" style="fill:var(--ink);font-size:%gpx;text-anchor:%s">%s</text>`, at.x, at.y,
		size, a, html.EscapeString(text))
}

// width is that of the same text in a picture: what font the page's reader has is not known.
func (s *svg) width(size float64, text string) float64 { return textWidth(size, text) }

func places(list []point) string {
	var b strings.Builder
	for i, p := range list {
		if i > 0 {
			b.WriteByte(' ')
		}
		fmt.Fprintf(&b, "%.1f,%.1f", p.x, p.y)
	}
	return b.String()
}
