package display

import "fmt"

// Plural returns one of two words for a number of things.
func Plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Count returns a number with its noun, whose plural ends in s.
func Count(n int, noun string) string { return fmt.Sprintf("%d %s", n, Plural(n, noun, noun+"s")) }

// Grouped returns a number with its thousands apart: 12,408.
func Grouped(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Bytes returns an amount of memory: 4.1 MB.
func Bytes(n float64) string {
	switch {
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GB", n/(1<<30))
	case n >= 100<<20:
		return fmt.Sprintf("%.0f MB", n/(1<<20))
	}
	return fmt.Sprintf("%.1f MB", n/(1<<20))
}
