package wire_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/project/drift"
)

// Whatever is in an env file, reading it ends, tells lines that are there,
// and what we write into it is read back, with the rest untouched.
func FuzzEnvFile(f *testing.F) {
	for _, seed := range []string{"A=1\n", "export A='b\nc'\n", "A=\"\\n\\\"\n", "# neighbour: begin\nA=1\n# neighbour: end\n", "=\x00\xff", "A=`", "\ufeffA=1\r\nB"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		entries, problems := wire.ParseEnvFile(text)
		lines := strings.Count(text, "\n") + 1
		for _, e := range entries {
			require.True(t, e.Name != "" && e.Line >= 1 && e.Line <= lines)
		}
		for _, p := range problems {
			require.True(t, p.Message != "" && p.Line >= 1 && p.Line <= lines)
		}
		out, err := wire.SetBlock([]byte(text), []wire.Variable{{Name: "OURS", Value: "it's 1"}})
		if err != nil {
			return
		}
		again, err := wire.SetBlock(out, []wire.Variable{{Name: "OURS", Value: "it's 1"}})
		require.NoError(t, err)
		require.Equal(t, string(out), string(again))
		require.Contains(t, string(out), "OURS=\"it's 1\"\n")
		_ = drift.Compare(entries, []wire.Variable{{Name: "A", Value: "x", Declared: "x"}}, nil, false)
	})
}
