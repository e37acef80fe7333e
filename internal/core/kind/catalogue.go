package kind

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"neighbour/internal/core/declaration/declare"
)

// Catalogue is a list of kinds. It is a declare.Catalogue.
type Catalogue []Kind

var (
	registered Catalogue
	declared   func(*declare.CustomKind) Kind
)

// Register makes kinds known to all projects of this process, and what makes a kind of one that a
// project or a user declares. It is called while packages are loaded, once.
func Register(all Catalogue, custom func(*declare.CustomKind) Kind) {
	registered, declared = all, custom
}

// All returns the kinds that are registered.
func All() Catalogue { return registered }

// Declared returns the kind of one that a project or a user declares.
func Declared(k *declare.CustomKind) Kind { return declared(k) }

// Kinds lists the names, sorted.
func (c Catalogue) Kinds() []string {
	names := make([]string, len(c))
	for i, k := range c {
		names[i] = k.Info().Name
	}
	slices.Sort(names)
	return names
}

// Kind finds a kind by its name, or returns nil.
func (c Catalogue) Kind(name string) Kind {
	for _, k := range c {
		if k.Info().Name == name {
			return k
		}
	}
	return nil
}

// Describe tells the declaration about a kind.
func (c Catalogue) Describe(name string) (declare.KindInfo, bool) {
	k := c.Kind(name)
	if k == nil {
		return declare.KindInfo{}, false
	}
	info := k.Info()
	var check func(string) error
	if m, ok := k.(Masker); ok {
		check = m.CheckMask
	}
	return declare.KindInfo{Settings: k.Settings, Facts: info.Facts, Listens: info.Listens, Elsewhere: info.Elsewhere, Checked: info.Check != "", AnyFact: info.AnyFact, NoPort: info.NoProcess, HTTP: info.HTTP, Changes: info.Changes, ChangesByKey: info.ChangesByKey, Takes: info.Takes, CheckMask: check}, true
}

// Installed looks for the newest program of a kind, without any service. The
// kinds that bring their own, and those of the user's programs, have nothing
// to look for: a zero Program.
func Installed(k Kind) (Program, error) {
	info := k.Info()
	if info.Packages == (Packages{}) {
		return Program{}, nil
	}
	return k.Find(&Instance{Service: &declare.Service{Kind: info.Name, Settings: k.Settings()}, Data: "/nonexistent"})
}

// Hinted is a kind by its name, with its hints.
type Hinted struct {
	Kind string
	Hints
	Facts []string
}

// hinted are the kinds with hints, in the order of the list.
var hinted = sync.OnceValue(func() []Hinted {
	var out []Hinted
	for _, k := range registered {
		if h, ok := k.(Hinter); ok {
			out = append(out, Hinted{k.Info().Name, h.Hints(), k.Info().Facts})
		}
	}
	return out
})

// Hinting returns the kinds with hints, in the order in which a declaration has
// them.
func Hinting() []Hinted { return hinted() }

// HintsOf returns the hints of a kind, zero if it has none.
func HintsOf(name string) Hinted {
	i := slices.IndexFunc(hinted(), func(h Hinted) bool { return h.Kind == name })
	if i < 0 {
		return Hinted{}
	}
	return hinted()[i]
}

// first returns the kind of the first whose hints are so, "" if there is none.
func first(so func(Hinted) bool) string {
	i := slices.IndexFunc(hinted(), so)
	if i < 0 {
		return ""
	}
	return hinted()[i].Kind
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
	for _, h := range hinted() {
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
