package declare

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"reflect"
	"slices"
)

// whole are the tables that are compared as one key.
var whole = []string{"health", "stop", "restart"}

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
		if x == nil || y == nil || x.kind != tableNode || y.kind != tableNode || slices.Contains(whole, key) {
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

// ChangedErrands returns the names of the errands that run before a service's start in b, and did
// not in a, or ran something else there.
func ChangedErrands(a, b *Declaration, service string) []string {
	was := a.Before(service)
	var out []string
	for _, e := range b.Before(service) {
		same := func(o *Errand) bool {
			return o.Name == e.Name && o.Run.String() == e.Run.String() && o.With.Value == e.With.Value && o.Dir == e.Dir
		}
		if !slices.ContainsFunc(was, same) {
			out = append(out, e.Name)
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

// Digests returns what stands for each key of the service, named as by Changed,
// and is another when its value is: what needs no value, which may be secret, to
// be compared with later.
func (s *Service) Digests() map[string]string {
	out := map[string]string{}
	if s.node == nil {
		return out
	}
	for key, n := range s.node.table {
		if n.kind != tableNode || slices.Contains(whole, key) {
			out[key] = n.digest()
			continue
		}
		for k, inner := range n.table {
			out[key+"."+k] = inner.digest()
		}
	}
	return out
}

// digest returns the first half of the value's SHA-256.
func (n *node) digest() string {
	h := sha256.New()
	var walk func(n *node)
	walk = func(n *node) {
		fmt.Fprintf(h, "%d %T %q %d\n", n.kind, n.value, fmt.Sprint(n.value), len(n.items))
		for _, c := range n.items {
			walk(c)
		}
		for _, key := range slices.Sorted(maps.Keys(n.table)) {
			fmt.Fprintf(h, "%q\n", key)
			walk(n.table[key])
		}
	}
	walk(n)
	return hex.EncodeToString(h.Sum(nil)[:16])
}
