package draw

import (
	"fmt"
	"image/color"
	"slices"
	"time"

	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/usage"
	"neighbour/internal/layout"
)

// Usage draws what the machine and each service used over a period: processor and
// memory side by side, each with one scale for all services.
func Usage(r *usage.Report, o Options) *Figure {
	const (
		width = 760.0
		row   = 46.0
		high  = 32.0
		gap   = 64.0
	)
	name := 70.0
	for _, s := range r.Services {
		name = max(name, min(150, spare*textWidth(s.Service, 10, bold)))
	}
	all := append([]usage.Series{r.Machine}, r.Services...)
	title := fmt.Sprintf("%s: what uses how much", o.Project)
	summary := wrap(r.Summary, 10, width-2*margin)
	f := &Figure{Width: width, Height: heading(len(summary)) + 20 + row*float64(len(all)) + 24 + caption + margin, title: title, at: o.At, dark: o.Dark}
	topCPU, topMemory := 10.0, float64(4<<20)
	for _, s := range r.Services {
		topCPU, topMemory = max(topCPU, slices.Max(append(s.Peak, 0))), max(topMemory, slices.Max(append(s.Memory, 0)))
	}
	f.draw = func(p *pen) {
		c := p.colours
		top := p.frame(f, title, summary, fmt.Sprintf("%s · %s, %s to %s · drawn by Neighbour", o.Project, r.From.Local().Format("2 January 2006"), r.From.Local().Format("15:04"), r.To.Local().Format("15:04")))
		left := margin + name + 44
		wide := (width - margin - left - gap) / 2
		right := left + wide + gap
		p.text(left, top, 9, bold, c.faint, "processor, percent of one")
		p.text(right, top, 9, bold, c.faint, "memory")
		top += 12
		for i := range all {
			s := &all[i]
			y := top + row*float64(i)
			label, cpu, memory := s.Service, topCPU, topMemory
			if i == 0 {
				label, cpu, memory = "machine", 100*float64(r.Cores), float64(max(r.Memory, 1))
			}
			p.part(label, func() {
				p.text(margin, y+high/2, 10, bold, c.strong, fit(label, 10, bold, name/spare))
				p.area(left, y, wide, high, s.Peak, cpu, c.busy, fmt.Sprintf("%.0f %%", cpu))
				p.area(right, y, wide, high, s.Memory, memory, c.good, words.Bytes(uint64(memory)))
			})
		}
		bottom := top + row*float64(len(all)) - (row - high) + 12
		for _, x := range []float64{left, right} {
			p.times(x, bottom, wide, r)
		}
	}
	return f
}

// area draws values over time as a filled shape above its ground, with the height
// of its scale on the left. Where nothing is known there is a gap.
func (p *pen) area(x, y, w, h float64, values []float64, top float64, in color.Color, label string) {
	c := p.colours
	p.textRight(x-5, y+6, 7.5, regular, c.faint, label)
	p.textRight(x-5, y+h, 7.5, regular, c.faint, "0")
	p.line(x, y, x+w, y, 0.3, c.line)
	p.line(x, y+h, x+w, y+h, 0.6, c.faint)
	if len(values) == 0 || top <= 0 {
		return
	}
	step := w / float64(len(values))
	var shape []float64
	fill := func() {
		if n := len(shape); n > 0 {
			p.polygon(in, true, 0, append([]float64{shape[0], y + h}, append(shape, shape[n-2], y+h)...)...)
		}
		shape = nil
	}
	for i, v := range values {
		if v < 0 {
			fill()
			continue
		}
		at := y + h - min(1, v/top)*h
		shape = append(shape, x+step*float64(i), at, x+step*float64(i+1), at)
	}
	fill()
}

// times writes round times below a chart.
func (p *pen) times(x, y, w float64, r *usage.Report) {
	period := r.To.Sub(r.From)
	minutes := layout.Ticks(period.Minutes(), 4)
	if len(minutes) < 2 {
		return
	}
	step := max(time.Minute, time.Duration(minutes[1]*float64(time.Minute)).Round(time.Minute))
	for at := r.From.Truncate(step).Add(step); at.Before(r.To); at = at.Add(step) {
		at0 := x + float64(at.Sub(r.From))/float64(period)*w
		p.line(at0, y-12, at0, y-8, 0.6, p.colours.faint)
		text := at.Local().Format("15:04")
		p.text(at0-textWidth(text, 7.5, regular)/2, y, 7.5, regular, p.colours.faint, text)
	}
}
