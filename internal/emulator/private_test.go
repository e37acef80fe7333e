package emulator

import (
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Pages of this machine and those that are declared may call; others are refused before anything is
// done, also where a browser would not ask first.
func TestPages(t *testing.T) {
	t.Parallel()
	pages := Pages{"https://app.example.org"}
	for _, c := range []struct {
		method, origin, site, asks string
		answered                   bool
		code                       int
		allow                      string
	}{
		{method: "GET"},
		{method: "POST", origin: "http://localhost:5173"},
		{method: "POST", origin: "https://shop.toolshed.test"},
		{method: "POST", origin: "https://app.example.org", allow: "https://app.example.org"},
		{method: "OPTIONS", origin: "https://app.example.org", asks: "PUT", answered: true, code: 204, allow: "https://app.example.org"},
		{method: "OPTIONS", origin: "http://localhost:5173", asks: "PUT"},
		{method: "POST", origin: "https://evil.example.org", answered: true, code: 403},
		{method: "GET", origin: "https://evil.example.org", answered: true, code: 403},
		{method: "POST", origin: "null", answered: true, code: 403},
		{method: "POST", origin: "https://app.example.org.evil.example.org", answered: true, code: 403},
		{method: "GET", site: "cross-site", answered: true, code: 403},
	} {
		r := httptest.NewRequest(c.method, "http://localhost/charges", nil)
		for name, v := range map[string]string{"Origin": c.origin, "Sec-Fetch-Site": c.site, "Access-Control-Request-Method": c.asks} {
			if v != "" {
				r.Header.Set(name, v)
			}
		}
		w := httptest.NewRecorder()
		assert.Equal(t, c.answered, pages.Answered(w, r, []string{"shop.toolshed.test"}), c)
		if c.answered {
			assert.Equal(t, c.code, w.Code, c)
		}
		assert.Equal(t, c.allow, w.Header().Get("Access-Control-Allow-Origin"), c)
	}
	var told []string
	Pages{"https://a.example.org", "a.example.org", "https://a.example.org/x", "*"}.Check(func(key, _, _ string) { told = append(told, key) })
	assert.Equal(t, []string{"cors[1]", "cors[2]", "cors[3]"}, told)
}
