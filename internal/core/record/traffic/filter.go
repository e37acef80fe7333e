package traffic

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Filter says which exchanges are wanted. The zero value lets all through.
type Filter struct{ tests []func(*Exchange) bool }

// ParseFilter reads a filter: words that must all match. A word is a part of the method, the
// name, the path, the service or the status; "5xx" is a class of statuses; ">200ms" are those
// that took longer, "<1s" those that took less; ">1MB" those whose answer was larger; and a
// "-" before a word means those that it does not match.
func ParseFilter(text string) (Filter, error) {
	var f Filter
	for word := range strings.FieldsSeq(text) {
		plain, not := strings.CutPrefix(word, "-")
		if plain == "" {
			return f, fmt.Errorf("%q leaves out nothing: write what after it", word)
		}
		test, err := parseWord(plain)
		if err != nil {
			return f, err
		}
		if not {
			f.tests = append(f.tests, func(e *Exchange) bool { return !test(e) })
		} else {
			f.tests = append(f.tests, test)
		}
	}
	return f, nil
}

func parseWord(word string) (func(*Exchange) bool, error) {
	lower := strings.ToLower(word)
	if len(lower) == 3 && lower[0] >= '1' && lower[0] <= '5' && lower[1:] == "xx" {
		class := int(lower[0] - '0')
		return func(e *Exchange) bool { return e.Status/100 == class }, nil
	}
	if word[0] == '>' || word[0] == '<' {
		more := word[0] == '>'
		if d, err := time.ParseDuration(lower[1:]); err == nil {
			limit := float64(d.Microseconds()) / 1000
			return func(e *Exchange) bool { return e.TookMS > limit == more }, nil
		}
		if n, ok := parseSize(lower[1:]); ok {
			return func(e *Exchange) bool { return e.Received > n == more }, nil
		}
		return nil, fmt.Errorf("%q is neither a time nor a size: write for example >200ms or >1MB", word)
	}
	return func(e *Exchange) bool {
		return strings.Contains(strings.ToLower(e.Method+" "+e.Host+e.Path+" "+strconv.Itoa(e.Status)+" "+e.Service+" "+e.Trace+" "+string(e.What)+" "+e.Event+" "+e.State), lower)
	}, nil
}

func parseSize(text string) (int64, bool) {
	for suffix, unit := range map[string]int64{"kb": 1000, "mb": 1000 * 1000, "gb": 1000 * 1000 * 1000, "b": 1} {
		if number, ok := strings.CutSuffix(text, suffix); ok {
			if n, err := strconv.ParseFloat(number, 64); err == nil && n >= 0 {
				return int64(n * float64(unit)), true
			}
		}
	}
	return 0, false
}

// Lets reports whether an exchange is wanted.
func (f Filter) Lets(e *Exchange) bool {
	for _, test := range f.tests {
		if !test(e) {
			return false
		}
	}
	return true
}
