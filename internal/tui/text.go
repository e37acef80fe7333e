package tui

import (
	"strings"
	"unicode"

	"github.com/charmbracelet/x/ansi"

	"neighbour/internal/core/keep"
)

// Shape returns the sign of a state. Each state has its own, so that none is told
// by its colour alone.
func Shape(s keep.State) string { return signs(shape(s)) }

func shape(s keep.State) string {
	switch s {
	case keep.Waiting:
		return "◌"
	case keep.Preparing:
		return "◔"
	case keep.Starting:
		return "◐"
	case keep.Ready:
		return "●"
	case keep.Ailing:
		return "▲"
	case keep.Stopping:
		return "◑"
	case keep.Failed:
		return "✖"
	case keep.Finished:
		return "◆"
	}
	return "○"
}

// Clean makes a line that a program printed fit to be drawn: control
// sequences other than colours are removed, and so are control characters; a
// tab becomes blanks.
func Clean(line string) string {
	plain := true
	for i := 0; i < len(line) && plain; i++ {
		plain = line[i] >= ' ' && line[i] < 0x7f
	}
	if plain {
		return line
	}
	var b strings.Builder
	colored := false
	var state byte
	p := ansi.GetParser()
	defer ansi.PutParser(p)
	for len(line) > 0 {
		seq, width, n, next := ansi.DecodeSequence(line, state, p)
		state = next
		line = line[n:]
		switch {
		case width > 0:
			b.WriteString(seq)
		case seq == "\t":
			b.WriteString("    ")
		case strings.HasPrefix(seq, "\x1b[") && p.Command() == 'm' && strings.HasSuffix(seq, "m"):
			b.WriteString(seq)
			colored = true
		case len(seq) > 0 && seq[0] >= ' ' && seq[0] != 0x7f && !ansi.HasCsiPrefix(seq):
			// Zero-width runes: marks that combine stay, others could turn
			// the text around.
			for _, r := range seq {
				if unicode.Is(unicode.M, r) {
					b.WriteRune(r)
				}
			}
		}
	}
	if colored {
		b.WriteString("\x1b[m")
	}
	return b.String()
}

// Plain is Clean without colours.
func Plain(line string) string { return ansi.Strip(Clean(line)) }

// Width returns how many cells a text takes, colours aside.
func Width(s string) int { return ansi.StringWidth(s) }

// Truncate cuts a text to a width in cells, with a sign where something was
// cut off.
func Truncate(s string, width int) string {
	if width <= 0 {
		return ""
	}
	return ansi.Truncate(s, width, signs("…"))
}
