package catalogue

import (
	"cmp"
	"slices"
	"strings"

	"neighbour/internal/core/kind"
)

// Hinted is a kind by its name, with its hints.
type Hinted struct {
	Kind string
	kind.Hints
	Facts []string
}

// hinted are the kinds with hints, in the order of the list.
var hinted = func() []Hinted {
	var out []Hinted
	for _, k := range All {
		if h, ok := k.(kind.Hinter); ok {
			out = append(out, Hinted{k.Info().Name, h.Hints(), k.Info().Facts})
		}
	}
	return out
}()

// Hinting returns the kinds with hints, in the order in which a declaration has
// them.
func Hinting() []Hinted { return hinted }

// HintsOf returns the hints of a kind, zero if it has none.
func HintsOf(name string) Hinted {
	i := slices.IndexFunc(hinted, func(h Hinted) bool { return h.Kind == name })
	if i < 0 {
		return Hinted{}
	}
	return hinted[i]
}

// first returns the kind of the first whose hints are so, "" if there is none.
func first(so func(Hinted) bool) string {
	i := slices.IndexFunc(hinted, so)
	if i < 0 {
		return ""
	}
	return hinted[i].Kind
}

// OfLibrary returns the kind of the server that a library is a client of.
func OfLibrary(library string) string {
	return first(func(h Hinted) bool {
		return slices.ContainsFunc(h.Libraries, func(n string) bool {
			prefix, all := strings.CutSuffix(n, "*")
			return n == library || all && strings.HasPrefix(library, prefix)
		})
	})
}

// OfScheme returns the kind of server that an address with a scheme leads to. A
// driver may be named behind a plus.
func OfScheme(scheme string) string {
	scheme, _, _ = strings.Cut(scheme, "+")
	return first(func(h Hinted) bool { return slices.Contains(h.Schemes, scheme) })
}

// OfPort returns the kind that usually has a port.
func OfPort(port int) string {
	return first(func(h Hinted) bool { return slices.Contains(h.Ports, port) })
}

// AnySQL stands for whichever database that asks for SQL.
const AnySQL = "sql"

// OfWord returns the kind that the first word of split variables, such as REDIS,
// means; AnySQL for words such as DB.
func OfWord(word string) string {
	if slices.Contains([]string{"DB", "DATABASE", "SQL"}, word) {
		return AnySQL
	}
	return first(func(h Hinted) bool { return slices.Contains(h.Words, word) })
}

// OfPurpose returns the kinds that a word about what a server is for may mean,
// the likeliest first.
func OfPurpose(word string) []string {
	var all []Hinted
	for _, h := range hinted {
		if h.Purposes[word] > 0 {
			all = append(all, h)
		}
	}
	slices.SortStableFunc(all, func(a, b Hinted) int { return cmp.Compare(a.Purposes[word], b.Purposes[word]) })
	var out []string
	for _, h := range all {
		out = append(out, h.Kind)
	}
	return out
}

// Serves reports whether a service of one kind is what another is asked for.
func Serves(name, asked string) bool {
	return name == asked || asked == AnySQL && SQL(name) || HintsOf(name).Like == asked && asked != ""
}

// SQL reports whether a kind is a database that asks for SQL.
func SQL(name string) bool { return HintsOf(name).SQL }
