package ui

import (
	"fmt"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/stretchr/testify/assert"
)

// With 16 colours what is selected, ailing and failed still differ, and texts
// have the terminal's own colour.
func TestSixteenColours(t *testing.T) {
	for _, dark := range []bool{true, false} {
		theme := Few(dark)
		seen := map[string]bool{}
		for _, i := range []Ink{Accent, Good, Busy, Warn, Bad} {
			seen[fmt.Sprint(theme.Style[i].GetForeground())] = true
		}
		assert.Len(t, seen, 5)
		assert.Equal(t, "x", theme.Paint(Plain, "x"))
	}
	g := NewGround()
	g.Decided = true
	assert.NotNil(t, g.Screen(nil, "").BackgroundColor)
	g.Profiled(tea.ColorProfileMsg{Profile: colorprofile.ANSI})
	assert.Nil(t, g.Screen(nil, "").BackgroundColor)
}
