package tui

import (
	"image/color"
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"

	"neighbour/internal/core/keep"
)

// ink is a colour and weight of the theme, as the canvas stores it.
type ink uint8

const (
	plain ink = iota
	faint
	line     // lines between cards and around them
	accent   // what is selected
	strong   // names and headings
	stateOff // the states, in three families beside it
	stateGood
	stateBusy
	stateWarn
	stateBad
	match // what a search found
	// The colours of services in the logs follow.
	firstHue
	inks = firstHue + hues
)

// hues is how many colours services have.
const hues = 8

// theme is the colours on a dark or a light ground. The states differ in
// lightness as well as in hue, so that they can be told apart without seeing
// red or green.
type theme struct {
	style [inks]lipgloss.Style
	// before and after are the control sequences of each, so that they are
	// rendered once.
	before, after [inks]string
	// ground is the colour of the background.
	ground color.Color
}

// groundVariable is the environment variable that says which ground to use,
// "light" or "dark", where the terminal can't be asked or says otherwise.
const groundVariable = "NEIGHBOUR_BACKGROUND"

// few returns the theme of a terminal with 16 colours: the colours are the
// terminal's own, so texts have that of all its texts, and nothing is drawn on
// a ground of ours. What is selected, ailing and failed differ.
func few(dark bool) *theme {
	t := &theme{}
	base := lipgloss.NewStyle()
	// The bright ones are readable on a dark ground only.
	c := func(n int) color.Color {
		if dark {
			n += 8
		}
		return lipgloss.ANSIColor(n)
	}
	const red, green, yellow, blue, magenta, cyan = 1, 2, 3, 4, 5, 6
	t.style = [inks]lipgloss.Style{
		plain: base, faint: base.Faint(true), line: base.Faint(true), strong: base.Bold(true), stateOff: base.Faint(true),
		accent: base.Foreground(c(magenta)).Bold(true), stateGood: base.Foreground(c(green)), stateBusy: base.Foreground(c(cyan)),
		stateWarn: base.Foreground(c(yellow)), stateBad: base.Foreground(c(red)).Bold(true), match: base.Reverse(true),
	}
	for i := range hues {
		t.style[firstHue+ink(i)] = base.Foreground(c([]int{cyan, magenta, yellow, green, blue, red}[i%6]))
	}
	t.render()
	return t
}

func newTheme(dark bool) *theme {
	pick := lipgloss.LightDark(dark)
	c := func(light, onDark string) color.Color { return pick(lipgloss.Color(light), lipgloss.Color(onDark)) }
	t := &theme{ground: c("#FAF8F4", "#121318")}
	base := lipgloss.NewStyle()
	t.style = [inks]lipgloss.Style{
		plain:     base.Foreground(c("#3A3A42", "#C9CBD1")),
		faint:     base.Foreground(c("#7C7A80", "#7E8290")),
		line:      base.Foreground(c("#B5B1AC", "#4A4E5A")),
		accent:    base.Foreground(c("#A8500A", "#F2A65A")).Bold(true),
		strong:    base.Foreground(c("#16161C", "#F2F3F5")).Bold(true),
		stateOff:  base.Foreground(c("#85838A", "#8A8E9B")),
		stateGood: base.Foreground(c("#00735A", "#5CC8A8")),
		stateBusy: base.Foreground(c("#1F62A8", "#7FB7F0")),
		stateWarn: base.Foreground(c("#8A6A00", "#EFD55A")),
		stateBad:  base.Foreground(c("#B3203A", "#FF7A85")).Bold(true),
		match:     base.Foreground(c("#FAF8F4", "#121318")).Background(c("#A8500A", "#F2A65A")).Bold(true),
	}
	// Beside the states' colours, and about as light as each other.
	for i, pair := range [hues][2]string{
		{"#2F6F8F", "#7CC4DE"}, {"#7A4FA3", "#C3A5EA"}, {"#8F5A2B", "#D9AE84"}, {"#3F7A3A", "#9CCB8F"},
		{"#A0447A", "#E79CC6"}, {"#4A5FB0", "#9FB2F5"}, {"#6E6A1F", "#CFC777"}, {"#5A6672", "#B4C0CC"},
	} {
		t.style[firstHue+ink(i)] = base.Foreground(c(pair[0], pair[1]))
	}
	t.render()
	return t
}

func (t *theme) render() {
	for i, s := range t.style {
		t.before[i], t.after[i], _ = strings.Cut(s.Render("x"), "x")
	}
}

// paint draws a text of one line.
func (t *theme) paint(i ink, s string) string {
	if s == "" {
		return ""
	}
	return t.before[i] + s + t.after[i]
}

func stateInk(s keep.State) ink {
	switch s {
	case keep.Ready, keep.Finished:
		return stateGood
	case keep.Preparing, keep.Starting, keep.Stopping:
		return stateBusy
	case keep.Ailing:
		return stateWarn
	case keep.Failed:
		return stateBad
	}
	return stateOff
}

// ground is which colours are used: those for the ground that the terminal
// tells, or that the user's variable says, and as many as the terminal has.
type ground struct {
	theme   *theme
	decided bool
	dark    bool
	sixteen bool // the terminal has no more colours
}

func newGround() ground {
	said := os.Getenv(groundVariable)
	g := ground{dark: said != "light", decided: said != ""}
	g.choose()
	return g
}

func (g *ground) choose() {
	g.theme = newTheme(g.dark)
	if g.sixteen {
		// Without an answer the colours must do on any ground.
		g.theme = few(g.dark && g.decided)
	}
}

// told takes the terminal's answer.
func (g *ground) told(msg tea.BackgroundColorMsg) {
	if os.Getenv(groundVariable) == "" {
		g.dark = msg.IsDark()
	}
	g.decided = true
	g.choose()
}

// profiled takes how many colours the terminal has.
func (g *ground) profiled(msg tea.ColorProfileMsg) {
	g.sixteen = msg.Profile == colorprofile.ANSI
	g.choose()
}

// view returns a full screen of lines. Until the terminal has told its own ground,
// ours must not hide it; with a ground of our own the colours are readable on
// any terminal.
func (g *ground) view(lines []string, title string) tea.View {
	v := tea.NewView(signs(strings.Join(lines, "\n")))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	if _, none := os.LookupEnv("NO_COLOR"); g.decided && !none && !g.sixteen {
		v.BackgroundColor = g.theme.ground
	}
	v.WindowTitle = title
	return v
}
