package launch

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
)

// passedOn are the keys whose contents go to the server as they are, so that
// it is the server who refuses them.
var passedOn = []string{"settings.", "ini.", "extensions."}

// blame finds the lines of the declaration that a server's refusal is about:
// those of the settings that its output names.
func blame(s *declare.Service, output []string) []string {
	var lines []string
	text := canonical(strings.Join(output, "\n"))
	for _, w := range s.WrittenKeys() {
		i := slices.IndexFunc(passedOn, func(p string) bool { return strings.HasPrefix(w.Key, p) })
		if i < 0 {
			continue
		}
		name := canonical(strings.TrimPrefix(w.Key, passedOn[i]))
		if named, err := regexp.MatchString(`(^|[^a-z0-9_.])`+regexp.QuoteMeta(name)+`($|[^a-z0-9_])`, text); err == nil && named {
			lines = append(lines, fmt.Sprintf("declared in %s: %s", w.At, w.Line))
		}
	}
	slices.Sort(lines)
	return lines
}

// canonical returns a text in which all spellings of a setting are the same:
// servers take bind-address for bind_address.
func canonical(text string) string { return strings.ToLower(strings.ReplaceAll(text, "-", "_")) }

// refused adds the declaration's line to a refusal of what a key holds.
func refused(s *declare.Service, err error) []string {
	var r *kind.RefusedError
	if !errors.As(err, &r) {
		return nil
	}
	return []string{fmt.Sprintf("declared in %s: %s", r.At, r.Text)}
}
