package command

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/supervise"
)

func TestPlainReport(t *testing.T) {
	var out bytes.Buffer
	r := newReporter(&out, nil, []string{"ledger", "api"})
	show := func(ledger, service api.Status) { r.show(map[string]api.Status{"ledger": ledger, "api": service}) }
	waiting := api.Status{Name: "api", State: supervise.Waiting, Reason: "for ledger"}
	starting := api.Status{Name: "ledger", State: supervise.Starting, Reason: "connection refused"}
	show(starting, waiting)
	starting.Reason = "the database system is starting up"
	show(starting, waiting)
	show(api.Status{Name: "ledger", State: supervise.Failed, Reason: "exit 1", Remarks: []string{"no space"}}, waiting)
	waiting.Blocked, waiting.Reason = true, "for ledger, which failed"
	show(api.Status{Name: "ledger", State: supervise.Failed, Reason: "exit 1", Remarks: []string{"no space"}}, waiting)
	r.close()
	assert.Equal(t, `◐ ledger  starting   connection refused
◌ api     waiting    for ledger
✖ ledger  failed     exit 1
    no space
◌ api     waiting    for ledger, which failed
`, out.String(), "a line for each change of state")
}

func TestLiveReportDrawsInPlace(t *testing.T) {
	var out bytes.Buffer
	r := newReporter(&out, nil, []string{"api"})
	r.live, r.width = true, 30
	r.show(map[string]api.Status{"api": {Name: "api", State: supervise.Starting, Reason: strings.Repeat("wide 宽 ", 20)}})
	r.show(map[string]api.Status{"api": {Name: "api", State: supervise.Ready, ReadyMS: 310, Port: 4100}})
	lines := strings.Split(out.String(), "\n")
	assert.LessOrEqual(t, len([]rune(lines[0])), 40, "cut, or it would wrap and be in the way of the next")
	assert.Equal(t, "\x1b[1A\r\x1b[K● api  ready      0.31 s  po…", lines[1])
}

func TestSettled(t *testing.T) {
	ready, blocked := api.Status{State: supervise.Ready}, api.Status{State: supervise.Waiting, Blocked: true}
	assert.True(t, settled([]string{"a", "b"}, map[string]api.Status{"a": ready, "b": blocked, "c": {State: supervise.Starting}}))
	assert.False(t, settled([]string{"a", "b"}, map[string]api.Status{"a": ready}))
	assert.False(t, settled([]string{"a"}, map[string]api.Status{"a": {State: supervise.Waiting}}))
}
