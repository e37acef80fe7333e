package draw

import (
	"image/color"
	"sync"
	"unicode/utf8"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	stdfont "golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
)

// surface is what is drawn on, with the origin at the lower left. vgpdf's Canvas
// is one.
type surface interface {
	SetColor(color.Color)
	SetLineWidth(vg.Length)
	SetLineDash(pattern []vg.Length, offset vg.Length)
	Stroke(vg.Path)
	Fill(vg.Path)
	FillString(font.Face, vg.Point, string)
}

// grouper is a surface that keeps parts together, under a title.
type grouper interface {
	begin(title string)
	end()
}

// palette is the colours of drawings. They differ in lightness as well as in hue.
type palette struct {
	ground, plain, faint, line, strong, accent, good, busy, warn, bad, off color.Color
}

func hex(rgb uint32) color.Color {
	return color.NRGBA{uint8(rgb >> 16), uint8(rgb >> 8), uint8(rgb), 0xff}
}

var (
	light = palette{hex(0xffffff), hex(0x3a3a42), hex(0x6f6d74), hex(0xc4c0bb), hex(0x16161c), hex(0xa8500a), hex(0x00735a), hex(0x1f62a8), hex(0xb98a00), hex(0xb3203a), hex(0x85838a)}
	dark  = palette{hex(0x121318), hex(0xc9cbd1), hex(0x8a8e9b), hex(0x4a4e5a), hex(0xf2f3f5), hex(0xf2a65a), hex(0x5cc8a8), hex(0x7fb7f0), hex(0xefd55a), hex(0xff7a85), hex(0x8a8e9b)}
)

// weight is that of a font.
type weight int

const (
	regular weight = iota
	bold
)

// faces are the fonts, parsed when the first drawing is made.
var faces = sync.OnceValue(func() [2]*opentype.Font {
	var out [2]*opentype.Font
	for i, ttf := range [][]byte{liberationsansregular.TTF, liberationsansbold.TTF} {
		f, err := opentype.Parse(ttf)
		if err != nil {
			panic(err) // it is part of the program
		}
		out[i] = f
	}
	return out
})

// typefaces are the names of the weights. To the PDF library they are different
// typefaces: it looks for a bold one under another name than it has given it.
var typefaces = [2]font.Typeface{"Liberation", "LiberationBold"}

func face(size float64, w weight) font.Face {
	return font.Face{Font: font.Font{Typeface: typefaces[w], Variant: "Sans", Size: vg.Length(size)}, Face: faces()[w]}
}

// textWidth returns how wide a text is. What the font has not is as wide as it
// is high.
func textWidth(text string, size float64, w weight) float64 {
	f := faces()[w]
	var buf sfnt.Buffer
	units := f.UnitsPerEm()
	total := 0.0
	for _, r := range text {
		i, err := f.GlyphIndex(&buf, r)
		if err != nil || i == 0 {
			total += size
			continue
		}
		advance, err := f.GlyphAdvance(&buf, i, fixed.I(int(units)), stdfont.HintingNone)
		if err == nil {
			total += float64(advance) / 64 / float64(units) * size
		}
	}
	return total
}

// hasAll reports whether the font has all characters of a text.
func hasAll(text string, w weight) bool {
	var buf sfnt.Buffer
	for _, r := range text {
		if i, err := faces()[w].GlyphIndex(&buf, r); err != nil || i == 0 {
			return false
		}
	}
	return true
}

// pen draws with the origin at the upper left, as a page is read.
type pen struct {
	surface
	group   grouper // nil: the format has no parts
	height  float64
	colours palette
}

// part draws what belongs together, under a title.
func (p *pen) part(title string, draw func()) {
	if p.group == nil {
		draw()
		return
	}
	p.group.begin(title)
	draw()
	p.group.end()
}

func (p *pen) at(x, y float64) vg.Point { return point(x, p.height-y) }

// text writes a text with its baseline at y.
func (p *pen) text(x, y, size float64, w weight, c color.Color, text string) {
	if text == "" || !utf8.ValidString(text) {
		return
	}
	p.SetColor(c)
	p.FillString(face(size, w), p.at(x, y), text)
}

// textRight writes a text that ends at x.
func (p *pen) textRight(x, y, size float64, w weight, c color.Color, text string) {
	p.text(x-textWidth(text, size, w), y, size, w, c, text)
}

func (p *pen) line(x1, y1, x2, y2, width float64, c color.Color, dash ...float64) {
	p.path(width, c, dash, x1, y1, x2, y2)
}

// path draws lines through points, given as x and y in turn.
func (p *pen) path(width float64, c color.Color, dash []float64, xy ...float64) {
	var path vg.Path
	for i := 0; i+1 < len(xy); i += 2 {
		if i == 0 {
			path.Move(p.at(xy[0], xy[1]))
		} else {
			path.Line(p.at(xy[i], xy[i+1]))
		}
	}
	pattern := make([]vg.Length, len(dash))
	for i, d := range dash {
		pattern[i] = vg.Length(d)
	}
	p.SetColor(c)
	p.SetLineWidth(vg.Length(width))
	p.SetLineDash(pattern, 0)
	p.Stroke(path)
	p.SetLineDash(nil, 0)
}

func (p *pen) rect(x, y, w, h float64, c color.Color, fill bool) {
	p.polygon(c, fill, 1, x, y, x+w, y, x+w, y+h, x, y+h)
}

// polygon draws a closed shape through points.
func (p *pen) polygon(c color.Color, fill bool, width float64, xy ...float64) {
	var path vg.Path
	for i := 0; i+1 < len(xy); i += 2 {
		if i == 0 {
			path.Move(p.at(xy[0], xy[1]))
		} else {
			path.Line(p.at(xy[i], xy[i+1]))
		}
	}
	path.Close()
	p.SetColor(c)
	p.SetLineWidth(vg.Length(width))
	if fill {
		p.Fill(path)
	} else {
		p.Stroke(path)
	}
}

// dot fills a circle.
func (p *pen) dot(x, y, r float64, c color.Color) {
	// Four curves; the control points are at 0.5523 of the radius.
	const k = 0.5523
	var path vg.Path
	path.Move(p.at(x+r, y))
	path.CubeTo(p.at(x+r, y+k*r), p.at(x+k*r, y+r), p.at(x, y+r))
	path.CubeTo(p.at(x-k*r, y+r), p.at(x-r, y+k*r), p.at(x-r, y))
	path.CubeTo(p.at(x-r, y-k*r), p.at(x-k*r, y-r), p.at(x, y-r))
	path.CubeTo(p.at(x+k*r, y-r), p.at(x+r, y-k*r), p.at(x+r, y))
	path.Close()
	p.SetColor(c)
	p.Fill(path)
}
