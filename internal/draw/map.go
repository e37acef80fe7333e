package draw

import (
	"fmt"
	"image/color"
	"strings"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/layout"
)

// Node is a service on a map.
type Node struct {
	Name, Kind, Version string
	Port                int
	State               supervise.State // "" where only what is declared is drawn
	Step                int             // from 1
	Needs               []string
	Optional            bool
}

// Map draws services by step, with lines from each to those that need it.
func Map(nodes []Node, o Options) *Figure {
	const (
		unit = 13.0 // the height of a row of the layout
		card = 4    // rows, of which the last is the space below
		lane = 7.0
		gap  = 16.0
	)
	columns := [][]string{}
	by := map[string]Node{}
	needs := map[string][]string{}
	for _, n := range nodes {
		for len(columns) < n.Step {
			columns = append(columns, nil)
		}
		columns[max(0, n.Step-1)] = append(columns[max(0, n.Step-1)], n.Name)
		by[n.Name], needs[n.Name] = n, n.Needs
	}
	m := layout.New(layout.Input{Columns: columns, Needs: needs, Height: card, Port: 1})
	// Where the columns and the gaps between them begin.
	var x, wide []float64
	at := margin
	for i, names := range columns {
		width := 90.0
		for _, n := range names {
			width = max(width, min(240, spare*textWidth(n, 10.5, bold)+34), min(240, spare*textWidth(by[n].about(), 8.5, regular)+22))
		}
		x, wide = append(x, at), append(wide, width)
		at += width
		if i < len(m.Gaps) {
			at += 2*gap + lane*float64(max(0, m.Gaps[i].Lanes-1))
		}
	}
	width := max(420, at+margin)
	title := o.Project
	summary := wrap(mapSummary(nodes, len(columns)), 10, width-2*margin)
	f := &Figure{Width: width, Height: heading(len(summary)) + unit*float64(m.Height) + 46 + caption + margin, title: title + ": what depends on what", at: o.At, dark: o.Dark}
	f.draw = func(p *pen) {
		c := p.colours
		top := 10 + p.frame(f, title, summary, fmt.Sprintf("%s · %s · services and what they need, drawn by Neighbour", o.Project, o.At.Local().Format("2 January 2006")))
		y := func(row int) float64 { return top + unit*(float64(row)+0.5) }
		p.part("needs", func() {
			for i, g := range m.Gaps {
				from, to := x[i]+wide[i], x[i+1]
				for _, net := range g.Nets {
					p.net(net, from, to, from+gap+lane*float64(max(0, net.Lane)), y, c.faint)
				}
			}
			for i, passes := range m.Passes {
				for _, pass := range passes {
					p.line(x[i], y(pass.Row), x[i]+wide[i], y(pass.Row), 0.9, c.faint)
				}
			}
		})
		for i, names := range columns {
			p.text(x[i], top-4, 8.5, regular, c.faint, fmt.Sprintf("step %d", i+1))
			for _, name := range names {
				n := by[name]
				p.part(name, func() { p.card(n, x[i], top+unit*float64(m.Row[name]), wide[i], unit*(card-1)) })
			}
		}
		p.mapLegend(nodes, margin, top+unit*float64(m.Height)+24)
	}
	return f
}

// about says what a service is, as the second line of its card.
func (n Node) about() string {
	text := strings.TrimSpace(n.Kind + " " + n.Version)
	if n.Port > 0 {
		text += fmt.Sprintf("  :%d", n.Port)
	}
	return text
}

func mapSummary(nodes []Node, steps int) string {
	ready, known := 0, false
	for _, n := range nodes {
		known = known || n.State != ""
		if n.State.Well() {
			ready++
		}
	}
	text := fmt.Sprintf("%s in %s; each starts when what it needs, to its left, is ready.", words.Count(len(nodes), "service"), words.Count(steps, "step"))
	if known {
		text += fmt.Sprintf(" %d of %d ready.", ready, len(nodes))
	}
	return text
}

