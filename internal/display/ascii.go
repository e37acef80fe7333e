package display

import (
	"os"
	"strings"
	"sync"
)

// asciiOnly reports whether the locale says that the terminal shows no UTF-8
// (POSIX.1, section 8.2). One that isn't set says nothing, and nearly every
// terminal shows it.
var asciiOnly = sync.OnceValue(func() bool { return !showsUTF8(os.Getenv) })

func showsUTF8(getenv func(string) string) bool {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if value := strings.ToLower(getenv(name)); value != "" {
			return strings.Contains(value, "utf-8") || strings.Contains(value, "utf8")
		}
	}
	return true
}

// asciiSigns stand for our signs where there is no UTF-8, each as wide as the
// one that it stands for. The states stay distinct.
var asciiSigns = map[rune]byte{
	'○': 'o', '◌': '.', '◔': '%', '◐': '(', '●': '*', '◉': '&', '▲': '!', '◑': ')', '✖': 'x', '◆': '=',
	'▁': '_', '▂': '_', '▃': '.', '▄': '-', '▅': '=', '▆': '+', '▇': '*', '█': '#', '▰': '#', '▱': '-',
	'·': '.', '•': '*', '×': 'x', '…': '~', '–': '-', '—': '-', '▌': '>', '▓': '%', '▒': ':', '▏': '|', '▸': '>', '◂': '<', '→': '>', '←': '<', '↑': '^', '↓': 'v',
	'■': '#', '□': '-', '┊': ':', '│': '|', '┃': '|', '║': '|', '─': '-', '━': '-', '═': '-', '┄': '-', '┈': '-',
}

// Signs replaces what a terminal without UTF-8 can't show.
func Signs(text string) string {
	if !asciiOnly() {
		return text
	}
	return ASCII(text)
}

// ASCII replaces our signs by those of ASCII, each as wide.
func ASCII(text string) string {
	var b strings.Builder
	for _, r := range text {
		switch c, known := asciiSigns[r]; {
		case r < 0x80:
			b.WriteRune(r)
		case known:
			b.WriteByte(c)
		case r >= 0x2500 && r < 0x2580: // the corners and crossings of lines
			b.WriteByte('+')
		default:
			b.WriteString(strings.Repeat("?", max(0, Width(string(r)))))
		}
	}
	return b.String()
}
