package draw

import (
	"fmt"
	"slices"
	"strings"

	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/starts"
	"neighbour/internal/layout"
)

// Start draws how a start went: a bar for each service over time, the path that
// decided joined to one line, and, below each bar, another start if there is one.
func Start(r *starts.Report, other *starts.Report, o Options) *Figure {
	s := &r.Start
	const (
		width = 760.0
		row   = 22.0
		bar   = 12.0
		tail  = 130.0
	)
	name := 60.0
	for _, v := range s.Services {
		name = max(name, min(190, spare*textWidth(v.Name, 10, bold)+2))
	}
	title := fmt.Sprintf("%s: start %s", o.Project, s.Began.Local().Format("2 January 2006, 15:04:05"))
	summary := wrap(r.Summary, 10, width-2*margin)
	rows := row * float64(len(s.Services))
	f := &Figure{Width: width, Height: heading(len(summary)) + rows + 54 + caption + margin, title: title, at: o.At, dark: o.Dark}
	f.draw = func(p *pen) {
		c := p.colours
		top := p.frame(f, title, summary, fmt.Sprintf("%s · %s · how the start of %s went, drawn by Neighbour", o.Project, o.At.Local().Format("2 January 2006"), words.Count(len(s.Services), "service")))
		left, right := margin+name+14, width-margin-tail
		end := max(r.Now, 1)
		if other != nil {
			end = max(end, other.Now)
		}
		x := func(ms float64) float64 { return left + ms/end*(right-left) }
		p.part("time", func() {
			for i, t := range layout.Ticks(end/1000, 8) {
				p.line(x(t*1000), top-6, x(t*1000), top+rows, 0.4, c.line)
				text := fmt.Sprintf("%g", t)
				if i == 0 {
					text = "0 s"
				}
				p.text(x(t*1000)-textWidth(text, 8, regular)/2, top+rows+12, 8, regular, c.faint, text)
			}
		})
		at := map[string]float64{}
		for i := range s.Services {
			v := &s.Services[i]
			y := top + row*float64(i)
			at[v.Name] = y
			p.part(v.Name, func() { p.service(v, r, y, left-14, bar, x) })
			if other != nil {
				p.ghost(v.Name, other, y+bar+3, x)
			}
			p.tail(v, r, right+12, y+bar-2)
		}
		p.part("the path that decides", func() {
			for i := 1; i < len(r.Analysis.Path); i++ {
				before, _ := s.Service(r.Analysis.Path[i-1])
				from, to := at[r.Analysis.Path[i-1]]+bar, at[r.Analysis.Path[i]]
				p.path(1.6, c.accent, nil, x(before.End()), from, x(before.End()), to+bar/2)
			}
		})
		p.startLegend(left, top+rows+32, other)
	}
	return f
}

// service draws the name and the phases of a service.
func (p *pen) service(v *starts.Service, r *starts.Report, y, nameEnd, bar float64, x func(float64) float64) {
	c := p.colours
	onPath := len(r.Start.Services) > 1 && slices.Contains(r.Analysis.Path, v.Name)
	w := regular
	if onPath {
		w = bold
	}
	p.text(margin, y+bar-2, 10, w, c.strong, fit(v.Name, 10, w, (nameEnd-margin)/spare))
	for _, ph := range v.Phases {
		from, to := x(ph.From), x(ph.From+ph.Length(r.Now))
		switch ph.Is {
		case starts.Waiting:
			p.line(from, y+bar/2, to, y+bar/2, 0.8, c.line, 1.5, 2)
		case starts.Preparing, starts.Migrating, starts.Seeding, starts.Errand:
			p.hatched(from, y, to-from, bar)
		default:
			colour := c.good
			switch v.Result {
			case starts.Failed:
				colour = c.bad
			case "":
				colour = c.busy
			}
			p.rect(from, y, max(1, to-from), bar, colour, true)
		}
	}
	if onPath {
		for _, ph := range v.Phases {
			if ph.Is != starts.Waiting {
				p.polygon(c.accent, false, 1.6, x(ph.From), y, x(v.End()), y, x(v.End()), y+bar, x(ph.From), y+bar)
				break
			}
		}
	}
}

// hatched draws a box with slanted lines, which is told from a full one without
// its colour.
func (p *pen) hatched(x, y, w, h float64) {
	c := p.colours
	w = max(1, w)
	for at := 3.0; at < w+h; at += 4 {
		x1, y1, x2, y2 := x+at, y, x+at-h, y+h
		if x1 > x+w {
			y1, x1 = y+(x1-x-w), x+w
		}
		if x2 < x {
			y2, x2 = y+h-(x-x2), x
		}
		p.line(x1, y1, x2, y2, 0.9, c.warn)
	}
	p.rect(x, y, w, h, c.warn, false)
}

func (p *pen) ghost(name string, other *starts.Report, y float64, x func(float64) float64) {
	v, ok := other.Start.Service(name)
	if !ok || !v.Ran() {
		return
	}
	i := slices.IndexFunc(v.Phases, func(ph starts.Phase) bool { return ph.Is != starts.Waiting })
	p.part(name+" in the other start", func() { p.line(x(v.Phases[i].From), y, x(v.End()), y, 1.4, p.colours.faint) })
}

// tail writes what stands right of a service's bar.
func (p *pen) tail(v *starts.Service, r *starts.Report, x, y float64) {
	c := p.colours
	own, ran := r.Analysis.Own[v.Name]
	if !ran {
		if v.Result == starts.Failed {
			p.text(x, y, 9, regular, c.bad, "could not start")
		}
		return
	}
	p.textRight(x+38, y, 9, regular, c.plain, words.Millis(own))
	switch {
	case v.Result == starts.Failed:
		p.text(x+48, y, 9, bold, c.bad, "failed")
	case v.Result != starts.Ready, len(r.Start.Services) == 1:
	case slices.Contains(r.Usual.Slower, v.Name):
		p.text(x+48, y, 9, bold, c.bad, "slower than usual")
	case slices.Contains(r.Analysis.Path, v.Name) && len(r.Start.Services) > 1:
		p.text(x+48, y, 9, bold, c.accent, "decides")
	default:
		p.text(x+48, y, 9, regular, c.faint, "slack "+words.Millis(r.Analysis.Slack[v.Name]))
	}
}

func (p *pen) startLegend(x, y float64, other *starts.Report) {
	c := p.colours
	entry := func(text string, draw func(x float64)) {
		draw(x)
		p.text(x+24, y, 8.5, regular, c.faint, text)
		x += 24 + textWidth(text, 8.5, regular) + 18
	}
	p.part("what the signs mean", func() {
		entry("waiting", func(x float64) { p.line(x, y-3, x+18, y-3, 0.8, c.line, 1.5, 2) })
		entry("preparing", func(x float64) { p.hatched(x, y-7, 18, 8) })
		entry("starting", func(x float64) { p.rect(x, y-7, 18, 8, c.good, true) })
		entry("the path that decides", func(x float64) { p.polygon(c.accent, false, 1.6, x, y-7, x+18, y-7, x+18, y+1, x, y+1) })
		if other != nil {
			entry(strings.TrimSpace(fmt.Sprintf("start %d, %s", other.Start.ID, words.Millis(other.Start.Took))), func(x float64) { p.line(x, y-3, x+18, y-3, 1.4, c.faint) })
		}
	})
}
