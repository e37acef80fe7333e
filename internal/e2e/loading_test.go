package e2e

import (
	"fmt"
	"maps"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each command, keeper and emulator is a process of this program and pays for what its packages do
// when they are loaded: what not every process needs is done on first use.
func TestLoading(t *testing.T) {
	t.Parallel()
	least := map[string]float64{} // of several runs, in milliseconds
	allocations := map[string]int{}
	for range 9 {
		cmd := exec.Command(binary, "version")
		cmd.Env = append(os.Environ(), "GODEBUG=inittrace=1")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err)
		for line := range strings.Lines(string(out)) {
			// init PACKAGE @0.1 ms, 0.2 ms clock, 3 bytes, 4 allocs
			f := strings.Fields(line)
			if len(f) < 10 || f[0] != "init" {
				continue
			}
			took, err := strconv.ParseFloat(f[4], 64)
			require.NoError(t, err, line)
			if was, ok := least[f[1]]; !ok || took < was {
				least[f[1]] = took
			}
			allocations[f[1]], err = strconv.Atoi(f[9])
			require.NoError(t, err, line)
		}
	}
	require.NotEmpty(t, least)
	names := slices.SortedFunc(maps.Keys(least), func(a, b string) int { return allocations[b] - allocations[a] })
	all := 0
	var says []string
	for _, name := range names {
		assert.Less(t, least[name], 1.0, "%s takes so many milliseconds", name)
		assert.LessOrEqual(t, allocations[name], 2500, "%s makes so many allocations", name)
		all += allocations[name]
		says = append(says, fmt.Sprintf("%s %d, %.2f ms", name, allocations[name], least[name]))
	}
	assert.LessOrEqual(t, all, 11_000, strings.Join(says[:12], "\n"))
}
