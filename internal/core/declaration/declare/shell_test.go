package declare

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestShellPrograms(t *testing.T) {
	for line, want := range map[string][]string{
		"npm ci && node server.js":           {"npm", "node"},
		"npm ci && cd api && node server.js": {"npm"},
		"A=1 B=2 node x.js":                  {"node"},
		"exec node x.js":                     {"node"},
		"exec node x.js | cat":               {"cat"},
		"cat x.sql | psql ${ledger.url}":     {"psql"},
		"flask run > log 2>&1":               {"flask"},
		"sleep 1; node x.js":                 {"node"},
		"cd api; node x.js":                  nil,
		"test -e x && node x.js":             nil,
		"command -v node && node x.js":       nil,
		"npm ci || npm install":              nil,
		"node $(cat which)":                  nil,
		"for i in 1 2; do node x; done":      nil,
		"echo 'a; b && c' && npm ci":         {"npm"},
		"PATH=bin:$PATH node x":              nil,
		"$RUNNER x":                          nil,
		"[ -d x ] && node x":                 nil,
		"echo ready":                         nil,
		"":                                   nil,
	} {
		assert.Equal(t, want, ShellPrograms(line), line)
	}
}
