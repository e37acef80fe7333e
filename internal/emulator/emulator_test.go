package emulator_test

import (
	"bytes"
	"context"
	"testing"

	"github.com/stretchr/testify/assert"

	"neighbour/internal/emulator"
	"neighbour/internal/emulator/catalogue"
)

func TestRun(t *testing.T) {
	for want, args := range map[string][]string{
		"which emulator? documents, functions, identity, mail, objects, static, stub": nil,
		`there is no emulator "fax"`: {"fax"},
		"takes --listen":             {"mail"},
		"flag provided but not":      {"mail", "--listen", "127.0.0.1:0", "--speed", "9"},
	} {
		err := emulator.Run(t.Context(), catalogue.All, args, nil)
		var usage *emulator.UsageError
		assert.ErrorAs(t, err, &usage)
		assert.ErrorContains(t, err, want)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	var out bytes.Buffer
	t.Chdir(t.TempDir())
	for _, e := range catalogue.All {
		assert.NoError(t, emulator.Run(ctx, catalogue.All, []string{e.Name, "--listen", "127.0.0.1:0"}, &out), "ends with its context")
	}
	assert.Contains(t, out.String(), "taking mail on 127.0.0.1:")
	assert.Contains(t, out.String(), "serving . on 127.0.0.1:")
}
