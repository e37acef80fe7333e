package e2e

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type operation struct {
	ID                      int
	Does, State, Reason, By string
	Services                []string
}

func (p *project) operations() []operation {
	p.t.Helper()
	var all []operation
	require.NoError(p.t, json.Unmarshal([]byte(p.must("operations", "--json")), &all))
	return all
}

// last waits until the latest operation is in a state.
func (p *project) last(state string) (o operation) {
	p.t.Helper()
	require.Eventually(p.t, func() bool {
		all := p.operations()
		o = operation{}
		if len(all) > 0 {
			o = all[len(all)-1]
		}
		return o.State == state
	}, patience, 20*time.Millisecond, "the latest operation is not %s", state)
	return o
}

// What takes time is listed with who asked for it, can be cancelled, and goes
// on with another keeper; one whose client is gone is not carried out later.
func TestOperations(t *testing.T) {
	t.Parallel()
	slow := "[service.%s]\nrun = \"sh -c 'trap \\\"\\\" TERM; echo on; exec sleep 1000'\"\nhealth = { log = \"never\", within = \"5m\" }\nstop = { grace = \"%s\" }\n"
	p := newProject(t, fmt.Sprintf(slow, "kiln", "1s")+program("web", `needs = ["kiln"]`)+
		"[service.ladder]\nrun = \"sh -c 'trap : TERM; while :; do sleep 0.1; done'\"\nstop = { grace = \"6s\" }\n"+program("shelf"))
	p.must("start", "--no-wait")
	p.until("shelf", "ready")
	p.until("ladder", "ready")
	o := p.last("runs")
	assert.Equal(t, "start", o.Does)
	assert.Regexp(t, `^neighbour start, pid \d+$`, o.By)
	assert.Contains(t, p.must("operations"), "2 of 4 ready")

	// With another keeper it goes on.
	p.killKeeper()
	again := p.last("runs")
	assert.Equal(t, o.ID, again.ID)

	p.must("operations", "cancel", fmt.Sprint(o.ID))
	assert.Equal(t, "stopped", p.status().Service["kiln"].State)
	assert.Equal(t, "ready", p.status().Service["shelf"].State)
	r := p.run("operations", "cancel", fmt.Sprint(o.ID))
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "is over: cancelled")
	assert.Equal(t, 2, p.run("operations", "cancel", "all").code)

	// A slow stop, one that waits for it and is given up, and another service
	// meanwhile.
	stopping := exec.Command(binary, "-C", p.dir, "stop", "ladder")
	require.NoError(t, stopping.Start())
	p.last("runs")
	waiting := exec.Command(binary, "-C", p.dir, "restart", "ladder")
	require.NoError(t, waiting.Start())
	w := p.last("waits")
	assert.Contains(t, w.Reason, "for stop ladder (neighbour ")
	p.must("restart", "shelf")
	require.NoError(t, waiting.Process.Kill())
	_ = waiting.Wait()
	require.NoError(t, stopping.Wait())
	require.Eventually(t, func() bool {
		return slices.ContainsFunc(p.operations(), func(o operation) bool { return o.ID == w.ID && o.State == "cancelled" })
	}, patience, 20*time.Millisecond, "nobody waits for the restart any more")
	assert.Equal(t, "stopped", p.status().Service["ladder"].State)
}

// What can be done is found by its words, and the header says what is under way.
func TestFinderOnTheScreen(t *testing.T) {
	t.Parallel()
	p := newProject(t, program("api")+"[service.ladder]\nrun = \"sh -c 'trap : TERM; while :; do sleep 0.1; done'\"\nstop = { grace = \"5s\" }\n")
	p.must("start")
	s := open(t, p.dir, 120, 30)
	s.see("2 of 2 ready")
	s.press("C-p")
	s.see("What to do")
	s.press("s", "t", "o", "p", "Space", "l", "a")
	s.see(`▌ stop ladder`)
	s.press("Enter")
	s.see(`◑ stop ladder · neighbour`)
	s.press("C-p", "l", "o", "g", "s", "Space", "o", "f", "Space", "a", "p")
	s.see(`▌ logs of api`)
	s.press("Enter")
	s.see(`\[2 logs\]`)
	s.see(`(?m)^  api · every level`)
	p.until("ladder", "stopped")
}
