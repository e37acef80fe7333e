package display

import (
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestQR(t *testing.T) {
	lines, err := QR("http://192.0.2.2:8800")
	require.NoError(t, err)
	const size = 25 + 2*quiet // version 2
	require.Len(t, lines, (size+1)/2)
	for _, l := range lines {
		assert.Equal(t, size, utf8.RuneCountInString(l))
		assert.Equal(t, size, Width(l))
	}
	assert.Equal(t, "  █▀▀▀▀▀█", string([]rune(lines[1])[:9]), "the corner by which it is found")
	_, err = QR(string(make([]byte, 5000)))
	assert.Error(t, err)
}
