// Package words puts numbers, times and lists into the words of a sentence.
package words

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Join makes a list of names: "a, b and c".
func Join(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// Few makes a list of at most so many words: "a, b, c and 4 more".
func Few(names []string, most int) string {
	if more := len(names) - most; more > 1 {
		return strings.Join(names[:most], ", ") + " and " + strconv.Itoa(more) + " more"
	}
	return Join(names)
}

// Or makes a list of choices: "a, b or c".
func Or(choices []string) string {
	if len(choices) < 2 {
		return strings.Join(choices, "")
	}
	return strings.Join(choices[:len(choices)-1], ", ") + " or " + choices[len(choices)-1]
}

// Count says how many there are of something: "1 check", "3 checks".
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Times says how often: "once", "twice", "3 times".
func Times(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return fmt.Sprintf("%d times", n)
}

// Span puts a measured length of time in a few words: "0.3 s", "12 min".
func Span(d time.Duration) string {
	switch d = max(d, 0); {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// Limit is Span for a length that somebody chose, which is mostly a whole
// one: "10 s", "500 ms".
func Limit(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	if d < 2*time.Minute && d%time.Second == 0 {
		return fmt.Sprintf("%d s", int(d.Seconds()))
	}
	return Span(d)
}

// Millis puts milliseconds in a few words: "0.31 s".
func Millis(ms float64) string {
	if ms < 9995 {
		return fmt.Sprintf("%.2f s", ms/1000)
	}
	return Span(time.Duration(ms) * time.Millisecond)
}

// Because adds a reason to a sentence, if there is one: ": exit 3".
func Because(reason string) string {
	if reason == "" {
		return ""
	}
	return ": " + reason
}

// Short cuts a command to what is needed to know it again.
func Short(command string) string {
	const most = 32
	if r := []rune(command); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return command
}

// Bytes puts an amount of memory in a few words: "41 MB", "1.2 GB".
func Bytes(n uint64) string {
	switch v := float64(n); {
	case n < 1<<10:
		return fmt.Sprintf("%d B", n)
	case n < 1<<20:
		return fmt.Sprintf("%.0f KB", v/(1<<10))
	case n < 10<<20:
		return fmt.Sprintf("%.1f MB", v/(1<<20))
	case n < 1<<30:
		return fmt.Sprintf("%.0f MB", v/(1<<20))
	}
	return fmt.Sprintf("%.1f GB", float64(n)/(1<<30))
}

// Thousands writes a number with its digits in groups of three: "12,408".
func Thousands(n int64) string {
	digits := strconv.FormatInt(n, 10)
	sign := ""
	if n < 0 {
		sign, digits = "-", digits[1:]
	}
	for i := len(digits) - 3; i > 0; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return sign + digits
}
