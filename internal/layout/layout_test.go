package layout_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"neighbour/internal/layout"
)

func TestLineThroughAColumn(t *testing.T) {
	m := layout.New(layout.Input{
		Columns: [][]string{{"ledger", "postbox"}, {"api"}, {"reminders"}},
		Needs:   map[string][]string{"api": {"ledger"}, "reminders": {"api", "ledger", "postbox", "elsewhere"}},
		Height:  4, Port: 1,
	})
	assert.Equal(t, map[string]int{"ledger": 0, "postbox": 4, "api": 0, "reminders": 0}, m.Row)
	assert.Equal(t, []layout.Pass{{From: "postbox", Row: 5}}, m.Passes[1], "what it needs of the ledger, api implies")
	assert.Equal(t, []layout.Net{
		{From: "ledger", Row: 1, Targets: []layout.End{{Name: "api", Row: 1}}, Lane: -1},
		{From: "postbox", Row: 5, Targets: []layout.End{{Name: "", Row: 5}}, Lane: -1},
	}, m.Gaps[0].Nets)
	assert.Equal(t, 1, m.Gaps[1].Lanes)
}

// Whatever the graph: no two things are on one row of a column, everything
// is within the map, each card can be reached by lines from all that it
// needs, and no two nets of a gap share a lane.
func TestAnyMap(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		in := layout.Input{Needs: map[string][]string{}, Height: rapid.SampledFrom([]int{1, 4, 5}).Draw(r, "height")}
		in.Port = min(1, in.Height-1)
		var earlier []string
		for c := range rapid.IntRange(1, 6).Draw(r, "columns") {
			var names []string
			for i := range rapid.IntRange(1, 6).Draw(r, "names") {
				name := fmt.Sprintf("s%d-%d", c, i)
				names = append(names, name)
				if c > 0 {
					in.Needs[name] = rapid.SliceOfNDistinct(rapid.SampledFrom(earlier), 0, min(4, len(earlier)), rapid.ID[string]).Draw(r, "needs")
				}
			}
			in.Columns = append(in.Columns, names)
			earlier = append(earlier, names...)
		}
		m := layout.New(in)
		for c, names := range in.Columns {
			taken := map[int]string{}
			take := func(name string, row, height int) {
				for y := row; y < row+height; y++ {
					assert.Empty(r, taken[y], "row %d of column %d", y, c)
					taken[y] = name
					assert.True(r, y >= 0 && y < m.Height)
				}
			}
			for _, name := range names {
				assert.Equal(r, c, m.Column[name])
				take(name, m.Row[name], in.Height)
			}
			for _, p := range m.Passes[c] {
				take("pass of "+p.From, p.Row, 1)
			}
		}
		reached := map[string]map[string]bool{} // by card, whose lines come to it
		for c, g := range m.Gaps {
			lanes := map[int]bool{}
			for _, n := range g.Nets {
				if n.Lane >= 0 {
					assert.False(r, lanes[n.Lane], "lane %d of gap %d", n.Lane, c)
					lanes[n.Lane] = true
					assert.Less(r, n.Lane, g.Lanes)
				}
				for _, end := range n.Targets {
					if end.Name == "" {
						continue
					}
					if reached[end.Name] == nil {
						reached[end.Name] = map[string]bool{}
					}
					reached[end.Name][n.From] = true
					for from := range reached[n.From] {
						reached[end.Name][from] = true
					}
					assert.Equal(r, m.Row[end.Name]+in.Port, end.Row)
				}
			}
		}
		for name, needs := range in.Needs {
			for _, need := range needs {
				assert.True(r, reached[name][need], "%s is connected to %s", name, need)
			}
		}
	})
}
