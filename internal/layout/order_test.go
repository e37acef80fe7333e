package layout

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// Ordering never makes lines cross more often than the order of the names does,
// and counts each crossing once.
func TestOrderNeverAddsCrossings(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		in := Input{Needs: map[string][]string{}, Height: 1}
		var earlier []string
		for c := range rapid.IntRange(2, 6).Draw(r, "columns") {
			var names []string
			for i := range rapid.IntRange(1, 8).Draw(r, "names") {
				name := fmt.Sprintf("s%d-%d", c, i)
				names = append(names, name)
				if c > 0 {
					in.Needs[name] = rapid.SliceOfNDistinct(rapid.SampledFrom(earlier), 0, min(5, len(earlier)), rapid.ID[string]).Draw(r, "needs")
				}
			}
			in.Columns = append(in.Columns, names)
			earlier = append(earlier, names...)
		}
		columns := build(in)
		naive := crossings(columns)
		assert.Equal(r, slowly(columns), naive)
		order(columns)
		assert.LessOrEqual(r, crossings(columns), naive)
	})
}

// slowly counts crossings by looking at each pair of lines.
func slowly(columns [][]*place) int {
	all := 0
	for c := 1; c < len(columns); c++ {
		at := map[*place]int{}
		for i, p := range columns[c] {
			at[p] = i
		}
		var lines [][2]int
		for i, from := range columns[c-1] {
			for _, to := range from.right {
				lines = append(lines, [2]int{i, at[to]})
			}
		}
		for i, a := range lines {
			for _, b := range lines[:i] {
				if (a[0]-b[0])*(a[1]-b[1]) < 0 {
					all++
				}
			}
		}
	}
	return all
}
