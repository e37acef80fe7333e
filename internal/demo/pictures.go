package demo

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/png"

	"golang.org/x/image/vector"
)

// shape is a polygon of one colour, on a ground of 48 by 32.
type shape struct {
	ink    color.RGBA
	points []float32 // x and y in turn
}

var (
	ground = color.RGBA{0xe8, 0xdf, 0xcc, 0xff}
	board  = color.RGBA{0xd6, 0xc8, 0xac, 0xff}
	steel  = color.RGBA{0x6b, 0x74, 0x7d, 0xff}
	dark   = color.RGBA{0x34, 0x38, 0x3d, 0xff}
	red    = color.RGBA{0xb2, 0x3a, 0x2e, 0xff}
	green  = color.RGBA{0x3d, 0x7a, 0x52, 0xff}
	yellow = color.RGBA{0xd9, 0xa4, 0x2b, 0xff}
	blue   = color.RGBA{0x3a, 0x66, 0x93, 0xff}
)

// box is a rectangle.
func box(ink color.RGBA, x, y, width, height float32) shape {
	return shape{ink, []float32{x, y, x + width, y, x + width, y + height, x, y + height}}
}

// photos are those of the tools: what hangs on the board of the shed.
var photos = map[string][]shape{
	"hammer drill": {box(steel, 4, 12, 14, 1.6), {steel, []float32{18, 10.6, 22, 9.6, 22, 16, 18, 15}}, box(red, 22, 8, 16, 9.6), {red, []float32{30, 17.6, 38, 17.6, 41, 28, 34, 28}},
		box(dark, 28.6, 18.6, 1.6, 4), box(dark, 36, 10, 3.6, 5.6), {dark, []float32{34.6, 28, 41.6, 28, 42, 30, 35, 30}}},
	"extension ladder": {{steel, []float32{14, 30, 16, 30, 22, 2, 20, 2}}, {steel, []float32{26, 30, 28, 30, 34, 2, 32, 2}}, box(yellow, 15.4, 25, 12.4, 1.2), box(yellow, 16.5, 20, 12.4, 1.2),
		box(yellow, 17.6, 15, 12.4, 1.2), box(yellow, 18.6, 10, 12.4, 1.2), box(yellow, 19.7, 5, 12.4, 1.2)},
	"wallpaper steamer": {box(blue, 8, 12, 15, 15), box(dark, 8, 27, 15, 2), box(dark, 12, 8, 7, 2), box(dark, 12, 8, 1.4, 4), box(dark, 17.6, 8, 1.4, 4), {dark, []float32{23, 15, 32, 6, 33, 7, 23, 17}},
		{dark, []float32{32, 6, 36, 12, 35, 12.8, 31.4, 7}}, box(steel, 29, 12.4, 13, 11), box(ground, 31, 14.4, 9, 7)},
	"hedge trimmer": {box(steel, 4, 15, 24, 1.4), {steel, []float32{5, 15, 6.6, 12.6, 8, 15, 9.6, 15, 11.2, 12.6, 12.6, 15, 14.2, 15, 15.8, 12.6, 17.2, 15, 18.8, 15, 20.4, 12.6, 21.8, 15, 23.4, 15, 25, 12.6, 26.4, 15}},
		{green, []float32{28, 11, 40, 11, 44, 16, 44, 20, 28, 20}}, {dark, []float32{30, 11, 31.4, 5, 38, 5, 39.4, 11, 37.6, 11, 36.8, 7, 32.6, 7, 31.8, 11}}},
	"tile cutter": {box(steel, 6, 24, 36, 3), box(dark, 8, 27, 3, 2), box(dark, 37, 27, 3, 2), box(steel, 8, 14, 32, 1.2), box(steel, 8, 14, 1.4, 10), box(steel, 38.6, 14, 1.4, 10), box(red, 20, 12.4, 6, 5),
		{dark, []float32{24, 12.4, 34, 4, 35.4, 5.4, 26, 13.6}}, box(board, 12, 21.4, 20, 2.6)},
	"spirit level": {box(yellow, 4, 13, 40, 6.6), box(dark, 4, 13, 1.6, 6.6), box(dark, 42.4, 13, 1.6, 6.6), box(ground, 19.6, 14.4, 8.8, 3.6), box(green, 20, 14.8, 8, 2.8), box(ground, 22.8, 15.2, 2.4, 1.8),
		box(ground, 9, 14.6, 3.4, 3.4), box(ground, 35.6, 14.6, 3.4, 3.4)},
}

// photo draws a tool as a PNG of 480 by 320.
func photo(shapes []shape) ([]byte, error) {
	const scale = 10
	to := image.NewRGBA(image.Rect(0, 0, 48*scale, 32*scale))
	draw.Draw(to, to.Bounds(), image.NewUniform(ground), image.Point{}, draw.Src)
	for _, s := range append([]shape{box(board, 0, 7.6, 48, 0.3), box(board, 0, 15.8, 48, 0.3), box(board, 0, 24, 48, 0.3)}, shapes...) {
		// Only the part of the picture is looked at that the shape is in.
		x0, y0, x1, y1 := s.points[0], s.points[1], s.points[0], s.points[1]
		for i := 2; i < len(s.points); i += 2 {
			x0, y0, x1, y1 = min(x0, s.points[i]), min(y0, s.points[i+1]), max(x1, s.points[i]), max(y1, s.points[i+1])
		}
		in := image.Rect(int(x0*scale), int(y0*scale), int(x1*scale)+1, int(y1*scale)+1).Intersect(to.Bounds())
		r := vector.NewRasterizer(in.Dx(), in.Dy())
		at := func(i int) (x, y float32) {
			return s.points[i]*scale - float32(in.Min.X), s.points[i+1]*scale - float32(in.Min.Y)
		}
		r.MoveTo(at(0))
		for i := 2; i < len(s.points); i += 2 {
			r.LineTo(at(i))
		}
		r.ClosePath()
		r.Draw(to, in, image.NewUniform(s.ink), image.Point{})
	}
	var b bytes.Buffer
	err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&b, to)
	return b.Bytes(), err
}
