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
