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
