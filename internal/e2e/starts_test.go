package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/api"
	"neighbour/internal/core/record/history"
	"neighbour/internal/core/record/starts"
	"neighbour/internal/core/record/usage"
)

// start returns the report of a start, 0 being the latest.
func (p *project) start(number int) (r starts.Report) {
	p.t.Helper()
	require.NoError(p.t, json.Unmarshal([]byte(p.must("starts", itoa(number), "--json")), &r))
	return r
}

func TestStartsAreTold(t *testing.T) {
	t.Parallel()
	p := newProject(t, `
[service.ledger]
run = "sh -c 'sleep 0.3; echo ready; exec sleep 1000'"
health = { log = "ready" }
[service.api]
run = "sh -c 'echo ready; exec sleep 1000'"
health = { log = "ready" }
needs = ["ledger"]
prepare = [{ run = "sleep 0.2", when = ["lock"] }]
`)
	p.write("lock", "1")
	assert.Contains(t, p.run("starts").stderr, "nothing was started yet")
	p.must("start")
	var all []history.Summary
	require.NoError(t, json.Unmarshal([]byte(p.must("starts", "--json")), &all))
	require.Len(t, all, 1)
	assert.Equal(t, int64(1), all[0].ID, "it has its number as soon as it has ended")
	r := p.start(0)
	assert.Equal(t, starts.Ready, r.Start.Result)
	assert.True(t, r.Start.Cold)
	assert.Equal(t, []string{"ledger", "api"}, r.Analysis.Path)
	assert.Contains(t, r.Start.By, "start, pid")
	api, _ := r.Start.Service("api")
	var prepared bool
	for _, ph := range api.Phases {
		prepared = prepared || ph.Is == starts.Preparing && ph.What == "sleep 0.2" && ph.Length(0) >= 200
	}
	assert.True(t, prepared, "%+v", api.Phases)
	p.must("stop")
	p.must("start")
	p.must("stop")

	// The keeper is gone, and what it has kept is told all the same.
	assert.Regexp(t, `(?s)1  .* cold .* 2\n2  .* warm .* 2\n\n.*, warm`, p.must("starts"))
	assert.Regexp(t, `━ +api +\d\.\d\d s +\d\.\d\d s`, p.must("starts", "1"))
	assert.Contains(t, p.must("starts", "1"), "without api's sleep 0.2:")
	assert.Contains(t, p.must("starts", "compare", "1", "2"), "api")
	assert.Equal(t, 1, p.run("starts", "9").code)
	assert.Equal(t, 2, p.run("starts", "x").code)

	// A change is told with the next start, which a kill of the keeper does not
	// undo; a damaged file is put aside and hinders nothing.
	p.write("neighbour.toml", "[service.ledger]\nrun = \"sleep 1000\"\n")
	p.must("start")
	p.eventually(func(status) bool { return p.start(0).Start.ID == 3 })
	assert.Equal(t, []string{"api.health", "api.needs", "api.prepare", "api.run", "ledger.health", "ledger.run"}, p.start(3).Start.Changed)
	p.killKeeper()
	assert.Equal(t, int64(3), p.start(0).Start.ID)
	p.must("stop")
	db := p.state("history.db")
	require.NoError(t, os.WriteFile(db, []byte("this is no database, but a text that is long enough to be taken for one by somebody"), 0o600))
	for _, more := range []string{"-wal", "-shm"} {
		_ = os.Remove(db + more)
	}
	p.must("start")
	p.eventually(func(status) bool { return p.start(0).Start.ID == 1 })
	aside, err := filepath.Glob(db + ".damaged-*")
	require.NoError(t, err)
	assert.Len(t, aside, 1)
	assert.Contains(t, p.must("logs", "--events"), "the history of starts was damaged")
}

// A start during which the keeper is killed is in the history all the same, and
// one that ends well is there once.
func TestKilledStartIsKept(t *testing.T) {
	t.Parallel()
	p := newProject(t, `
[service.ledger]
run = "sleep 1000"
health = { run = "test -e open", within = "10m" }
`)
	p.must("start", "--no-wait")
	p.eventually(func(status) bool {
		_, err := os.Stat(p.state("history.db"))
		return err == nil
	})
	assert.Equal(t, starts.UnderWay, p.start(0).Start.Result)
	p.killKeeper()
	p.must("stop")
	r := p.start(0)
	assert.Equal(t, int64(1), r.Start.ID)
	assert.Equal(t, starts.Cancelled, r.Start.Result)
	p.write("open", "")
	p.must("start")
	p.eventually(func(status) bool { return p.start(0).Start.ID == 2 })
	assert.Equal(t, starts.Ready, p.start(2).Start.Result)
	assert.Equal(t, 1, p.run("starts", "3").code)
}

func TestUsageSurvivesTheKeeper(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.api]\nrun = \"python3 -c 'x = bytearray(60 << 20); import time; time.sleep(1000)'\"\n")
	p.must("start")
	var r usage.Report
	look := func(period int) usage.Series {
		p.ask(fmt.Sprintf("/v"+api.Version+"/usage?period=%d&parts=10", period), &r)
		require.Len(t, r.Services, 1)
		return r.Services[0]
	}
	p.eventually(func(status) bool { return look(300).Now.Memory > 60<<20 })
	assert.Equal(t, 1, look(300).Now.Processes)
	assert.Positive(t, r.Memory)
	p.eventually(func(status) bool { look(300); return r.Machine.Now.Memory > 0 })
	assert.Contains(t, r.Summary, "api uses most memory")
	// The means of a while, in part of which it was about to start.
	assert.Greater(t, slices.Max(look(3600).Memory), float64(30<<20), "what is not written yet is told, too")
	p.must("stop")
	p.must("start", "--no-wait")
	assert.Greater(t, slices.Max(look(3600).Memory), float64(30<<20), "what an earlier keeper measured")
}
