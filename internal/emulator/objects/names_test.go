package objects

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A bucket is found in the names by which the store is reached.
func TestNames(t *testing.T) {
	t.Parallel()
	names := Names{"objects.shed.localhost"}
	for host, want := range map[string]string{
		"objects.shed.localhost": "", "objects.shed.localhost:8443": "", "photos.objects.shed.localhost:8443": "photos", "my.photos.objects.shed.localhost": "my.photos",
		"photos.localhost:4135": "photos", "127.0.0.1:4135": "", "localhost": "", "[::1]:4135": "", "-.localhost": "", "": "",
	} {
		assert.Equal(t, want, names.bucket(host), host)
	}
}
