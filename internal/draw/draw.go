// Package draw makes drawings for paper and slides of what the screen shows: as
// SVG, whose text is text, and as PDF with its fonts inside. The same input makes
// the same bytes.
package draw

import (
	"fmt"
	"io"
	"neighbour/internal/core/machine/words"
	"strings"
	"time"

	"gonum.org/v1/plot/vg"
)

// Options are what all drawings have.
type Options struct {
	Project string
	At      time.Time // that the caption tells
	Dark    bool
}

// Figure is a drawing, of a size in points, that can be written in each format.
type Figure struct {
	Width, Height float64
	title         string
	at            time.Time
	dark          bool
	draw          func(*pen)
}

// Formats are the formats that a figure can be written in.
var Formats = []string{"svg", "pdf"}

// Write writes the figure in a format, "svg" or "pdf".
func (f *Figure) Write(w io.Writer, format string) error {
	switch format {
	case "svg":
		s := newSVG(f)
		f.run(s, s)
		_, err := io.WriteString(w, s.String())
		return err
	case "pdf":
		p := newPDF(f)
		f.run(p, nil)
		return p.write(w)
	}
	return fmt.Errorf("there is no format %q; write %s", format, words.Or(Formats))
}

func (f *Figure) run(s surface, g grouper) {
	p := &pen{surface: s, group: g, height: f.Height, colours: light}
	if f.dark {
		p.colours = dark
	}
	p.rect(0, 0, f.Width, f.Height, p.colours.ground, true)
	f.draw(p)
}

// The distances that all drawings share, in points.
const (
	margin  = 32.0
	caption = 22.0 // the height of what stands below
)

// frame draws the title, a sentence or two below it, and the caption. It returns
// where the drawing itself begins.
func (p *pen) frame(f *Figure, title string, lines []string, below string) (top float64) {
	y := margin + 14
	p.text(margin, y, 15, bold, p.colours.strong, title)
	y += 8
	for _, l := range lines {
		y += 14
		p.text(margin, y, 10, regular, p.colours.plain, l)
	}
	p.line(margin, f.Height-margin-8, f.Width-margin, f.Height-margin-8, 0.5, p.colours.line)
	p.text(margin, f.Height-margin+4, 8, regular, p.colours.faint, below)
	return y + 18
}

// spare is by how much wider the texts may be than in our font, as not every
// viewer of SVG has it, or one of its width.
const spare = 1.18

// heading is how much frame takes above the drawing.
func heading(lines int) float64 { return margin + 14 + 8 + 14*float64(lines) + 18 }

// wrap breaks a text into lines of a width.
func wrap(text string, size, width float64) []string {
	var out []string
	line := ""
	for word := range strings.FieldsSeq(text) {
		longer := strings.TrimSpace(line + " " + word)
		if line != "" && textWidth(longer, size, regular) > width {
			out = append(out, line)
			longer = word
		}
		line = longer
	}
	if line != "" {
		out = append(out, line)
	}
	return out
}

// fit cuts a text to a width.
func fit(text string, size float64, w weight, width float64) string {
	if textWidth(text, size, w) <= width {
		return text
	}
	runes := []rune(text)
	for len(runes) > 0 && textWidth(string(runes)+"…", size, w) > width {
		runes = runes[:len(runes)-1]
	}
	return string(runes) + "…"
}

func point(x, y float64) vg.Point { return vg.Point{X: vg.Length(x), Y: vg.Length(y)} }
