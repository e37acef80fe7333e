package hosts

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const machine = "127.0.0.1\tlocalhost\n# a remark\n192.168.7.2 printer\n"

// What is written can be taken out again, and leaves all else byte for byte.
func TestLinesComeAndGo(t *testing.T) {
	names := rapid.SliceOfDistinct(rapid.StringMatching(`[a-z]{1,8}\.(test|localhost)`), rapid.ID[string])
	rapid.Check(t, func(t *rapid.T) {
		file := strings.Join(rapid.SliceOf(rapid.SampledFrom([]string{"127.0.0.1 localhost\n", "# remark\r\n", "\n", "::1 ip6 # x\n"})).Draw(t, "file"), "") +
			rapid.SampledFrom([]string{"", "10.0.0.1 end\n"}).Draw(t, "end")
		a, b := names.Draw(t, "a"), names.Draw(t, "b")
		with, err := With(file, "toolshed", a)
		require.NoError(t, err)
		with, err = With(with, "orchard", b)
		require.NoError(t, err)
		assert.ElementsMatch(t, a, Names(with, "toolshed"))
		assert.ElementsMatch(t, b, Names(with, "orchard"))
		again, err := With(with, "orchard", b)
		require.NoError(t, err)
		assert.Equal(t, with, again)
		without, err := With(with, "toolshed", nil)
		require.NoError(t, err)
		without, err = With(without, "orchard", nil)
		require.NoError(t, err)
		assert.Equal(t, file, without)
	})
	for _, broken := range []string{begin("toolshed") + "\n127.0.0.1 a\n", end("toolshed") + "\n", begin("toolshed") + "\n" + begin("toolshed") + "\n" + end("toolshed") + "\n"} {
		_, err := With(machine+broken, "toolshed", []string{"a.test"})
		var marks *MarksError
		assert.ErrorAs(t, err, &marks)
	}
}

func TestWrite(t *testing.T) {
	path := filepath.Join(t.TempDir(), "hosts")
	require.NoError(t, os.WriteFile(path, []byte(machine), 0o644))
	changed, err := Write(path, "toolshed", []string{"toolshed.test", "api.toolshed.test"})
	require.NoError(t, err)
	assert.True(t, changed)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, machine+"# Neighbour: toolshed, begin\n127.0.0.1 api.toolshed.test\n::1 api.toolshed.test\n127.0.0.1 toolshed.test\n::1 toolshed.test\n# Neighbour: toolshed, end\n", string(b))
	changed, err = Write(path, "toolshed", []string{"toolshed.test", "api.toolshed.test"})
	require.NoError(t, err)
	assert.False(t, changed)
	_, err = Write(path, "toolshed", nil)
	require.NoError(t, err)
	b, _ = os.ReadFile(path)
	assert.Equal(t, machine, string(b))
	assert.Equal(t, []string{"nobody.invalid"}, Unresolved(context.Background(), []string{"localhost", "nobody.invalid"}))
}
