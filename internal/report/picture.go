package report

import (
	"bytes"
	"image/color"
	"os"
	"path/filepath"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"stilltide/internal/core/history"
)

// picture is a plot with its legend above it, where it covers nothing.
type picture struct {
	*plot.Plot
	legend []entry
	style  text.Style  // of the legend
	title  string      // above all, "" for none
	ground color.Color // nil for that of the page
}

// entry is one part of the legend.
type entry struct {
	name   string
	thumbs []plot.Thumbnailer
}

// explain adds what some mark stands for to the legend.
func (p *picture) explain(name string, thumbs ...plot.Thumbnailer) {
	p.legend = append(p.legend, entry{name, thumbs})
}

// The measures of a legend, in points.
const (
	rowHeight   = vg.Length(16)
	swatch      = vg.Length(14)
	afterSwatch = vg.Length(4)
	afterName   = vg.Length(16)
)

// drawOn draws title, legend and plot, from the top.
func (p *picture) drawOn(c draw.Canvas) {
	if p.ground != nil {
		c.SetColor(p.ground)
		c.Fill(c.Rectangle.Path())
	}
	top := c.Max.Y
	if p.title != "" {
		style := p.style
		style.Font.Size = 12
		c.FillText(style, vg.Point{X: c.Min.X + afterSwatch, Y: top - rowHeight}, p.title)
		top -= rowHeight + afterSwatch
	}
	top = p.drawLegend(c, top)
	p.Draw(draw.Crop(c, 0, 0, 0, top-c.Max.Y))
}

// drawLegend draws the legend in rows from a height down, and returns where it ends.
func (p *picture) drawLegend(c draw.Canvas, top vg.Length) vg.Length {
	x := c.Min.X + afterSwatch
	for _, e := range p.legend {
		wide := swatch + afterSwatch + p.style.Width(e.name)
		if x > c.Min.X+afterSwatch && x+wide > c.Max.X {
			x, top = c.Min.X+afterSwatch, top-rowHeight
		}
		box := vg.Rectangle{Min: vg.Point{X: x, Y: top - rowHeight + 4}, Max: vg.Point{X: x + swatch, Y: top - 3}}
		for _, thumb := range e.thumbs {
			thumb.Thumbnail(&draw.Canvas{Canvas: c.Canvas, Rectangle: box})
		}
		c.FillText(p.style, vg.Point{X: x + swatch + afterSwatch, Y: top - rowHeight + 4}, e.name)
		x += wide + afterName
	}
	return top - rowHeight - afterSwatch
}

// svg draws a figure as SVG.
func (f figure) svg(t theme, narrow bool) (string, error) {
	p, err := f.draw(t, narrow)
	if err != nil {
		return "", err
	}
	width := map[bool]vg.Length{false: wide, true: small}[narrow]
	c := vgsvg.New(width, f.high(narrow))
	p.drawOn(draw.New(c))
	var b bytes.Buffer
	if _, err := c.WriteTo(&b); err != nil {
		return "", err
	}
	text := b.String()
	if at := bytes.Index(b.Bytes(), []byte("<svg")); at >= 0 {
		text = text[at:] // inside a page there is no XML declaration
	}
	return text, nil
}

// PNG writes each plot as a picture into a folder and names the files.
func PNG(s *history.Summary, folder string) ([]string, error) {
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return nil, err
	}
	var names []string
	for _, f := range figures(s) {
		p, err := f.draw(light, false)
		if err != nil {
			return names, err
		}
		p.ground, p.title = color.White, f.title
		c := vgimg.NewWith(vgimg.UseWH(wide, f.high(false)+0.3*vg.Inch), vgimg.UseDPI(144))
		p.drawOn(draw.New(c))
		name := filepath.Join(folder, f.name+".png")
		if err := writePNG(name, c); err != nil {
			return names, err
		}
		names = append(names, name)
	}
	return names, nil
}

func writePNG(name string, c *vgimg.Canvas) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	if _, err := (vgimg.PngCanvas{Canvas: c}).WriteTo(f); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}
