package e2e

import (
	"fmt"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Two projects of a user are open to the machine's network, each by an address of its own: others
// get the front of each, an emulator's too, and nothing that is for their user.
func TestTwoProjectsInTheNetwork(t *testing.T) {
	t.Parallel()
	g := newGated(t)
	g.choose()
	const open = "[gate]\nlan = true\n"
	shed := g.project("shed", open+site+"[service.postbox]\nkind = \"mail\"\n")
	shed.write("site/index.html", "<p>the shed</p>")
	broken := g.project("broken", open+fmt.Sprintf("[service.web]\nrun = \"echo hunter2; sleep 0.2; exit 3\"\nport = %d\nrestart = { when = \"never\" }\n", freePort(t)))
	shed.must("start")
	require.Equal(t, 1, broken.run("start").code)
	defer broken.run("stop")

	if !inNetwork() {
		assert.Contains(t, shed.run("gate").stdout, "this machine is in no network")
		return
	}
	address := func(p *project) string {
		var said string
		require.Eventually(t, func() bool {
			for _, word := range strings.Fields(p.run("gate", "phone").stdout) {
				if strings.HasPrefix(word, "http://") {
					said = word
				}
			}
			return said != ""
		}, patience, 50*time.Millisecond)
		return said
	}
	one, two := address(shed), address(broken)
	assert.NotEqual(t, one, two)
	c := &http.Client{Timeout: time.Minute}
	code, page := get(c, one)
	assert.Equal(t, http.StatusOK, code, page)
	assert.Contains(t, page, "the shed")
	code, page = get(c, two)
	assert.Equal(t, http.StatusServiceUnavailable, code)
	assert.Contains(t, page, "failed")
	assert.NotContains(t, page, "hunter2", "what it printed is for its user")
	code, _ = get(c, one+"/-/traffic")
	assert.Equal(t, http.StatusForbidden, code)
	for _, host := range []string{"postbox.shed.localhost", "broken.localhost", strings.TrimPrefix(two, "http://")} {
		r, err := http.NewRequest(http.MethodGet, one, nil)
		require.NoError(t, err)
		r.Host = host
		resp, err := c.Do(r)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, http.StatusMisdirectedRequest, resp.StatusCode, host)
	}
	broken.must("stop")
	code, page = get(c, one)
	assert.Equal(t, http.StatusOK, code, page)
	assert.Eventually(t, func() bool { code, _ := get(c, two); return code == 0 }, patience, 50*time.Millisecond, "it is closed with its project")
}

// inNetwork reports whether this machine has an address that others reach.
func inNetwork() bool {
	conn, err := net.Dial("udp4", "192.0.2.1:9") // RFC 5737: nobody's; nothing is sent
	if err != nil {
		return false
	}
	defer conn.Close()
	return !conn.LocalAddr().(*net.UDPAddr).IP.IsLoopback()
}
