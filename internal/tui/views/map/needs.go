package mapview

import (
	"slices"

	"neighbour/internal/tui/ui"
)

// drawNeeds draws the lines between cards; those of the selected card in the
// accent's colour.
func (v *mapView) drawNeeds(c *ui.Canvas, ch *chart) {
	touches := func(from, to string) bool {
		return v.Selected != "" && (from == v.Selected || to == v.Selected ||
			to == "" && slices.Contains(v.Services[v.Selected].Needs, from))
	}
	for _, inkNow := range []ui.Ink{ui.Line, ui.Accent} { // the accented over the others
		for col, passes := range ch.layout.Passes {
			for _, p := range passes {
				if touches(p.From, "") == (inkNow == ui.Accent) {
					c.Horizontal(ch.x[col]-1, ch.x[col]+ch.card, p.Row+headingRows, inkNow)
				}
			}
		}
		for col, g := range ch.layout.Gaps {
			x0, x1 := ch.x[col]+ch.card, ch.x[col+1]-1
			for _, n := range g.Nets {
				for _, to := range n.Targets {
					if touches(n.From, to.Name) == (inkNow == ui.Accent) {
						drawNet(c, x0, x1, lane(x0, x1, n.Lane, g.Lanes), n.Row+headingRows, to.Row+headingRows, inkNow)
						if ch.tall > 1 {
							c.Dock(x0-1, n.Row+headingRows, "│├┃┣")
							c.Dock(x1+1, to.Row+headingRows, "│┤┃┫")
						}
					}
				}
			}
		}
	}
}

// lane returns the cell column of a lane, the lanes spread over the gap.
func lane(x0, x1, n, of int) int {
	return x0 + (n+1)*(x1-x0+1)/(of+1)
}

func drawNet(c *ui.Canvas, x0, x1, x, row, to int, i ui.Ink) {
	if row == to {
		c.Horizontal(x0, x1, row, i)
		c.Join(x0, row, ui.Left|ui.Right, i)
		c.Join(x1, row, ui.Left|ui.Right, i)
		return
	}
	c.Horizontal(x0, x, row, i)
	c.Join(x0, row, ui.Left, i)
	c.Vertical(x, row, to, i)
	c.Horizontal(x, x1, to, i)
	c.Join(x1, to, ui.Right, i)
}
