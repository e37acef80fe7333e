package plan

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestToolshed(t *testing.T) {
	p, err := New(Graph{
		"ledger": nil, "shelf": nil, "postbox": nil,
		"api": {"ledger", "shelf", "ledger"}, "reminders": {"api", "postbox"}, "web": {"api"},
	})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"ledger", "postbox", "shelf"}, {"api"}, {"reminders", "web"}}, p.Steps())
	assert.Equal(t, []string{"ledger", "shelf"}, p.Needs("api"))
	assert.Equal(t, []string{"reminders", "web"}, p.NeededBy("api"))
	assert.Equal(t, []string{"ledger", "shelf", "api", "web"}, p.WithNeeds("web"))
	assert.Equal(t, []string{"shelf", "api", "reminders", "web"}, p.WithDependents("shelf"))
	assert.Equal(t, 0, p.Step("nothing"))
}

func TestCycleIsNamedWhole(t *testing.T) {
	_, err := New(Graph{"a": {"b"}, "b": {"c"}, "c": {"d", "b"}, "d": nil})
	var cycle *CycleError
	require.ErrorAs(t, err, &cycle)
	assert.Equal(t, []string{"b", "c", "b"}, cycle.Cycle)
	assert.EqualError(t, err, "services need each other in a circle: b needs c needs b")

	_, err = New(Graph{"a": {"b"}})
	assert.EqualError(t, err, "a needs b, which is not declared")
}

// graphs draws graphs; acyclic ones need only names that come before.
func graphs(acyclic bool) *rapid.Generator[Graph] {
	return rapid.Custom(func(t *rapid.T) Graph {
		n := rapid.IntRange(1, 14).Draw(t, "n")
		names := make([]string, n)
		for i := range names {
			names[i] = string(rune('a' + i))
		}
		// So that the order of the names tells nothing.
		names = rapid.Permutation(names).Draw(t, "names")
		g := Graph{}
		for i, name := range names {
			from := names[:i]
			if !acyclic {
				from = names
			}
			g[name] = nil
			if len(from) > 0 {
				g[name] = rapid.SliceOfN(rapid.SampledFrom(from), 0, 4).Draw(t, "needs")
			}
		}
		return g
	})
}

func TestEachComesAfterWhatItNeeds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := graphs(true).Draw(t, "graph")
		p, err := New(g)
		require.NoError(t, err)
		for name, needs := range g {
			latest := 0
			for _, need := range needs {
				latest = max(latest, p.Step(need))
				assert.Contains(t, p.NeededBy(need), name)
			}
			assert.Equal(t, latest+1, p.Step(name), "no step earlier than needed, and none later")
		}
		start := rapid.SampledFrom(slices.Sorted(func(yield func(string) bool) {
			for n := range g {
				if !yield(n) {
					return
				}
			}
		})).Draw(t, "start")
		order := p.WithNeeds(start)
		assert.Equal(t, start, order[len(order)-1], "what is asked for comes last")
		for i, name := range order {
			for _, need := range p.Needs(name) {
				j := slices.Index(order, need)
				assert.True(t, j >= 0 && j < i, "%s before %s", need, name)
			}
			assert.Contains(t, p.WithDependents(name), start)
		}
	})
}

func TestCyclesAreFoundExactly(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := graphs(false).Draw(t, "graph")
		_, err := New(g)
		reaches := func(from, to string) bool {
			seen := map[string]bool{}
			var walk func(string) bool
			walk = func(n string) bool {
				for _, next := range g[n] {
					if next == to {
						return true
					}
					if !seen[next] {
						seen[next] = true
						if walk(next) {
							return true
						}
					}
				}
				return false
			}
			return walk(from)
		}
		cyclic := false
		for name := range g {
			cyclic = cyclic || reaches(name, name)
		}
		if !cyclic {
			require.NoError(t, err)
			return
		}
		var found *CycleError
		require.ErrorAs(t, err, &found)
		c := found.Cycle
		assert.Equal(t, c[0], c[len(c)-1])
		for i := range len(c) - 1 {
			assert.Contains(t, g[c[i]], c[i+1], "each really needs the next")
		}
	})
}