// net draws the lines from a card, or from its line through a column, to all that
// they lead to in the next.
func (p *pen) net(n layout.Net, from, to, lane float64, y func(int) float64, c color.Color) {
	start := y(n.Row)
	for _, t := range n.Targets {
		end := y(t.Row)
		if n.Lane < 0 || end == start {
			p.line(from, start, to, end, 0.9, c)
		} else {
			p.path(0.9, c, nil, from, start, lane, start, lane, end, to, end)
		}
		if t.Name != "" { // an arrow's head at the card
			p.polygon(c, true, 0.5, to, end, to-5, end-2.6, to-5, end+2.6)
		}
	}
}

// card draws a service.
func (p *pen) card(n Node, x, y, w, h float64) {
	c := p.colours
	p.rect(x, y, w, h, c.ground, true)
	edge := c.line
	if n.State == supervise.Failed || n.State == supervise.Ailing {
		edge = p.stateColour(n.State)
	}
	p.polygon(edge, false, 1, x, y, x+w, y, x+w, y+h, x, y+h)
	p.text(x+9, y+16, 10.5, bold, c.strong, fit(n.Name, 10.5, bold, (w-30)/spare))
	p.text(x+9, y+29, 8.5, regular, c.faint, fit(n.about(), 8.5, regular, (w-16)/spare))
	if n.State != "" {
		p.state(n.State, x+w-12, y+12, 3.6)
	}
}

func (p *pen) stateColour(s supervise.State) color.Color {
	c := p.colours
	switch s {
	case supervise.Ready, supervise.Finished:
		return c.good
	case supervise.Waiting, supervise.Preparing, supervise.Starting, supervise.Stopping:
		return c.busy
	case supervise.Ailing, supervise.Held:
		return c.warn
	case supervise.Failed:
		return c.bad
	}
	return c.off
}

// state draws a state's sign: each has a shape of its own.
func (p *pen) state(s supervise.State, x, y, r float64) {
	in := p.stateColour(s)
	switch s {
	case supervise.Ready:
		p.dot(x, y, r, in)
	case supervise.Finished:
		p.polygon(in, true, 1, x, y-r, x+r, y, x, y+r, x-r, y)
	case supervise.Ailing, supervise.Held:
		p.polygon(in, true, 1, x, y-r, x+r, y+r, x-r, y+r)
	case supervise.Failed:
		p.line(x-r, y-r, x+r, y+r, 2, in)
		p.line(x-r, y+r, x+r, y-r, 2, in)
	case supervise.Stopped:
		p.dot(x, y, r, in)
		p.dot(x, y, r-1.2, p.colours.ground)
	case supervise.Waiting:
		p.dot(x, y, r, in)
		p.dot(x, y, r-1.2, p.colours.ground)
		p.dot(x, y, 1.2, in)
	case supervise.Preparing:
		p.rect(x-r, y-r, 2*r, 2*r, in, false)
		p.rect(x-r, y, 2*r, r, in, true)
	default:
		p.dot(x, y, r, in)
		p.rect(x, y-r, r, 2*r, p.colours.ground, true)
		p.line(x, y-r, x, y+r, 0.8, in)
	}
}

// mapLegend says what the signs mean that are on the map.
func (p *pen) mapLegend(nodes []Node, x, y float64) {
	seen := map[supervise.State]bool{}
	for _, n := range nodes {
		seen[n.State] = true
	}
	p.part("what the signs mean", func() {
		for _, s := range []supervise.State{supervise.Ready, supervise.Finished, supervise.Starting, supervise.Preparing, supervise.Waiting, supervise.Ailing, supervise.Stopping, supervise.Failed, supervise.Stopped} {
			if !seen[s] {
				continue
			}
			p.state(s, x+4, y-3, 3.6)
			p.text(x+14, y, 8.5, regular, p.colours.faint, string(s))
			x += 14 + textWidth(string(s), 8.5, regular) + 16
		}
		p.line(x, y-3, x+16, y-3, 0.9, p.colours.faint)
		p.polygon(p.colours.faint, true, 0.5, x+18, y-3, x+13, y-5.6, x+13, y-0.4)
		p.text(x+24, y, 8.5, regular, p.colours.faint, "is needed by")
	})
}
