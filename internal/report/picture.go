package report

import (
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"

	"stilltide/internal/core/history"
)

// scale is how many dots of a picture are a pixel of a page.
const scale = 1.5

// picture is a surface of dots.
type picture struct {
	dots   *image.RGBA
	raster vector.Rasterizer
	origin point // where what is drawn begins, in pixels
}

// The measures of what is around a picture's chart, in pixels.
const (
	margin = 16.0
	titled = 34.0
)

// drawPicture draws a chart with its title, on white.
func drawPicture(c *chart, title string, width, height float64) image.Image {
	dots := image.Rect(0, 0, int((width+2*margin)*scale), int((height+titled+2*margin)*scale))
	p := &picture{dots: image.NewRGBA(dots), origin: point{margin, margin}}
	draw.Draw(p.dots, dots, image.White, image.Point{}, draw.Src)
	p.text(point{0, small}, start, 16, title)
	p.origin.y += titled
	c.draw(p, width, height)
	return p.dots
}

// at is a point in dots.
func (p *picture) at(of point) (x, y float64) {
	return (of.x + p.origin.x) * scale, (of.y + p.origin.y) * scale
}

func (p *picture) fill(outline []point, r role) {
	in := p.bounds(outline)
	p.raster.Reset(in.Dx(), in.Dy())
	for i, one := range outline {
		x, y := p.at(one)
		x, y = x-float64(in.Min.X), y-float64(in.Min.Y)
		if i == 0 {
			p.raster.MoveTo(float32(x), float32(y))
		} else {
			p.raster.LineTo(float32(x), float32(y))
		}
	}
	p.raster.ClosePath()
	p.raster.Draw(p.dots, in, image.NewUniform(onWhite(r)), image.Point{})
}

// bounds are the dots that an outline touches.
func (p *picture) bounds(outline []point) (in image.Rectangle) {
	for _, one := range outline {
		x, y := p.at(one)
		in = in.Union(image.Rect(int(x), int(y), int(math.Ceil(x))+1, int(math.Ceil(y))+1))
	}
	return in.Intersect(p.dots.Bounds())
}

// line draws each part as a long rectangle; marks lie where they meet.
func (p *picture) line(along []point, width float64, r role) {
	for i := 1; i < len(along); i++ {
		a, b := along[i-1], along[i]
		long := math.Hypot(b.x-a.x, b.y-a.y)
		if long == 0 {
			continue
		}
		dx, dy := -(b.y-a.y)/long*width/2, (b.x-a.x)/long*width/2
		p.fill([]point{{a.x + dx, a.y + dy}, {b.x + dx, b.y + dy}, {b.x - dx, b.y - dy}, {a.x - dx, a.y - dy}}, r)
	}
}

func (p *picture) text(at point, a align, size float64, text string) {
	switch long := p.width(size, text); a {
	case middle:
		at.x -= long / 2
	case end:
		at.x -= long
	}
	x, y := p.at(at)
	d := font.Drawer{Dst: p.dots, Src: image.NewUniform(onWhite(ink)), Face: face(size * scale),
		Dot: fixed.Point26_6{X: fixed.Int26_6(x * 64), Y: fixed.Int26_6(y * 64)}}
	d.DrawString(text)
}

func (p *picture) width(size float64, text string) float64 { return textWidth(size, text) }

// textWidth is the width of a text in pixels.
func textWidth(size float64, text string) float64 {
	return float64(font.MeasureString(face(size*scale), text)) / 64 / scale
}

// goRegular is the font of the pictures.
var goRegular = sync.OnceValue(func() *opentype.Font {
	f, err := opentype.Parse(goregular.TTF)
	if err != nil {
		panic(err) // it is part of the program
	}
	return f
})

// face is that font in a size in dots.
func face(size float64) font.Face {
	f, err := opentype.NewFace(goRegular(), &opentype.FaceOptions{Size: size, DPI: 72})
	if err != nil {
		panic(err) // only for a size that is none
	}
	return f
}

// onWhite is the colour of a role in a picture.
func onWhite(r role) color.Color { return colours[r].light }

// PNG writes each plot as a picture into a folder and names the files.
func PNG(s *history.Summary, folder string) ([]string, error) {
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return nil, err
	}
	var names []string
	for _, f := range figures(s) {
		name := filepath.Join(folder, f.name+".png")
		if err := writePNG(name, drawPicture(f.chart(false), f.title, wide, f.high)); err != nil {
			return names, err
		}
		names = append(names, name)
	}
	return names, nil
}

func writePNG(name string, p image.Image) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	if err := png.Encode(f, p); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}
