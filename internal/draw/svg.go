package draw

import (
	"encoding/xml"
	"fmt"
	"image/color"
	"strconv"
	"strings"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
)

// svg is a surface that writes SVG 1.1 with texts as texts, and the parts of a
// drawing as groups with titles.
type svg struct {
	strings.Builder
	height float64
	colour string
	width  float64
	dash   string
}

func newSVG(f *Figure) *svg {
	s := &svg{height: f.Height}
	fmt.Fprintf(s, `<svg xmlns="http://www.w3.org/2000/svg" width="%s" height="%s" viewBox="0 0 %s %s" font-family="Liberation Sans, Arial, Helvetica, sans-serif">`+"\n",
		number(f.Width), number(f.Height), number(f.Width), number(f.Height))
	fmt.Fprintf(s, "<title>%s</title>\n", escape(f.title))
	return s
}

// String ends the drawing and returns it.
func (s *svg) String() string { return s.Builder.String() + "</svg>\n" }

// number writes a length with what a screen or printer can show of it.
func number(v float64) string {
	text := strconv.FormatFloat(v, 'f', 2, 64)
	return strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
}

func escape(text string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(text))
	return b.String()
}

func (s *svg) begin(title string) { fmt.Fprintf(s, "<g><title>%s</title>\n", escape(title)) }
func (s *svg) end()               { s.WriteString("</g>\n") }

func (s *svg) SetColor(c color.Color) {
	r, g, b, _ := c.RGBA()
	s.colour = fmt.Sprintf("#%02x%02x%02x", r>>8, g>>8, b>>8)
}

func (s *svg) SetLineWidth(w vg.Length) { s.width = w.Points() }

func (s *svg) SetLineDash(pattern []vg.Length, _ vg.Length) {
	var parts []string
	for _, p := range pattern {
		parts = append(parts, number(p.Points()))
	}
	s.dash = strings.Join(parts, " ")
}

func (s *svg) Stroke(p vg.Path) {
	dash := ""
	if s.dash != "" {
		dash = ` stroke-dasharray="` + s.dash + `"`
	}
	fmt.Fprintf(s, `<path d="%s" fill="none" stroke="%s" stroke-width="%s" stroke-linejoin="round"%s/>`+"\n", s.path(p), s.colour, number(s.width), dash)
}

func (s *svg) Fill(p vg.Path) {
	fmt.Fprintf(s, `<path d="%s" fill="%s"/>`+"\n", s.path(p), s.colour)
}

func (s *svg) path(p vg.Path) string {
	var b strings.Builder
	at := func(pt vg.Point) string { return number(pt.X.Points()) + " " + number(s.height-pt.Y.Points()) }
	for _, c := range p {
		switch c.Type {
		case vg.MoveComp:
			b.WriteString("M" + at(c.Pos))
		case vg.LineComp:
			b.WriteString("L" + at(c.Pos))
		case vg.CurveComp:
			command := map[int]string{1: "Q", 2: "C"}[len(c.Control)]
			for _, control := range c.Control {
				command += at(control) + " "
			}
			b.WriteString(command + at(c.Pos))
		case vg.CloseComp:
			b.WriteString("Z")
		}
	}
	return b.String()
}

func (s *svg) FillString(f font.Face, pt vg.Point, text string) {
	weight := ""
	if f.Font.Typeface == typefaces[bold] {
		weight = ` font-weight="bold"`
	}
	w := regular
	if weight != "" {
		w = bold
	}
	length := "" // where the viewer has another font, what was made to fit still does
	if hasAll(text, w) {
		length = ` textLength="` + number(textWidth(text, f.Font.Size.Points(), w)) + `" lengthAdjust="spacingAndGlyphs"`
	}
	fmt.Fprintf(s, `<text x="%s" y="%s" font-size="%s"%s%s fill="%s" xml:space="preserve">%s</text>`+"\n",
		number(pt.X.Points()), number(s.height-pt.Y.Points()), number(f.Font.Size.Points()), weight, length, s.colour, escape(text))
}
