// Package ui draws: colours, lines of cells, boxes, fields and charts. It knows
// neither the keeper nor any view.
package ui

import (
	"image/color"
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"

	"neighbour/internal/display"
)

// Ink is a colour and weight of the theme, as the canvas stores it.
type Ink uint8

const (
	Plain Ink = iota
	Faint
	Line   // lines between cards and around them
	Accent // what is selected
	Strong // names and headings
	Off    // the states, in three families beside it
	Good
	Busy
	Warn
	Bad
	Match // what a search found
	Print // black on white, whatever the ground
	// The colours of services in the logs follow.
	FirstHue
	inks = FirstHue + Hues
)

// Hues is how many colours services have.
const Hues = 8

// Theme is the colours on a dark or a light ground. The states differ in
// lightness as well as in hue, so that they can be told apart without seeing
// red or green.
type Theme struct {
	Style [inks]lipgloss.Style
	// before and after are the control sequences of each, so that they are
	// rendered once.
	before, after [inks]string
	// ground is the colour of the background.
	ground color.Color
}

// groundVariable is the environment variable that says which ground to use,
// "light" or "dark", where the terminal can't be asked or says otherwise.
const groundVariable = "NEIGHBOUR_BACKGROUND"

// Few returns the theme of a terminal with 16 colours: the colours are the
// terminal's own, so texts have that of all its texts, and nothing is drawn on
// a ground of ours. What is selected, ailing and failed differ.
func Few(dark bool) *Theme {
	t := &Theme{}
	base := lipgloss.NewStyle()
	// The bright ones are readable on a dark ground only.
	c := func(n int) color.Color {
		if dark {
			n += 8
		}
		return lipgloss.ANSIColor(n)
	}
	const red, green, yellow, blue, magenta, cyan = 1, 2, 3, 4, 5, 6
	t.Style = [inks]lipgloss.Style{
		Plain: base, Faint: base.Faint(true), Line: base.Faint(true), Strong: base.Bold(true), Off: base.Faint(true),
		Accent: base.Foreground(c(magenta)).Bold(true), Good: base.Foreground(c(green)), Busy: base.Foreground(c(cyan)),
		Warn: base.Foreground(c(yellow)), Bad: base.Foreground(c(red)).Bold(true), Match: base.Reverse(true), Print: base.Foreground(lipgloss.ANSIColor(0)).Background(lipgloss.ANSIColor(15)),
	}
	for i := range Hues {
		t.Style[FirstHue+Ink(i)] = base.Foreground(c([]int{cyan, magenta, yellow, green, blue, red}[i%6]))
	}
	t.render()
	return t
}

// NewTheme returns the colours for a dark or a light ground.
func NewTheme(dark bool) *Theme {
	pick := lipgloss.LightDark(dark)
	c := func(light, onDark string) color.Color { return pick(lipgloss.Color(light), lipgloss.Color(onDark)) }
	t := &Theme{ground: c("#FAF8F4", "#121318")}
	base := lipgloss.NewStyle()
	t.Style = [inks]lipgloss.Style{
		Plain:  base.Foreground(c("#3A3A42", "#C9CBD1")),
		Faint:  base.Foreground(c("#7C7A80", "#7E8290")),
		Line:   base.Foreground(c("#B5B1AC", "#4A4E5A")),
		Accent: base.Foreground(c("#A8500A", "#F2A65A")).Bold(true),
		Strong: base.Foreground(c("#16161C", "#F2F3F5")).Bold(true),
		Off:    base.Foreground(c("#85838A", "#8A8E9B")),
		Good:   base.Foreground(c("#00735A", "#5CC8A8")),
		Busy:   base.Foreground(c("#1F62A8", "#7FB7F0")),
		Warn:   base.Foreground(c("#8A6A00", "#EFD55A")),
		Bad:    base.Foreground(c("#B3203A", "#FF7A85")).Bold(true),
		Match:  base.Foreground(c("#FAF8F4", "#121318")).Background(c("#A8500A", "#F2A65A")).Bold(true),
		Print:  base.Foreground(lipgloss.Color("#000000")).Background(lipgloss.Color("#FFFFFF")),
	}
	// Beside the states' colours, and about as light as each other.
	for i, pair := range [Hues][2]string{
		{"#2F6F8F", "#7CC4DE"}, {"#7A4FA3", "#C3A5EA"}, {"#8F5A2B", "#D9AE84"}, {"#3F7A3A", "#9CCB8F"},
		{"#A0447A", "#E79CC6"}, {"#4A5FB0", "#9FB2F5"}, {"#6E6A1F", "#CFC777"}, {"#5A6672", "#B4C0CC"},
	} {
		t.Style[FirstHue+Ink(i)] = base.Foreground(c(pair[0], pair[1]))
	}
	t.render()
	return t
}

func (t *Theme) render() {
	for i, s := range t.Style {
		t.before[i], t.after[i], _ = strings.Cut(s.Render("x"), "x")
	}
}

// Paint draws a text of one line.
func (t *Theme) Paint(i Ink, s string) string {
	if s == "" {
		return ""
	}
	return t.before[i] + s + t.after[i]
}

// Ground is which colours are used: those for the ground that the terminal
// tells, or that the user's variable says, and as many as the terminal has.
type Ground struct {
	Theme *Theme
	// Decided says that the terminal has told its ground, or won't.
	Decided bool
	dark    bool
	sixteen bool // the terminal has no more colours
}

// NewGround returns the ground that the environment says, until the terminal
// has told.
func NewGround() Ground {
	said := os.Getenv(groundVariable)
	g := Ground{dark: said != "light", Decided: said != ""}
	g.choose()
	return g
}

func (g *Ground) choose() {
	g.Theme = NewTheme(g.dark)
	if g.sixteen {
		// Without an answer the colours must do on any ground.
		g.Theme = Few(g.dark && g.Decided)
	}
}

// Told takes the terminal's answer.
func (g *Ground) Told(msg tea.BackgroundColorMsg) {
	if os.Getenv(groundVariable) == "" {
		g.dark = msg.IsDark()
	}
	g.Decided = true
	g.choose()
}

// Profiled takes how many colours the terminal has.
func (g *Ground) Profiled(msg tea.ColorProfileMsg) {
	g.sixteen = msg.Profile == colorprofile.ANSI
	g.choose()
}

// Screen returns a full screen of lines. Until the terminal has told its own ground,
// ours must not hide it; with a ground of our own the colours are readable on
// any terminal.
func (g *Ground) Screen(lines []string, title string) tea.View {
	v := tea.NewView(display.Signs(strings.Join(lines, "\n")))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	if _, none := os.LookupEnv("NO_COLOR"); g.Decided && !none && !g.sixteen {
		v.BackgroundColor = g.Theme.ground
	}
	v.WindowTitle = title
	return v
}
