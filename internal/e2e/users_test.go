package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

// What emulators tell of what they were asked, and the inbox, is for the user who runs them, by
// their own ports and by the gate; others of the machine may use them as what they stand for.
func TestEmulatorsAreTheirUsers(t *testing.T) {
	testkit.NeedRoot(t)
	testkit.Need(t, "curl")
	t.Parallel()
	const other = 23470
	g := newGated(t)
	p := g.project("shed", "[service.postbox]\nkind = \"mail\"\n[service.door]\nkind = \"identity\"\n[service.pay]\nkind = \"stub\"\nroutes = [{ on = \"GET /charges\", answer = 'of the stub' }]\n"+fmt.Sprintf("[service.broken]\nrun = \"echo hunter2; exit 3\"\nport = %d\noptional = true\n", freePort(t)))
	p.must("start")
	service := p.status().Service
	at := func(name, path string) string { return fmt.Sprintf("http://127.0.0.1:%d%s", service[name].Port, path) }
	inbox := service["postbox"].Facts["url"]
	require.NotEmpty(t, inbox)
	gate := g.state(p).Ports
	through := func(service, path string) []string {
		return []string{"--resolve", fmt.Sprintf("%s.shed.localhost:%d:127.0.0.1", service, gate.HTTP), fmt.Sprintf("http://%s.shed.localhost:%d%s", service, gate.HTTP, path)}
	}
	curl := func(uid int, args ...string) string {
		t.Helper()
		cmd := exec.Command("curl", append([]string{"-s"}, args...)...)
		cmd.Dir = "/"
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(uid)}}
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	ask := func(uid int, args ...string) string {
		t.Helper()
		return curl(uid, append([]string{"-o", os.DevNull, "-w", "%{http_code}"}, args...)...)
	}
	for name, c := range map[string]struct {
		args       []string
		mine, them string
	}{
		"inbox":                 {[]string{inbox + "/messages"}, "200", "403"},
		"the inbox's page":      {[]string{inbox + "/"}, "200", "403"},
		"inbox by the gate":     {through("postbox", "/messages"), "200", "403"},
		"what a stub was asked": {[]string{at("pay", "/-/requests")}, "200", "403"},
		"a stub":                {[]string{at("pay", "/charges")}, "200", "200"},
		"sessions":              {[]string{at("door", "/-/overview")}, "200", "403"},
		"a sign-in's keys":      {[]string{at("door", "/.well-known/openid-configuration")}, "200", "200"},
		"whether it is ready":   {[]string{at("pay", "/-/ready")}, "204", "204"},
	} {
		assert.Equal(t, c.mine, ask(0, c.args...), name)
		assert.Equal(t, c.them, ask(other, c.args...), name)
	}
	// What a service printed, too.
	for _, header := range []string{"Accept: text/html", "Accept: */*", "Neighbour-Waiting: 1"} {
		page := append(through("broken", "/"), "-H", header)
		assert.Contains(t, curl(0, page...), "hunter2", header)
		theirs := curl(other, page...)
		assert.Contains(t, theirs, "failed", header)
		assert.NotContains(t, theirs, "hunter2", header)
	}
}
