package redis

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever the words are, a command that is written with them is read as them.
func TestWords(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		words := rapid.SliceOfN(rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{"", "a b", `"`, `\`, "'", "\xff\x00", "\n"})), 1, 5).Draw(r, "words")
		var line []string
		for _, w := range words {
			line = append(line, word(w))
		}
		got, err := split(strings.Join(line, " "))
		require.NoError(r, err)
		assert.Equal(r, words, got)
	})
	got, err := split(` SET  key 'it is' "a\x00\"b" `)
	require.NoError(t, err)
	assert.Equal(t, []string{"SET", "key", "it is", "a\x00\"b"}, got)
	for text, says := range map[string]string{`get "a`: "double quote is not closed", `get 'a`: "a quote is not closed", `get "\q"`: "unknown meaning"} {
		_, err := split(text)
		assert.ErrorContains(t, err, says)
	}
}

func TestPatterns(t *testing.T) {
	for name, want := range map[string]string{"*": "*", "session:*": "session:*", `"a.b:*"`: "a.b:*"} {
		got, err := pattern(name)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := pattern("session")
	assert.ErrorContains(t, err, "write session:*")
	assert.Equal(t, `a\*b\[c\]\?\\`, escape(`a*b[c]?\`))
}
