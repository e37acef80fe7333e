package localname

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestIs(t *testing.T) {
	for host, is := range map[string]bool{
		"localhost": true, "localhost:8080": true, "LOCALHOST.": true, "toolshed.localhost:1": true, "127.0.0.1": true, "127.9.9.9:80": true, "[::1]:80": true, "::1": true, "[::ffff:127.0.0.1]": true,
		"shed.test": true, "shed.test:8080": true,
		"": false, "example.org": false, "localhost.example.org": false, "10.0.0.1": false, "0.0.0.0": false, "127.0.0.1.example.org": false, "notlocalhost": false,
	} {
		assert.Equal(t, is, Is(host, "shed.test"), host)
	}
}

func TestPublic(t *testing.T) {
	for host, is := range map[string]bool{
		"github.com": true, "toolshed.example.org": true, "test.com": true, "localhost.org": true,
		"shop.localhost": false, "localhost": false, "shop.test": false, "nas.local": false, "a.home.arpa": false, "a.internal": false, "a.example": false, "shop": false, "127.0.0.1": false, "10.0.0.1": false,
	} {
		assert.Equal(t, is, Public(host), host)
	}
}

func TestForeign(t *testing.T) {
	for origin, is := range map[string]bool{"": false, "http://localhost:5173": false, "https://toolshed.localhost": false, "https://example.org": true, "null": true, "http://127.0.0.1.example.org": true} {
		r := httptest.NewRequest(http.MethodPost, "http://localhost/", nil)
		r.Header.Set("Origin", origin)
		assert.Equal(t, is, Foreign(r), origin)
		r.Method = http.MethodGet
		assert.Equal(t, is, Foreign(r), origin)
	}
	for _, c := range []struct {
		method, site, mode, referer string
		is                          bool
	}{
		{"GET", "cross-site", "no-cors", "https://example.org/", true}, {"GET", "cross-site", "no-cors", "", true}, {"POST", "cross-site", "navigate", "https://example.org/", true},
		{"GET", "cross-site", "navigate", "https://example.org/", false}, {"GET", "cross-site", "no-cors", "https://toolshed.localhost/", false},
		{"GET", "same-site", "cors", "http://localhost:5173/", false}, {"GET", "none", "navigate", "", false}, {"GET", "", "", "", false},
	} {
		r := httptest.NewRequest(c.method, "http://localhost/", nil)
		r.Header.Set("Sec-Fetch-Site", c.site)
		r.Header.Set("Sec-Fetch-Mode", c.mode)
		r.Header.Set("Referer", c.referer)
		assert.Equal(t, c.is, Foreign(r), c)
	}
}
