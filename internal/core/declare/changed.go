package declare

import (
	"maps"
	"reflect"
	"slices"
)

// Changed lists the keys in which two declarations of a service differ,
// sorted: those at its top, and those within its tables, as "env.PORT".
// Where they stand in the file makes no difference.
func Changed(a, b *Service) []string {
	var out []string
	keys := map[string]bool{}
	for _, n := range []*node{a.node, b.node} {
		if n != nil {
			for key := range n.table {
				keys[key] = true
			}
		}
	}
	for key := range keys {
		x, y := a.node.table[key], b.node.table[key]
		if equal(x, y) {
			continue
		}
		if x == nil || y == nil || x.kind != tableNode || y.kind != tableNode || key == "health" || key == "stop" || key == "restart" {
			out = append(out, key)
			continue
		}
		inner := maps.Clone(x.table)
		maps.Copy(inner, y.table)
		for k := range inner {
			if !equal(x.table[k], y.table[k]) {
				out = append(out, key+"."+k)
			}
		}
	}
	slices.Sort(out)
	return out
}

// ChangedKinds returns the declared kinds that differ between two declarations.
func ChangedKinds(a, b *Declaration) []string {
	var out []string
	for _, k := range a.Kinds {
		if other := b.CustomKind(k.Name); other == nil || !equal(k.node, other.node) {
			out = append(out, k.Name)
		}
	}
	return out
}

func equal(x, y *node) bool {
	if x == nil || y == nil {
		return x == y
	}
	if x.kind != y.kind || !reflect.DeepEqual(x.value, y.value) || len(x.items) != len(y.items) || len(x.table) != len(y.table) {
		return false
	}
	for i := range x.items {
		if !equal(x.items[i], y.items[i]) {
			return false
		}
	}
	for key, c := range x.table {
		if !equal(c, y.table[key]) {
			return false
		}
	}
	return true
}
