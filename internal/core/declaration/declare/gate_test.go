package declare_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/declaration/declare"
)

// Where names may lead: to services that speak HTTP and to addresses, of which each reference
// must be one.
func TestTargets(t *testing.T) {
	const services = "[service.api]\nrun = \"api\"\nport = \"any\"\n[service.ledger]\nkind = \"postgres\"\n[service.postbox]\nkind = \"mail\"\n"
	for target, c := range map[string]struct{ service, says string }{
		"api":                                  {service: "api"},
		"${postbox.url}":                       {},
		"http://127.0.0.1:8080/below":          {},
		"https://127.0.0.1:${api.port}":        {},
		"http://${postbox.host}:8025":          {},
		"apo":                                  {says: `did you mean "api"?`},
		"ledger":                               {says: "does not speak HTTP"},
		"${postbox.address}":                   {says: "postbox offers no fact"},
		"https://127.0.0.1:${api.prt}":         {says: "did you mean ${api.port}?"},
		"ftp://127.0.0.1":                      {says: "is no place that a name can lead to"},
		"https://":                             {says: "is no place that a name can lead to"},
		"https://127.0.0.1:${api.port}x/%zz":   {says: "is no place that a name can lead to"},
		"https://${api.host}:${ledger.nofact}": {says: "ledger offers no fact"},
	} {
		t.Run(target, func(t *testing.T) {
			d, err := parse(t, fmt.Sprintf("%s[gate]\nnames = { \"shed.localhost\" = %q }\n", services, target))
			if c.says != "" {
				assert.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, target, d.Targets()["shed.localhost"].Value)
			assert.Equal(t, c.service, declare.Named(target))
		})
	}
	for names, says := range map[string]string{
		`"shed..localhost" = "api"`:                          "no name",
		`"pay.example.org" = "api"`:                          `"pay.example.org" may be a server of the web`,
		`"*.example.com/x" = "api"`:                          `"example.com" may be a server of the web`,
		`"localhost" = "api"`:                                "localhost itself is what every program of this machine is reached by",
		`"Shed.localhost" = "api", "shed.localhost" = "api"`: "are the same name",
	} {
		_, err := parse(t, services+"[gate]\nnames = { "+names+" }\n")
		assert.ErrorContains(t, err, says)
	}
}
