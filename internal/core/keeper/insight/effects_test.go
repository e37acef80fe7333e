package insight

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEffectsInWords(t *testing.T) {
	effects := []Effect{{Service: "a", Does: Restarts}, {Service: "b", Does: Keeps}, {Service: "c", Does: Keeps}, {Service: "d", Does: Starts}, {Service: "e", Does: Stops}}
	assert.Equal(t, "1 restarts, 1 starts, 1 stops, 2 go on as they are", Summary(effects))
	assert.Equal(t, "1 goes on as it is", Summary(effects[1:2]))
	assert.Empty(t, Summary(nil))
	var words []string
	for _, e := range effects {
		words = append(words, e.InWords())
	}
	assert.Equal(t, []string{"restarts", "goes on", "goes on", "starts", "stops"}, words)
}
