package webroot

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestHidden(t *testing.T) {
	for path, hidden := range map[string]bool{
		"/.neighbour/secrets.json": true, "/.git/config": true, "/.env": true, "/.env.local": true, "/a/.env": true, "/.htaccess": true, "/a/.git/b/c": true,
		"/neighbour.toml": true, "/neighbour.local.toml": true, "/a/Neighbour.TOML": true, "/x/../.env": true, "/.well-known-not": true,
		"/": false, "/index.html": false, "/.well-known/acme": false, "/a/.well-known": false, "/a.b/c.env": false, "/neighbours.html": false, "/our-neighbour.toml": false,
	} {
		assert.Equal(t, hidden, Hidden(path), path)
	}
}
