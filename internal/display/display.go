// Package display makes texts fit for a terminal: their width in cells, lines
// that are cut and wrapped, and no control character of a program's or a
// project's, which could do anything to a screen.
package display

import (
	"strings"
	"unicode"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
)

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
	return ansi.Truncate(s, width, Signs("…"))
}

// Cut returns the cells of a text from one to another, the latter not
// included.
func Cut(s string, from, to int) string { return ansi.Cut(s, from, to) }

// Pad fills a text with blanks, or cuts it, to a width in cells.
func Pad(s string, width int) string {
	if w := Width(s); w < width {
		return s + strings.Repeat(" ", width-w)
	}
	return Truncate(s, width)
}

// Wrap breaks a text into lines at blanks.
func Wrap(s string, width int) []string {
	return strings.Split(lipgloss.Wrap(s, max(8, width), ""), "\n")
}

// Mask hides the secret in a value: the password of an address, or all of
// what is no address.
func Mask(value string) string {
	const dots = "••••••••"
	scheme, rest, ok := strings.Cut(value, "://")
	if !ok {
		return dots
	}
	at := strings.LastIndexByte(rest, '@')
	colon := strings.IndexByte(rest, ':')
	if at < 0 || colon < 0 || colon > at {
		return dots
	}
	return scheme + "://" + rest[:colon+1] + dots + rest[at:]
}
