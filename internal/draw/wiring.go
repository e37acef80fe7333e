package draw

import (
	"fmt"
	"slices"
	"strings"

	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/machine/words"
)

// Wiring draws which variable of which service reads which facts of which. Values
// are not drawn: they may be passwords.
func Wiring(w insight.Wiring, o Options) *Figure {
	type reading struct{ variable, from string }
	reads := map[string][]reading{}
	sources, count := map[string]bool{}, 0
	for _, v := range w.Variables {
		if len(v.From) == 0 {
			continue
		}
		reads[v.Service] = append(reads[v.Service], reading{v.Name, strings.Join(v.From, ", ")})
		count++
		for _, f := range v.From {
			service, _, _ := strings.Cut(f, ".")
			sources[service] = true
		}
	}
	readers := slices.DeleteFunc(slices.Clone(w.Services), func(s string) bool { return len(reads[s]) == 0 })
	const (
		width = 620.0
		row   = 15.0
		head  = 22.0
	)
	title := o.Project + ": what reads what"
	text := "No service reads anything of another."
	if count > 0 {
		text = fmt.Sprintf("%s of %s read facts of %s.", words.Count(count, "variable"), words.Count(len(readers), "service"), words.Count(len(sources), "service"))
	}
	summary := wrap(text, 10, width-2*margin)
	height := heading(len(summary)) + float64(len(readers))*head + float64(count)*row + caption + margin
	f := &Figure{Width: width, Height: height, title: title, at: o.At, dark: o.Dark}
	f.draw = func(p *pen) {
		c := p.colours
		y := p.frame(f, title, summary, fmt.Sprintf("%s · %s · variables and the facts that they are made of, drawn by Neighbour", o.Project, o.At.Local().Format("2 January 2006")))
		const middle = margin + 220
		for _, service := range readers {
			p.part(service, func() {
				p.text(margin, y+4, 10.5, bold, c.strong, fit(service, 10.5, bold, 400))
				p.line(margin, y+8, width-margin, y+8, 0.4, c.line)
				y += head
				for _, r := range reads[service] {
					p.text(margin+12, y, 9, regular, c.plain, fit(r.variable, 9, regular, 190/spare))
					p.line(middle-14, y-3, middle-4, y-3, 0.9, c.accent)
					p.polygon(c.accent, true, 0.5, middle-14, y-3, middle-9, y-5.4, middle-9, y-0.6)
					p.text(middle, y, 9, regular, c.accent, fit(r.from, 9, regular, (width-margin-middle)/spare))
					y += row
				}
			})
		}
	}
	return f
}
