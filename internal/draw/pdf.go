package draw

import (
	"image/color"
	"io"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/sfnt"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
)

// pdf is a surface that writes PDF, with what is used of its fonts inside.
// vgpdf is not used: it writes texts in the characters of Windows-1252 only, and
// can't tell a bold font from a regular one.
type pdf struct {
	doc    *fpdf.Fpdf
	height float64
}

func newPDF(f *Figure) *pdf {
	doc := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: f.Width, Ht: f.Height}})
	doc.SetMargins(0, 0, 0)
	doc.SetAutoPageBreak(false, 0)
	doc.SetCatalogSort(true) // the same input makes the same bytes
	doc.SetCreationDate(f.at.UTC())
	doc.SetModificationDate(f.at.UTC())
	doc.SetTitle(f.title, true)
	doc.SetCreator("Neighbour", true)
	doc.AddUTF8FontFromBytes(string(typefaces[regular]), "", liberationsansregular.TTF)
	doc.AddUTF8FontFromBytes(string(typefaces[bold]), "", liberationsansbold.TTF)
	doc.AddPage()
	return &pdf{doc, f.Height}
}

func (p *pdf) write(w io.Writer) error { return p.doc.Output(w) }

func (p *pdf) SetColor(c color.Color) {
	r, g, b, _ := c.RGBA()
	p.doc.SetDrawColor(int(r>>8), int(g>>8), int(b>>8))
	p.doc.SetFillColor(int(r>>8), int(g>>8), int(b>>8))
	p.doc.SetTextColor(int(r>>8), int(g>>8), int(b>>8))
}

func (p *pdf) SetLineWidth(w vg.Length) { p.doc.SetLineWidth(w.Points()) }

func (p *pdf) SetLineDash(pattern []vg.Length, offset vg.Length) {
	dashes := make([]float64, len(pattern))
	for i, d := range pattern {
		dashes[i] = d.Points()
	}
	p.doc.SetDashPattern(dashes, offset.Points())
}

func (p *pdf) Stroke(path vg.Path) { p.path(path, "D") }
func (p *pdf) Fill(path vg.Path)   { p.path(path, "F") }

func (p *pdf) path(path vg.Path, style string) {
	at := func(pt vg.Point) (x, y float64) { return pt.X.Points(), p.height - pt.Y.Points() }
	for _, c := range path {
		x, y := at(c.Pos)
		switch c.Type {
		case vg.MoveComp:
			p.doc.MoveTo(x, y)
		case vg.LineComp:
			p.doc.LineTo(x, y)
		case vg.CurveComp:
			x1, y1 := at(c.Control[0])
			x2, y2 := at(c.Control[1])
			p.doc.CurveBezierCubicTo(x1, y1, x2, y2, x, y)
		case vg.CloseComp:
			p.doc.ClosePath()
		}
	}
	p.doc.DrawPath(style)
}

// FillString writes a text. For what the font has not there is a box.
func (p *pdf) FillString(f font.Face, pt vg.Point, text string) {
	size := f.Font.Size.Points()
	p.doc.SetFont(string(f.Font.Typeface), "", size)
	w := regular
	if f.Font.Typeface == typefaces[bold] {
		w = bold
	}
	x, y := pt.X.Points(), p.height-pt.Y.Points()
	run := ""
	write := func() {
		if run != "" {
			p.doc.Text(x, y, run)
			x += textWidth(run, size, w)
			run = ""
		}
	}
	var buf sfnt.Buffer
	for _, r := range text {
		if i, err := f.Face.GlyphIndex(&buf, r); err == nil && i != 0 && r <= 0xffff {
			run += string(r)
			continue
		}
		write()
		p.doc.SetLineWidth(size / 20)
		p.doc.Rect(x+size*0.1, y-size*0.7, size*0.8, size*0.7, "D")
		x += size
	}
	write()
}
