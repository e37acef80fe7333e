package launch

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What tells most of a command's output, however it comes in pieces.
func TestTail(t *testing.T) {
	for _, c := range []struct{ output, cause, last string }{
		{"", "", ""},
		{"one\ntwo", "two", "two"},
		{"start\nTypeError: x is not a function\n    at y\nbye\n", "TypeError: x is not a function", "bye"},
		{"before\nError: no such tool\nafter\n", "Error: no such tool", "after"},
		{"psql: error: connection refused\nx\n", "psql: error: connection refused", "x"},
		{"\x1b[31mfatal: not a repository\x1b[0m\n\n\n", "fatal: not a repository", "fatal: not a repository"},
		{"an error of 3 mm\nall is well\n", "all is well", "all is well"},
	} {
		for _, size := range []int{1, 3, 1000} {
			var tail Tail
			for rest := c.output; rest != ""; {
				n := min(size, len(rest))
				_, err := tail.Write([]byte(rest[:n]))
				require.NoError(t, err)
				rest = rest[n:]
			}
			assert.Equal(t, c.cause, tail.Cause(), "%q", c.output)
			assert.Equal(t, c.last, tail.Last(), "%q", c.output)
		}
	}
	var tail Tail
	for i := range 5000 {
		fmt.Fprintf(&tail, "line %d\n", i)
	}
	assert.Equal(t, "line 4999", tail.Last())
	assert.LessOrEqual(t, len(tail.all), 2*tailLines, "not all of it is held")
	assert.Equal(t, []string{"line 4998", "line 4999"}, tail.lines(2))
}
